package restore

import (
	"context"
	"errors"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/note"
	"nexlin/internal/plan"
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
