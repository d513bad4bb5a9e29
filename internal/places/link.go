package places

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
func (p *Places) linkDriveOf(r *ledger.Redirect) (ledger.DriveRef, error) {
	if r.LinkDrive.Mount != "" {
		return r.LinkDrive, nil
	}
	held, err := p.Held(r.Name)
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
func (p *Places) LinkDriveAway(r *ledger.Redirect, texts ...string) (*finding.Finding, error) {
	want, err := p.linkDriveOf(r)
	if err != nil || want.Mount == "" || pathtext.IsRoot(want.Mount) {
		return nil, err
	}
	dir := filepath.Dir(r.Link)
	here, err := p.mountedAs(want, dir)
	if here || pathtext.Within(ResolvedDir(p.Ledger.Dir()), want.Mount) {
		return nil, nil // what tells of it may lie there itself: then it is no empty mount point
	}
	if err != nil {
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
	w, err := p.Whereabouts(want, r.Link)
	if err != nil {
		return nil, err
	}
	f := p.Absence(&w, r.Name, want, r.Link).As(finding.Blocker)
	if w.Found {
		f = Elsewhere(&w, r.Name, want, r.Link)
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
func (p *Places) mountedAs(want ledger.DriveRef, path string) (bool, error) {
	return p.seen.mounted.Of(mountedPlace{want, path}, func() (bool, error) { return p.IsMountedAs(want, path) })
}

// IsMountedAs is [Places.mountedAs] as it is now, whatever was seen before.
func (p *Places) IsMountedAs(want ledger.DriveRef, path string) (bool, error) {
	at, err := drive.Existing(path)
	if err != nil {
		return false, err
	}
	d, err := p.Drives.Of(at)
	if errors.Is(err, drive.ErrNoDrive) {
		return false, nil
	}
	return err == nil && d.UUID == want.UUID && pathtext.Within(path, d.Mount) && d.Mount == want.Mount, err
}
