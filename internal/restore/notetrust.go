package restore

import (
	"context"
	"errors"
	"io"
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/note"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// A note on a drive is written by whoever had the drive in his hands. What it
// says is taken for what a run of this ledger wrote only if that run is here;
// otherwise a link into a hidden place, where programs keep keys and settings
// that they act on, needs a consent of its own, and so does a note that nothing
// beside it bears out.

// trustNote adds those findings about a note whose link would be made at link,
// in an account's home. dir is the directory that its record directory lies in.
func trustNote(ctx context.Context, e *engine.Engine, r *Restore, drv *drive.Drive, dir, home string,
	o Options) error {
	known, err := wroteNote(e, &r.Note, drv)
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
	if note.HiddenIn(home, r.Link) {
		add(finding.New(finding.HiddenPlace, r.Link,
			"%s lies in a hidden place, and only this drive says that a link belongs there", r.Link).About(about))
	}
	usable, err := note.UsableManifest(ctx, dir, &r.Note)
	if err == nil && !usable {
		add(finding.New(finding.NoteUnproven, r.Target, "the note about %s does not fit the manifest beside it, so "+
			"nothing bears out what it says", r.Target).About(about))
	}
	return err
}

// wroteNote reports whether a run of this ledger wrote the note: the same redirect,
// link, target and drive.
func wroteNote(e *engine.Engine, n *note.Note, drv *drive.Drive) (bool, error) {
	if n.Run == "" {
		return false, nil
	}
	row, err := e.Ledger.Run(n.Run)
	if errors.Is(err, ledger.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	p, err := plan.Of(row)
	if err != nil {
		return false, err
	}
	return p.Name == n.Name && p.Link == n.Link && p.Final == n.Target &&
		(p.IntoDrive.ID == drv.ID() || p.IntoDrive.UUID != "" && p.IntoDrive.UUID == drv.UUID), nil
}

// digestOf is the digest that the manifest beside a target has of its files, SHA-256 where that
// can't be read. dir is the directory that its record directory lies in.
func digestOf(dir string, n *note.Note) transfer.Digest {
	kind := transfer.SHA256
	d, err := handle.OpenReal(filepath.Join(dir, drive.RecordDir))
	if err != nil {
		return kind
	}
	defer d.Release()
	f, err := d.OpenFile(n.Name + ".mtree")
	if err != nil {
		return kind
	}
	defer f.Close()
	r := manifest.NewReader(io.LimitReader(f, note.ManifestLimit))
	for {
		var e manifest.Entry
		if r.Next(&e) != nil {
			return kind
		}
		if e.Mode&handle.TypeMask == handle.TypeRegular {
			if e.BLAKE3 {
				kind = transfer.BLAKE3
			}
			return kind
		}
	}
}
