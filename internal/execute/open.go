package execute

import (
	"path/filepath"
	"slices"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
)

// OpenReal opens a directory that the run works in. One that another account
// could have slipped in under its path is a *RefusedError, unless that was
// accepted (I6).
func (m *opener) OpenReal(path string) (*handle.Dir, error) {
	return m.Trusted(handle.OpenReal(path))
}

// Live opens the directory at the target, in which the run writes and whose times it sets.
// Errors: those of [opener.OpenReal].
func (m *opener) Live() (*handle.Dir, error) { return m.Trusted(m.Into.Beneath(m.Plan.Final)) }

// Trusted passes on what was opened, unless another account could have put it there.
func (m *opener) Trusted(d *handle.Dir, err error) (*handle.Dir, error) {
	if err != nil || slices.Contains(m.Plan.Accepted, finding.OthersHands) {
		return d, err
	}
	if f, err := preflight.OthersDirectory(d); f != nil || err != nil {
		d.Release()
		if f != nil {
			err = plan.Refused(*f)
		}
		return nil, err
	}
	return d, nil
}

// OpenOn opens a directory that the run writes in by its path, on the drive that
// it has to lie on: since that was looked at last the drive may have been taken
// away, and the path leads to what lies below its mount point (I5). Without a
// mount point in want nothing is known, and nothing asked. Errors: those of
// [opener.OpenReal], a *GoneError.
func (m *opener) OpenOn(path string, want ledger.DriveRef) (*handle.Dir, error) {
	d, err := m.OpenReal(path)
	if want.Mount == "" || err != nil && !handle.Missing(err) {
		return d, err
	}
	here, herr := m.IsMountedAs(want, path)
	if herr == nil && here && err == nil {
		// What was opened is what the path leads to now: on that drive.
		var was, is handle.Stat
		if was, err = d.Self(); err == nil {
			is, err = handle.Lstat(path)
		}
		here = err == nil && is.SameInode(&was)
	}
	if herr == nil && here {
		return d, err
	}
	d.Release()
	if herr != nil {
		return nil, herr
	}
	return nil, &plan.GoneError{Drive: want.Label, Path: path}
}

// OpenFolders takes the handles that all later acts go through, checks that the
// drives are the ones of the plan (I5), and locks (I7).
func (m *opener) OpenFolders() error {
	err := m.OpenAround()
	if err != nil {
		return err
	}
	if m.From, err = m.FindFrom(); err != nil {
		return err
	}
	if m.From != nil {
		if m.From, err = m.Trusted(m.From, nil); err != nil {
			return err
		}
		if err := m.Lock(m.From); err != nil {
			return err
		}
	}
	if d, err := m.OpenReal(m.Plan.Into); err == nil {
		m.Into = d
	} else if !handle.Missing(err) {
		return err
	}
	if m.Plan.Traits().Merges && m.Into != nil {
		if err := m.LockCopy(); err != nil {
			return err
		}
	}
	if m.looksOnly {
		return nil
	}
	return m.openLender()
}

// OpenAround wants the drives to be there, and opens the directories that the
// link and what is held stand in.
func (m *opener) OpenAround() (err error) {
	if err := m.checkDrives(); err != nil {
		return err
	}
	if m.LinkIn, err = m.OpenReal(filepath.Dir(m.Plan.Link)); err != nil {
		return err
	}
	if m.Run != nil {
		if err := m.untryFolder(); err != nil {
			return err
		}
	}
	m.HeldIn, err = m.OpenReal(m.Plan.HeldIn)
	return err
}

// LockCopy takes the directory at the target, which is there already, for this
// run alone.
func (m *opener) LockCopy() error {
	if m.looksOnly {
		return nil
	}
	live, err := m.Live()
	if err != nil {
		return err
	}
	m.Locks = append(m.Locks, live)
	err = live.Lock(true)
	if handle.IsLocked(err) {
		err = RefuseBusy(m.Plan.Name, m.Plan.Copy())
	}
	return err
}

func (m *opener) checkDrives() error {
	for path, want := range map[string]ledger.DriveRef{m.Plan.HeldIn: m.Plan.FromDrive, m.Plan.Into: m.Plan.IntoDrive} {
		if err := m.CheckDrive(path, want); err != nil {
			return err
		}
	}
	return nil
}

