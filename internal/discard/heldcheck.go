package discard

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// checkNeverCopied tells of what was written to a held original that was never
// copied.
func checkNeverCopied(ctx context.Context, e *engine.Engine, h ledger.Held, held *handle.Dir) ([]finding.Finding,
	error) {
	since, err := execute.SinceNeverCopied(ctx, e, h.Run, held, h.Ino == 0)
	if err != nil || since == nil || since.NWritten == 0 {
		return nil, err
	}
	return []finding.Finding{finding.New(finding.LateWrite, filepath.Join(h.Path, since.Written[0]),
		"%s written to the held original after the switch, and is nowhere else",
		pathtext.Plural(since.NWritten, "entry was", "entries were")).Named(h.Redirect).OnDrive(h.Drive.Label).
		Instead("a program still has the old folder open, or knows it by its held name: copy what is needed to the "+
			"folder in use").Listing(since.NWritten, late.PathsUnder(h.Path, since.Written))}, nil
}

// CheckHeld holds a held original against its snapshot and changes nothing.
// live is the folder in use; while that is away there is nothing to say.
func CheckHeld(ctx context.Context, e *engine.Engine, h ledger.Held, live string) ([]finding.Finding, error) {
	about := finding.Subject{Name: h.Redirect, Drive: h.Drive.Label}
	w, err := e.Whereabouts(h.Drive, h.Path)
	if err != nil || !w.Found {
		return nil, err // the redirect's own drive is reported elsewhere
	}
	if at := w.Path(h.Drive, h.Path); at != h.Path {
		return []finding.Finding{finding.New(finding.DriveElsewhere, h.Path,
			"%s is at %s, and the held original on it at %s", h.Drive.Label, w.Drive.Mount, at).About(about)}, nil
	}
	made, err := plan.OfRun(e.Ledger, h.Run)
	if err != nil {
		made = nil // not known
	}
	st, err := handle.Lstat(h.Path)
	if err == nil && st.IsRegular() && made != nil && made.Traits().HoldsArchive {
		return nil, nil // an archive: it is proven before it goes
	}
	if err == nil && !plan.IsFolder(&st, h.Ino) || handle.Absent(err) && !handle.Missing(err) {
		return []finding.Finding{finding.New(finding.HeldChanged, h.Path,
			"something else than the held original stands at %s", h.Path).About(about).As(finding.Warning).
			Instead("look at it: somebody has put it there; the held original has another name now, or is gone")}, nil
	}
	held, err := handle.OpenReal(h.Path)
	if handle.Missing(err) {
		return []finding.Finding{finding.New(finding.HeldMissing, h.Path, "the held original is not at %s",
			h.Path).About(about)}, nil
	}
	if errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer held.Release()
	if made != nil && made.Bare && !h.Copy {
		return checkNeverCopied(ctx, e, h, held)
	}
	return checkSnapshot(ctx, e, h, made, held, live)
}

// checkSnapshot holds a held original against what was verified, and the folder in use.
// made is the plan that made it; nil if that is not known.
func checkSnapshot(ctx context.Context, e *engine.Engine, h ledger.Held, made *plan.Plan, held *handle.Dir,
	live string) ([]finding.Finding, error) {
	spool, err := e.SpoolOf(h.Run)
	if err != nil {
		about := finding.Subject{Name: h.Redirect, Drive: h.Drive.Label}
		return []finding.Finding{finding.New(finding.LedgerBroken, h.Path, "%s", err).About(about)}, nil
	}
	defer spool.Close()
	l := &late.Writes{Held: held, LivePath: live, Spool: spool, Side: engine.SideOf(h), LookOnly: true,
		Unstable: h.Ino == 0}
	if l.Erasing, err = isErasing(e, h); err != nil {
		return nil, err
	}
	if made != nil {
		l.Live = made.HalfOf(h)
	}
	if l.Live != nil {
		l.LivePath = l.Live.Path()
	} else if l.Live, err = handle.OpenReal(live); err != nil {
		return nil, nil // that is a finding about the target
	}
	defer l.Live.Release()
	if err := l.Walk(ctx); err != nil {
		return nil, err
	}
	return l.Findings(h.Redirect, h.Path, false), nil
}
