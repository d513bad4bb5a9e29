package redirect

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// A knownPlace is something that the ledger knows on a drive.
type knownPlace struct {
	name string // of the redirect
	ref  ledger.DriveRef
	path string
}

func (e *Engine) knownPlaces() ([]knownPlace, error) {
	all, err := e.Ledger.Redirects(true)
	if err != nil {
		return nil, err
	}
	held, err := e.Ledger.HeldOf("")
	if err != nil {
		return nil, err
	}
	var out []knownPlace
	for i := range all {
		r := &all[i]
		if r.State != ledger.Ended {
			out = append(out, knownPlace{r.Name, r.Drive, r.Target})
		}
		out = append(out, knownPlace{r.Name, r.LinkDrive, r.Link})
	}
	for _, h := range held {
		out = append(out, knownPlace{h.Redirect, h.Drive, h.Path})
	}
	return e.stoppedPlaces(out)
}

// stoppedPlaces adds the places of runs that were stopped: they go on there.
func (e *Engine) stoppedPlaces(out []knownPlace) ([]knownPlace, error) {
	rows, err := e.Ledger.Unfinished()
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		p, err := e.planOf(row)
		if err != nil || IsTogether(row) {
			continue // what can't be read is told elsewhere
		}
		if p.Into != "" {
			out = append(out, knownPlace{p.Name, p.IntoDrive, p.Copy()})
		}
		if p.HeldIn != "" {
			out = append(out, knownPlace{p.Name, p.FromDrive, p.HeldPath()})
		}
	}
	return out, nil
}

// KnownBelow reports whether something that the ledger knows on another drive than
// this one lies below a directory.
func (e *Engine) KnownBelow(dir string, than ledger.DriveRef) (bool, error) {
	return e.knownOff(than, func(k *knownPlace) bool { return pathtext.Within(k.path, dir) && k.ref.Mount != dir })
}

// contested reports whether another drive than this one belongs at a mount point,
// too: of the two one has to go elsewhere. Only words depend on it: a ledger that
// can't be asked is told elsewhere.
func (e *Engine) contested(mount string, than ledger.DriveRef) bool {
	is, err := e.knownOff(than, func(k *knownPlace) bool { return pathtext.Equal(k.ref.Mount, mount) })
	return is && err == nil
}

func (e *Engine) knownOff(than ledger.DriveRef, is func(*knownPlace) bool) (bool, error) {
	places, err := e.knownPlaces()
	return slices.ContainsFunc(places, func(k knownPlace) bool {
		return (k.ref.UUID != than.UUID || k.ref.ID != than.ID) && is(&k)
	}), err
}

// mountElsewhere is the command that mounts a file system beside a mount point that
// another one needs.
func mountElsewhere(uuid, mount string) string {
	beside := pathtext.Quote(mount + "-2")
	return fmt.Sprintf("mkdir -p -- %s && mount UUID=%s %[1]s", beside, uuid)
}

// expected adds a finding if a drive belongs where something is to be written
// and is not there: one that fstab(5) or the ledger knows (I5). into is the
// directory, path what is to stand in it in the end. It reports whether all is
// well.
func (e *Engine) expected(p *Plan, into, path string) (bool, error) {
	if at := drive.Unmounted(into); at != "" {
		p.find(finding.New(finding.DriveUnmounted, at, "no drive is mounted at %s", at))
		return false, nil
	}
	places, err := e.knownPlaces()
	if err != nil {
		return false, err
	}
	now := e.AtOnce()
	for _, k := range places {
		f, err := now.awayFrom(k, into, path)
		if err != nil {
			return false, err
		}
		if f != nil {
			p.find(*f)
			return false, nil
		}
	}
	return true, nil
}

// awayFrom gives the finding if into lies where the drive of k belongs and it
// is not there. Another drive that is mounted at the same place may be written
// to, but not where data of the absent one is expected.
func (e *Engine) awayFrom(k knownPlace, into, path string) (*finding.Finding, error) {
	mount := k.ref.Mount
	ofData := pathtext.Within(path, k.path) || pathtext.Within(k.path, path)
	if mount == "" || pathtext.IsRoot(mount) || !pathtext.Within(into, mount) && !ofData {
		return nil, nil
	}
	w, err := e.Whereabouts(k.ref, k.path)
	if err != nil || w.Found && w.Drive.Mount == mount {
		return nil, err
	}
	at, err := drive.Existing(into)
	if err != nil {
		return nil, err
	}
	d, err := e.Drives.Of(at)
	if err == nil && pathtext.Within(d.Mount, mount) && !ofData {
		return nil, nil
	}
	if err != nil && !errors.Is(err, drive.ErrNoDrive) {
		return nil, err
	}
	f := e.Absence(&w, k.name, k.ref, into).As(finding.Blocker)
	if w.Found {
		f = elsewhere(&w, k.name, k.ref, into)
	}
	return &f, nil
}

// elsewhere is the finding about a drive that is here, at another place than
// the one where it is wanted. path lies on it.
func elsewhere(w *Whereabouts, name string, want ledger.DriveRef, path string) finding.Finding {
	label := pathtext.Show(want.Label)
	return finding.New(finding.DriveElsewhere, path, "%s is mounted at %s, not at %s", label, w.Drive.Mount,
		want.Mount).Named(name).OnDrive(label).As(finding.Blocker)
}

// expectedAround is [Engine.expected] for the directory around a link that is
// to be made.
func (e *Engine) expectedAround(p *Plan, link string) (bool, error) {
	return e.expected(p, filepath.Dir(link), link)
}