// againThere is what follows once a drive is back where its run began.
const againThere = "; then the run can be finished or taken back"

// CheckDrive wants a drive to be where it was when the run was planned (I5).
func (m *opener) CheckDrive(path string, want ledger.DriveRef) error {
	here, err := m.IsMountedAs(want, path)
	if here || err != nil {
		return err
	}
	w, err := m.Whereabouts(want, path)
	if err != nil {
		return err
	}
	f := m.Absence(&w, m.Plan.Name, want, path).As(finding.Blocker)
	// A run goes on only where it began, whatever else belongs there.
	switch {
	case w.Found:
		f = finding.New(finding.DriveElsewhere, path, "%s is not where it was when the run began: %s", want.Label,
			want.Mount).Named(m.Plan.Name).OnDrive(want.Label).As(finding.Blocker)
		again := "mount it at " + pathtext.Show(want.Mount) + " again"
		if command := m.MountAgain(want); command != "" {
			again += ": `" + command + "`"
		}
		f = f.Instead(again + againThere)
	case w.Other != nil:
		if command := m.MountAgain(want); command != "" {
			f = f.Instead(places.PlugIn(want.Label, command))
		}
	}
	return plan.Refused(f)
}

// stillHere wants the directories that the run works in to be reached by
// their paths still: a drive that was unmounted meanwhile is at work through
// the handles, but a link would lead to an empty mount point (I5).
func (m *opener) stillHere() error {
	for _, d := range []struct {
		dir  *handle.Dir
		path string
		on   string
	}{{m.Into, m.Plan.Into, m.Plan.IntoDrive.Label}, {m.HeldIn, m.Plan.HeldIn, m.Plan.FromDrive.Label}} {
		was, err := d.dir.Self()
		if err != nil {
			return err
		}
		again, err := handle.OpenReal(d.path)
		gone := handle.Missing(err)
		var is handle.Stat
		if err == nil {
			is, err = again.Self()
			again.Release()
			gone = err == nil && !is.SameInode(&was)
		}
		if gone {
			return &plan.GoneError{Drive: d.on, Path: d.path}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// FindFrom opens the folder that is copied, under its held name, which is
// nobody else's, or its own. Nil if it is under neither.
func (m *opener) FindFrom() (*handle.Dir, error) {
	for _, name := range []string{m.Plan.Held, filepath.Base(m.Plan.From)} {
		d, err := m.HeldIn.Beneath(name)
		if handle.Absent(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		st, err := d.Self()
		if err == nil && plan.IsFolder(&st, m.Plan.FromID()) {
			return d, nil
		}
		d.Release()
		if err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// openRenamed opens the folder that was copied once more under the name that it
// has by now: not every system that calls itself Windows opens what is below a
// directory that was renamed while it was open. The first handle has the lock.
func (m *opener) openRenamed() error {
	if !handle.Windows || m.From == nil {
		return nil
	}
	again, err := m.FindFrom()
	if err == nil && again != nil {
		m.Locks, m.From = append(m.Locks, m.From), again
	}
	return err
}

// RefuseBusy says that another run has a folder.
func RefuseBusy(name, path string) error {
	return plan.Refused(finding.New(finding.FolderBusy, path,
		"another Nexlin is at work on %s, or on a folder above or inside it", path).Named(name))
}

// Lock takes the folder exclusively and its ancestors shared. A nested run
// holds one of ours, or we one of its: either way the second one refuses.
func (m *opener) Lock(d *handle.Dir) error {
	if m.looksOnly {
		return nil
	}
	if err := d.Lock(true); err != nil {
		if handle.IsLocked(err) {
			return RefuseBusy(m.Plan.Name, d.Path())
		}
		return err
	}
	for _, start := range []string{filepath.Dir(m.Plan.From), m.Plan.Into} {
		for at := start; ; at = filepath.Dir(at) {
			a, err := handle.OpenReal(at)
			if err == nil {
				m.Locks = append(m.Locks, a)
				if err := a.Lock(false); handle.IsLocked(err) {
					return RefuseBusy(m.Plan.Name, at)
				}
			}
			if pathtext.IsRoot(at) {
				break
			}
		}
	}
	return nil
}
