package places

import (
	"path/filepath"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// Absolute is a path that was named in a working directory.
func Absolute(path, cwd string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(cwd, path)
}

// Resolved resolves the links of a path's parent; the last component stays, so
// that a link is seen and not followed. Names are as they are on the disk. What does not exist
// stays as it is.
func Resolved(path string) string {
	if pathtext.IsRoot(path) {
		return path
	}
	return handle.Spelled(filepath.Join(followed(filepath.Dir(path)), filepath.Base(path)))
}

// ResolvedDir resolves the part of a directory's path that exists.
func ResolvedDir(path string) string { return handle.Spelled(followed(path)) }

// followed follows the links of the part of a path that exists.
func followed(path string) string {
	at, err := drive.Existing(path)
	if err != nil {
		return path
	}
	r, err := handle.Real(at)
	if err != nil {
		return path
	}
	return filepath.Join(r, strings.TrimPrefix(path, at))
}

// Ref is by what the ledger knows a drive again.
func Ref(d *drive.Drive) ledger.DriveRef {
	return ledger.DriveRef{ID: d.ID(), Label: d.Name(), UUID: d.UUID, Mount: d.Mount, TagPlace: "."}
}
