package redirect

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"path/filepath"
	"runtime"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
)

// A note on a drive is written by whoever had the drive in his hands. What it
// says is taken for what a run of this ledger wrote only if that run is here;
// otherwise a link into a hidden place, where programs keep keys and settings
// that they act on, needs a consent of its own, and so does a note that nothing
// beside it bears out.

// trustNote adds those findings about a note whose link would be made at link,
// in an account's home. dir is the directory that its record directory lies in.
func (e *Engine) trustNote(ctx context.Context, r *Restore, drv *drive.Drive, dir, home string,
	o RestoreOptions) error {
	known, err := e.wroteNote(&r.Note, drv)
	if err != nil || known {
		return err
	}
	about := finding.Subject{Name: r.Name}
	add := func(f finding.Finding) {
		for _, c := range o.Accept {
			if c == f.Code {
				f = f.Accepted()
			}
		}
		r.find(f)
	}
	if hiddenIn(home, r.Link) {
		add(finding.New(finding.HiddenPlace, r.Link,
			"%s lies in a hidden place, and only this drive says that a link belongs there", r.Link).About(about))
	}
	usable, err := usableManifest(ctx, dir, &r.Note)
	if err == nil && !usable {
		add(finding.New(finding.NoteUnproven, r.Target, "the note about %s does not fit the manifest beside it, so "+
			"nothing bears out what it says", r.Target).About(about))
	}
	return err
}

// wroteNote reports whether a run of this ledger wrote the note: the same redirect,
// link, target and drive.
func (e *Engine) wroteNote(n *Note, drv *drive.Drive) (bool, error) {
	if n.Run == "" {
		return false, nil
	}
	row, err := e.Ledger.Run(n.Run)
	if errors.Is(err, ledger.ErrNotFound) {
		return false, nil
	}
	if err != nil || IsTogether(row) {
		return false, err
	}
	p, err := e.planOf(row)
	if err != nil {
		return false, err
	}
	return p.Name == n.Name && p.Link == n.Link && p.Final == n.Target &&
		(p.IntoDrive.ID == drv.ID() || p.IntoDrive.UUID != "" && p.IntoDrive.UUID == drv.UUID), nil
}

// hiddenIn reports whether something on the way from the home to a path, or the
// path itself, is hidden.
func hiddenIn(home, path string) bool {
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

// usableManifest reports whether the manifest beside a note is the one that the
// note speaks of, and can be read to its end.
func usableManifest(ctx context.Context, dir string, n *Note) (bool, error) {
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
	m := manifest.NewReader(io.TeeReader(io.LimitReader(f, manifestLimit), sum))
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
