package drive

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/pathtext"
)

// A NotFoundError reports a reference that names no drive, or several.
type NotFoundError struct {
	Ref     string
	Known   []string // names of drives that are here
	Several []string // mount points, if more than one drive answers to Ref
	Locked  []string // mount points of drives whose names are not known, since they are locked
}

// A LockedError reports a path on a drive that is here and locked. Nothing was touched.
type LockedError struct {
	Mount string
}

func (e *LockedError) Error() string {
	return pathtext.Show(e.Mount) + " is locked: nothing on it can be seen until it is opened with its password"
}

func (e *NotFoundError) Error() string {
	if len(e.Several) > 0 {
		return fmt.Sprintf("%d drives are called %q: %s", len(e.Several), e.Ref, strings.Join(e.Several, ", "))
	}
	if len(e.Locked) > 0 {
		return fmt.Sprintf("no drive here is called %q; %s, and may be it", e.Ref, AreLocked(e.Locked))
	}
	return fmt.Sprintf("no drive here is called %q", e.Ref)
}

// AreLocked says that the drives at some mount points, at least one, are locked.
func AreLocked(mounts []string) string {
	shown := make([]string, len(mounts))
	for i, m := range mounts {
		shown[i] = pathtext.Show(m)
	}
	if len(shown) == 1 {
		return shown[0] + " is locked"
	}
	return strings.Join(shown[:len(shown)-1], ", ") + " and " + shown[len(shown)-1] + " are locked"
}

// Find looks a drive up by label, UUID=…, id, or mount point; what follows a colon after one of
// these is a place on it. The error is a *NotFoundError.
func (s *System) Find(ref string) (Drive, error) {
	all, err := s.List(s.File == "")
	if err != nil {
		return Drive{}, err
	}
	var hits []Drive
	known := []string{}
	uuid, byUUID := strings.CutPrefix(ref, "UUID=")
	for _, d := range all {
		match := d.Label == ref || d.ID() == ref
		if byUUID {
			match = strings.EqualFold(d.UUID, uuid) || d.Tag != nil && strings.EqualFold(d.Tag.ID, uuid)
		}
		// D: is a drive's name, too
		if vol := filepath.VolumeName(ref); filepath.IsAbs(ref) || vol != "" && vol == ref {
			match = pathtext.Equal(d.Mount, filepath.Clean(vol+string(filepath.Separator)+ref[len(vol):]))
		}
		// A second mount of one file system is no second drive.
		if match && !slices.ContainsFunc(hits, func(h Drive) bool { return h.Same(&d) }) {
			hits = append(hits, d)
		}
		if d.Label != "" && !slices.Contains(known, d.Label) {
			known = append(known, d.Label)
		}
	}
	switch len(hits) {
	case 1:
		return hits[0], nil
	case 0:
		if name, _, ok := SplitRef(ref); ok {
			return s.Find(name)
		}
		locked, err := s.Locked()
		if err != nil {
			return Drive{}, err
		}
		return Drive{}, &NotFoundError{Ref: ref, Known: known, Locked: locked}
	}
	e := &NotFoundError{Ref: ref}
	for _, h := range hits {
		e.Several = append(e.Several, h.Mount)
	}
	return Drive{}, e
}

// SplitRef parts LABEL:, LABEL:/path, LABEL:path or UUID=…:/path into the drive's name and the
// path on it; ok is false for a path that names no drive.
func SplitRef(ref string) (name, rest string, ok bool) {
	name, rest, ok = strings.Cut(ref, ":")
	if len(name) == 1 && runtime.GOOS == "windows" {
		return ref, "", false // D: is the system's own
	}
	return name, strings.TrimPrefix(rest, "/"), ok && name != "" && !strings.Contains(name, "/")
}

// windowsTyped is what a person means who types a place on Windows: D: is the drive and not whatever
// directory is the present one there, and "D:\x\" reaches a program with its last quote.
func windowsTyped(ref string) string {
	ref = strings.TrimSuffix(ref, `"`)
	if len(ref) == 2 && ref[1] == ':' {
		ref += `\`
	}
	return ref
}

// Place turns what a person named after --into into an absolute path: a path, or a drive by
// its label alone, or LABEL:/path, or UUID=…:/path. cwd is where relative paths start. A
// directory there that is called like a drive is written ./LABEL. The error is a
// *[NotFoundError], or that of [System.List].
func (s *System) Place(ref, cwd string) (string, error) {
	if runtime.GOOS == "windows" {
		ref = windowsTyped(ref)
	}
	if filepath.IsAbs(ref) {
		return filepath.Clean(ref), nil
	}
	name, rest, colon := SplitRef(ref)
	if !colon && strings.ContainsRune(ref, filepath.Separator) {
		return filepath.Join(cwd, ref), nil
	}
	d, err := s.Find(name)
	switch {
	case err == nil && (colon || d.Label == ref):
		return filepath.Join(d.Mount, filepath.Clean("/"+rest)), nil
	case err == nil, !colon:
		return filepath.Join(cwd, ref), nil
	}
	if _, exists := os.Lstat(filepath.Join(cwd, ref)); exists == nil {
		return filepath.Join(cwd, ref), nil
	}
	return "", err
}

// Display writes a path on this drive the way people name it: LABEL:/path
// where the drive has a label, else the path as it is.
func (d *Drive) Display(path string) string {
	rel, ok := pathtext.Below(path, d.Mount)
	if d.Label == "" || !ok || rel == "." {
		return path
	}
	return d.Label + ":/" + filepath.ToSlash(rel)
}
