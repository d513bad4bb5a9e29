package redirect

import (
	"errors"
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
)

// A redirect has two drives: that of its target and that of its link. Where
// the second one is away, something may still stand at the link's path, on
// whatever lies below its mount point; it is not what the ledger speaks of, and
// nothing is written there (I5).

// linkDriveOf is the drive that a redirect's link stands on, as the ledger knows
// it; without a mount point if it does not.
func (e *Engine) linkDriveOf(r *ledger.Redirect) (ledger.DriveRef, error) {
	if r.LinkDrive.Mount != "" {
		return r.LinkDrive, nil
	}
	held, err := e.Held(r.Name)
	if err != nil {
		return ledger.DriveRef{}, err
	}
	for _, h := range held { // an older build noted it there alone
		if !h.Copy && filepath.Dir(h.Path) == filepath.Dir(r.Link) {
			return h.Drive, nil
		}
	}
	return ledger.DriveRef{}, nil
}

// LinkDriveAway gives the finding about a redirect's link whose drive is not
// here; nil if it is. A link that says one of the texts is at its place,
// whichever drive that is by now: a system drive may have been exchanged.
func (e *Engine) LinkDriveAway(r *ledger.Redirect, texts ...string) (*finding.Finding, error) {
	want, err := e.linkDriveOf(r)
	if err != nil || want.Mount == "" || pathtext.IsRoot(want.Mount) {
		return nil, err
	}
	if pathtext.Within(resolvedDir(e.Ledger.Dir()), want.Mount) {
		return nil, nil // what tells of it lies there itself: it is no empty mount point
	}
	dir := filepath.Dir(r.Link)
	here, err := e.mountedAs(want, dir)
	if here || err != nil {
		return nil, err
	}
	parent, err := handle.OpenReal(dir)
	if err == nil {
		defer parent.Release()
		for _, text := range append(texts, r.LinkText()) {
			if ours, err := link.Is(parent, filepath.Base(r.Link), text); ours || err != nil {
				return nil, err
			}
		}
	} else if !handle.Absent(err) {
		return nil, err
	}
	w, err := e.Whereabouts(want, r.Link)
	if err != nil {
		return nil, err
	}
	f := e.Absence(&w, r.Name, want, r.Link).As(finding.Blocker)
	if w.Found {
		f = elsewhere(&w, r.Name, want, r.Link)
	}
	return &f, nil
}

// A mountedPlace is a directory, and the drive that it is wanted on.
type mountedPlace struct {
	drive ledger.DriveRef
	path  string
}

// mountedAs reports whether what path lies on is the wanted drive, at the place
// where the ledger saw it.
func (e *Engine) mountedAs(want ledger.DriveRef, path string) (bool, error) {
	at := mountedPlace{want, path}
	if e.seen != nil {
		if is, known := e.seen.mounted[at]; known {
			return is, nil
		}
	}
	is, err := e.isMountedAs(want, path)
	if err == nil && e.seen != nil {
		e.seen.mounted[at] = is
	}
	return is, err
}

func (e *Engine) isMountedAs(want ledger.DriveRef, path string) (bool, error) {
	at, err := drive.Existing(path)
	if err != nil {
		return false, err
	}
	d, err := e.Drives.Of(at)
	if errors.Is(err, drive.ErrNoDrive) {
		return false, nil
	}
	return err == nil && d.UUID == want.UUID && pathtext.Within(path, d.Mount) && d.Mount == want.Mount, err
}

// wantLinkDrive adds that finding to a plan.
func (e *Engine) wantLinkDrive(p *Plan, r *ledger.Redirect) error {
	f, err := e.LinkDriveAway(r)
	if f != nil {
		p.find(*f)
	}
	return err
}

// wantLinkDrive refuses a run, its resume or its undo while the drive is away
// on which the link is to be changed.
func (m *execution) wantLinkDrive() error {
	if m.p.Before == nil || m.p.kind().noLink || m.p.Mend != nil && m.p.Into == "" {
		return nil // it touches no link
	}
	f, err := m.LinkDriveAway(m.p.Before, m.p.LinkText, m.p.OldText)
	if f != nil {
		err = &RefusedError{[]finding.Finding{*f}}
	}
	return err
}

// linkDriveNow is the drive that the link of the run stands on.
func (m *execution) linkDriveNow() ledger.DriveRef {
	at, err := drive.Existing(filepath.Dir(m.p.Link))
	if err == nil {
		if d, err := m.Drives.Of(at); err == nil {
			return ref(&d)
		}
	}
	if m.p.Before != nil {
		return m.p.Before.LinkDrive // an engine's store may have no directory around it any more
	}
	return ledger.DriveRef{}
}
