// Package note is the target note: the small file on a drive that says whose a target is
// and where its link belongs. What it reads is hostile.
package note

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/manifest"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
)

// A Note is the target note: the small file beside a target that says whose
// it is and where its link belongs, so that the drive explains itself.
type Note struct {
	Version  int       `json:"nexlin"`
	Name     string    `json:"name"`
	Link     string    `json:"link"`
	Target   string    `json:"target"` // its name beside the note
	Account  string    `json:"account"`
	Home     string    `json:"home"` // of the account on that machine; empty if it has none
	Machine  string    `json:"machine"`
	State    string    `json:"state"` // arriving, here, brought-back, moved-on, set-aside
	Run      string    `json:"run"`
	Bytes    int64     `json:"bytes"`
	Files    int64     `json:"files"`
	Manifest string    `json:"manifest_sha256"`
	Made     time.Time `json:"made"`    // the note
	Created  time.Time `json:"created"` // the redirect
}

// States of a target note.
const (
	Arriving    = "arriving"
	Here        = "here"
	BroughtBack = "brought-back"
	MovedOn     = "moved-on"
	SetAside    = "set-aside"
)

// ErrBad reports a target note that is damaged or of another version.
var ErrBad = errors.New("the target note is damaged or of another version")

// ManifestLimit bounds the manifest that is read from a drive, in bytes.
const ManifestLimit = 64 << 30

// noteLimit bounds a note in bytes; a link path of 4096 bytes in base64 fits.
const noteLimit = 64 << 10

// Read reads the note of the redirect called name in a record
// directory. It is hostile input: nothing in it is trusted to name a path.
func Read(rec *handle.Dir, name string) (*Note, error) {
	if !naming.Valid(name) {
		return nil, ErrBad
	}
	f, err := rec.OpenFile(name + ".json")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.IsRegular() || st.Size > noteLimit {
		return nil, ErrBad
	}
	b, err := io.ReadAll(io.LimitReader(f, noteLimit))
	if err != nil {
		return nil, err
	}
	return parseNote(b)
}

func parseNote(b []byte) (*Note, error) {
	var n Note
	if err := pathtext.UnmarshalStrict(b, &n); err != nil || n.Version != 1 || !naming.Valid(n.Name) {
		return nil, ErrBad
	}
	if !pathtext.IsName(n.Target) {
		return nil, ErrBad
	}
	return &n, nil
}

// HiddenIn reports whether something on the way from the home to a path, or the
// path itself, is hidden.
func HiddenIn(home, path string) bool {
	rel, err := filepath.Rel(home, path)
	if err != nil {
		return false
	}
	for part := range strings.SplitSeq(filepath.ToSlash(rel), "/") {
		if strings.HasPrefix(part, ".") && part != "." && part != ".." || runtime.GOOS == "windows" &&
			strings.EqualFold(part, "AppData") || runtime.GOOS == "darwin" && part == "Library" {
			return true
		}
	}
	return false
}

// UsableManifest reports whether the manifest beside a note is the one that the
// note speaks of, and can be read to its end.
func UsableManifest(ctx context.Context, dir string, n *Note) (bool, error) {
	d, err := handle.OpenReal(filepath.Join(dir, drive.RecordDir))
	if err != nil {
		return false, unlessLost(err)
	}
	defer d.Release()
	f, err := d.OpenFile(n.Name + ".mtree")
	if err != nil {
		return false, unlessLost(err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || !st.IsRegular() {
		return false, err
	}
	sum := sha256.New()
	m := manifest.NewReader(io.TeeReader(io.LimitReader(f, ManifestLimit), sum))
	for {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		var e manifest.Entry
		err := m.Next(&e)
		if errors.Is(err, io.EOF) {
			return hex.EncodeToString(sum.Sum(nil)) == n.Manifest, nil
		}
		if err != nil {
			return false, unlessLost(err)
		}
	}
}

// unlessLost passes on what says that a drive is not there or can't be read; all
// else says that there is nothing of use.
func unlessLost(err error) error {
	if handle.Gone(err) {
		return err
	}
	return nil
}
