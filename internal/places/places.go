// Package places knows which drives are here, by whatever they are known again, and
// which places on drives the ledger knows. It looks, and changes nothing; what a run is
// about it does not know.
package places

import (
	"errors"
	"fmt"
	"slices"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// Places knows which drives are here, which places on drives the ledger knows, and which
// places are nothing to move. It changes nothing.
type Places struct {
	Ledger *ledger.Ledger
	Drives *drive.System
	Homes  []string // home directories of accounts, which are protected places
	// Stopped gives the places where a run that was stopped goes on; nil where none is
	// asked for, none for a run whose plan can't be read.
	Stopped func(ledger.RunRow) []Known

	seen presence // see AtOnce; nothing in it outside of that
}

// A Known is a place that the ledger knows on a drive.
type Known struct {
	Name  string // of the redirect
	Drive ledger.DriveRef
	Path  string
}

// knownPlaces are the places of redirects, of what is held, and of stopped runs.
func (p *Places) knownPlaces() ([]Known, error) { return ask(p.seen.known, p.placesInLedger) }

func (p *Places) placesInLedger() ([]Known, error) {
	all, err := p.Redirects()
	if err != nil {
		return nil, err
	}
	held, err := p.AllHeld()
	if err != nil {
		return nil, err
	}
	var out []Known
	for i := range all {
		r := &all[i]
		if r.State != ledger.Ended {
			out = append(out, Known{r.Name, r.Drive, r.Target})
		}
		out = append(out, Known{r.Name, r.LinkDrive, r.Link})
	}
	for _, h := range held {
		out = append(out, Known{h.Redirect, h.Drive, h.Path})
	}
	return p.stoppedPlaces(out)
}

// stoppedPlaces adds the places of runs that were stopped: they go on there.
func (p *Places) stoppedPlaces(out []Known) ([]Known, error) {
	if p.Stopped == nil {
		return out, nil
	}
	rows, err := p.Ledger.Unfinished()
	for _, row := range rows {
		out = append(out, p.Stopped(row)...)
	}
	return out, err
}

// KnownBelow reports whether something that the ledger knows on another drive than
// this one lies below a directory.
func (p *Places) KnownBelow(dir string, than ledger.DriveRef) (bool, error) {
	return p.knownOff(than, func(k *Known) bool { return pathtext.Within(k.Path, dir) && k.Drive.Mount != dir })
}

// contested reports whether another drive than this one belongs at a mount point,
// too: of the two one has to go elsewhere. Only words depend on it: a ledger that
// can't be asked is told elsewhere.
func (p *Places) contested(mount string, than ledger.DriveRef) bool {
	is, err := p.knownOff(than, func(k *Known) bool { return pathtext.Equal(k.Drive.Mount, mount) })
	return is && err == nil
}

func (p *Places) knownOff(than ledger.DriveRef, is func(*Known) bool) (bool, error) {
	places, err := p.knownPlaces()
	return slices.ContainsFunc(places, func(k Known) bool {
		return (k.Drive.UUID != than.UUID || k.Drive.ID != than.ID) && is(&k)
	}), err
}

// mountElsewhere is the command that mounts a file system beside a mount point that
// another one needs.
func mountElsewhere(uuid, mount string) string {
	beside := pathtext.Quote(mount + "-2")
	return fmt.Sprintf("mkdir -p -- %s && mount UUID=%s %[1]s", beside, uuid)
}

// Expected gives the finding about a drive that belongs where something is to be
// written and is not there: one that fstab(5) or the ledger knows (I5); nil if all is
// well. into is the directory, path what is to stand in it in the end.
func (p *Places) Expected(into, path string) (*finding.Finding, error) {
	if at := drive.Unmounted(into); at != "" {
		f := finding.New(finding.DriveUnmounted, at, "no drive is mounted at %s", at)
		return &f, nil
	}
	places, err := p.knownPlaces()
	if err != nil {
		return nil, err
	}
	now := p.AtOnce()
	for _, k := range places {
		if f, err := now.awayFrom(k, into, path); f != nil || err != nil {
			return f, err
		}
	}
	return nil, nil
}

// awayFrom gives the finding if into lies where the drive of a place belongs and it
// is not there. Another drive that is mounted at the same place may be written
// to, but not where data of the absent one is expected.
func (p *Places) awayFrom(k Known, into, path string) (*finding.Finding, error) {
	mount := k.Drive.Mount
	ofData := pathtext.Within(path, k.Path) || pathtext.Within(k.Path, path)
	if mount == "" || pathtext.IsRoot(mount) || !pathtext.Within(into, mount) && !ofData {
		return nil, nil
	}
	w, err := p.Whereabouts(k.Drive, k.Path)
	if err != nil || w.Found && w.Drive.Mount == mount {
		return nil, err
	}
	at, err := drive.Existing(into)
	if err != nil {
		return nil, err
	}
	d, err := p.Drives.Of(at)
	if err == nil && pathtext.Within(d.Mount, mount) && !ofData {
		return nil, nil
	}
	if err != nil && !errors.Is(err, drive.ErrNoDrive) {
		return nil, err
	}
	f := p.Absence(&w, k.Name, k.Drive, into).As(finding.Blocker)
	if w.Found {
		f = Elsewhere(&w, k.Name, k.Drive, into)
	}
	return &f, nil
}

// Elsewhere is the finding about a drive that is here, at another place than
// the one where it is wanted. path lies on it.
func Elsewhere(w *Whereabouts, name string, want ledger.DriveRef, path string) finding.Finding {
	label := pathtext.Show(want.Label)
	return finding.New(finding.DriveElsewhere, path, "%s is mounted at %s, not at %s", label, w.Drive.Mount,
		want.Mount).Named(name).OnDrive(label).As(finding.Blocker)
}
