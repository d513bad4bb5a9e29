package places

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/shell"
)

// Whereabouts says where a drive is that data was moved to or from.
type Whereabouts struct {
	Found bool
	Drive drive.Drive // as it is mounted here; only if it was found
	NoTag bool        // it is known by its file system alone, although it had a tag
	Start drive.Start // what mounts it when the machine starts

	// Why it was not found, if it is more than that it is not here.
	Other *drive.Drive // another drive that is mounted where it was; nil if there is none
	Twice []string     // mount points of drives that all say to be this one
	Older string       // mount point of an older copy of it; empty if there is none
	Cover string       // what is mounted over the place that was asked for; empty if nothing is
}

// Path gives where something is now that lay at path when the ledger wrote
// ref.
func (w *Whereabouts) Path(ref ledger.DriveRef, path string) string {
	if !w.Found || w.Drive.Mount == ref.Mount || !pathtext.Within(path, ref.Mount) {
		return path
	}
	return filepath.Join(w.Drive.Mount, strings.TrimPrefix(path, ref.Mount))
}

// A presence is what AtOnce remembers of what is mounted and what the ledger says.
type presence struct {
	drives    func() ([]drive.Drive, error)
	locked    func() ([]string, error) // mount points of drives that are locked
	counters  func() (map[string]int64, error)
	redirects func() ([]ledger.Redirect, error)
	held      func() ([]ledger.Held, error)
	heldOf    func() (map[string][]ledger.Held, error) // by the redirect's name
	known     func() ([]Known, error)                  // places on drives
	where     *Memo[ledger.DriveRef, Whereabouts]
	mounted   *Memo[mountedPlace, bool] // what [Places.IsMountedAs] has said
}

// AtOnce looks at the drives once and remembers what it saw: for looking at many
// redirects in one moment, not for runs.
func (p *Places) AtOnce() *Places {
	if p.seen.known != nil {
		return p // it does so already
	}
	c := *p
	c.seen = presence{
		drives:    sync.OnceValues(p.Drives.Attached),
		locked:    sync.OnceValues(p.Drives.Locked),
		counters:  sync.OnceValues(p.Ledger.Counters),
		redirects: sync.OnceValues(p.allRedirects),
		held:      sync.OnceValues(p.allHeld),
		heldOf: sync.OnceValues(func() (map[string][]ledger.Held, error) {
			all, err := c.AllHeld()
			of := map[string][]ledger.Held{}
			for _, h := range all {
				of[h.Redirect] = append(of[h.Redirect], h)
			}
			return of, err
		}),
		known:   sync.OnceValues(c.placesInLedger),
		where:   NewMemo[ledger.DriveRef, Whereabouts](),
		mounted: NewMemo[mountedPlace, bool](),
	}
	return &c
}

func (p *Places) allRedirects() ([]ledger.Redirect, error) { return p.Ledger.Redirects(true) }
func (p *Places) allHeld() ([]ledger.Held, error)          { return p.Ledger.HeldOf("") }

// Redirects lists all redirects by name, those that have ended too. They are only to be read.
func (p *Places) Redirects() ([]ledger.Redirect, error) { return ask(p.seen.redirects, p.allRedirects) }

// AllHeld lists what is held, of any redirect, oldest first.
func (p *Places) AllHeld() ([]ledger.Held, error) { return ask(p.seen.held, p.allHeld) }

// ask asks what a look remembers; where there is none, at once.
func ask[T any](remembered, now func() (T, error)) (T, error) {
	if remembered != nil {
		return remembered()
	}
	return now()
}

// Held lists what is held for a redirect, oldest first.
func (p *Places) Held(name string) ([]ledger.Held, error) {
	if p.seen.heldOf == nil {
		return p.Ledger.HeldOf(name)
	}
	of, err := p.seen.heldOf()
	return of[name], err
}

// Locate finds out whether a drive is here, and where it is mounted. path is
// where data is expected on it.
func (p *Places) Locate(want ledger.DriveRef, path string) (mount string, found bool, err error) {
	w, err := p.Whereabouts(want, path)
	return w.Drive.Mount, w.Found, err
}

// Whereabouts finds a drive. It is known again by its tag; where it has
// none, by the UUID of its file system (any mismatch is doubtful, and
// doubtful is not found). A tag that counts fewer runs than the ledger knows
// of is on an older copy, and two drives with one tag are none (safety.md, 8).
func (p *Places) Whereabouts(want ledger.DriveRef, path string) (Whereabouts, error) {
	drv := want
	drv.Counter = 0 // which differs from redirect to redirect, and says nothing of where the drive is
	w, err := p.seen.where.Of(drv, func() (Whereabouts, error) { return p.whereabouts(want, path) })
	if err != nil {
		return w, err
	}
	return w, p.cover(&w, w.Path(want, path))
}

// cover looks whether path, which lies on the drive that was found, can be
// reached: what is mounted over it hides it (I5).
func (p *Places) cover(w *Whereabouts, path string) error {
	if !w.Found || w.Drive.Standin || !pathtext.Within(path, w.Drive.Mount) {
		return nil
	}
	at, err := drive.Existing(path)
	if err != nil {
		return nil // that is another finding
	}
	if st, err := handle.Lstat(at); err != nil || w.Drive.Holds(&st) {
		return nil
	}
	d, err := p.Drives.Of(at)
	if errors.Is(err, drive.ErrNoDrive) {
		return nil // a stand-in that is unplugged, say
	}
	if err != nil {
		return err
	}
	if !d.Same(&w.Drive) && pathtext.Within(d.Mount, w.Drive.Mount) {
		w.Found, w.Cover = false, d.Mount
	}
	return nil
}

func (p *Places) whereabouts(want ledger.DriveRef, path string) (w Whereabouts, err error) {
	all, err := p.candidates(want, path)
	if err != nil {
		return w, err
	}
	known, err := p.Counter(want.ID)
	if err != nil {
		return w, err
	}
	var hits []drive.Drive
	for i := range all {
		d := &all[i]
		tag, err := matches(d, want)
		switch {
		case errors.Is(err, errOther):
			if w.Other == nil && pathtext.Equal(d.Mount, want.Mount) && d.Mount != "/" {
				w.Other = d
			}
		case err != nil:
		case tag != nil && tag.Counter < known:
			w.Older = d.Mount
		case !slices.ContainsFunc(hits, func(h drive.Drive) bool { return h.Same(d) }):
			hits = append(hits, *d)
			w.NoTag = tag == nil && want.ID != "" && want.ID != want.UUID
		}
	}
	switch len(hits) {
	case 0:
	case 1:
		w.Found, w.Drive, w.Other, w.Older = true, hits[0], nil, ""
		w.Start = w.Drive.AtStart("/etc")
	default:
		for _, h := range hits {
			w.Twice = append(w.Twice, h.Mount)
		}
	}
	return w, nil
}

// candidates are the drives that are here. What is mounted where the drive is expected
// comes first: of several mounts of one drive it is the one that counts, and that it
// can't be read is no other drive's trouble.
func (p *Places) candidates(want ledger.DriveRef, path string) ([]drive.Drive, error) {
	all, err := p.allDrives()
	if err != nil {
		return nil, err
	}
	at, err := drive.Existing(path)
	if err != nil {
		return all, nil
	}
	d, err := p.Drives.Of(at)
	if errors.Is(err, drive.ErrNoDrive) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	if _, err := matches(&d, want); err != nil && !errors.Is(err, errOther) {
		return nil, err
	}
	return append([]drive.Drive{d}, all...), nil
}

func (p *Places) allDrives() ([]drive.Drive, error) { return ask(p.seen.drives, p.Drives.Attached) }

func (p *Places) locked() ([]string, error) { return ask(p.seen.locked, p.Drives.Locked) }

// Counter is the highest count of a drive tag that the ledger has seen.
func (p *Places) Counter(id string) (int64, error) {
	all, err := ask(p.seen.counters, p.Ledger.Counters)
	return all[id], err
}

var errOther = errors.New("another drive")

// matches gives the tag by which a drive is the one that is wanted, nil if it
// is it by other signs. errOther says that it is not; other errors, that it
// can't be told.
func matches(d *drive.Drive, want ledger.DriveRef) (*drive.Tag, error) {
	if d.UUID != want.UUID {
		return nil, errOther
	}
	if want.ID == "" && want.UUID == "" {
		// A drive without any identity is only ever one that data was moved off
		// (a target gets a tag): it is the one at its place.
		if d.Mount != want.Mount {
			return nil, errOther
		}
		return nil, nil
	}
	tag, err := drive.ReadTag(filepath.Join(d.Mount, want.TagPlace))
	switch {
	case err == nil && tag.ID == want.ID:
		return tag, nil
	case err == nil:
		return nil, errOther
	case (handle.Missing(err) || errors.Is(err, drive.ErrTag)) && want.UUID != "":
		// Without a tag that can be read the UUID alone has to do, and none is no
		// identity.
		return nil, nil
	case !drive.NoTag(err) && !errors.Is(err, drive.ErrTag):
		return nil, err
	}
	return nil, errOther
}

// Absence gives the finding about a drive that was not found: the one cause,
// and what brings it back. path lies on it.
func (p *Places) Absence(w *Whereabouts, name string, want ledger.DriveRef, path string) finding.Finding {
	about := finding.Subject{Name: name, Drive: want.Label}
	label, mount := pathtext.Show(want.Label), pathtext.Show(want.Mount)
	bring := p.mountCommand(want)
	switch {
	case len(w.Twice) > 0:
		return finding.New(finding.DriveTwice, path, "%d drives here say to be %s: at %s", len(w.Twice), label,
			shownAll(w.Twice)).About(about).
			Instead(fmt.Sprintf("unmount the copy, so that only %s itself is here: `%s` if that is the copy",
				label, shell.Here.Unmount(w.Twice[len(w.Twice)-1])))
	case w.Cover != "":
		f := finding.New(finding.Covered, path, "%s is here, but something else is mounted at %s and hides %s", label,
			w.Cover, path).About(about).
			Instead(fmt.Sprintf("`%s`; the data is below it", shell.Here.Unmount(w.Cover)))
		if d, err := p.Drives.Of(w.Cover); err == nil && d.UUID != "" && p.contested(w.Cover, want) {
			f.Remedy = fmt.Sprintf("the data is below %s, which needs another place: `%s`", pathtext.Show(d.Name()),
				shell.Here.Then(shell.Here.Unmount(w.Cover), mountElsewhere(d.UUID, w.Cover)))
		}
		return f
	case w.Older != "":
		return finding.New(finding.OlderClone, path,
			"what is mounted at %s is an older copy of %s: it has not seen the last run", w.Older, label).About(about)
	case w.Other != nil:
		f := finding.New(finding.DriveSwapped, path, "another drive, %s, is mounted at %s, where %s belongs",
			w.Other.Name(), mount, label).About(about)
		switch {
		case bring != "" && p.contested(want.Mount, want):
			f.Remedy = fmt.Sprintf("both belong there, and one needs another place: plug %s in, then `%s`; no data "+
				"is lost", label, mountElsewhere(want.UUID, want.Mount))
		case bring != "":
			f.Remedy = PlugIn(want.Label, p.MountAgain(want))
		}
		return f
	}
	f := finding.New(finding.DriveAway, path, "%s is not here, and %s lies on it", label, path).About(about)
	if locked, err := p.locked(); err == nil && len(locked) > 0 { // else it is only away
		f.Message += "; " + drive.AreLocked(locked) + ", and may be it"
		return f.Instead(fmt.Sprintf("open %s with its password, as in the file manager; if it is not %s, plug that "+
			"in; no data is lost", shownAll(locked), label))
	}
	if bring != "" {
		f.Remedy = fmt.Sprintf("plug %s in and mount it: `%s`, or open it in the file manager; no data is lost",
			label, bring)
	}
	return f
}

// mountCommand mounts a drive where it belongs; empty where it is not known by its file
// system, or is a stand-in.
func (p *Places) mountCommand(want ledger.DriveRef) string {
	if want.UUID == "" || p.Drives.File != "" || want.Mount == "/" {
		return ""
	}
	return shell.Here.Mount(want.UUID, want.Mount)
}

// MountAgain is that command in the place of whatever is mounted there.
func (p *Places) MountAgain(want ledger.DriveRef) string {
	command := p.mountCommand(want)
	if command == "" {
		return ""
	}
	if there, err := p.Drives.Of(want.Mount); err == nil && there.Mount == want.Mount {
		command = shell.Here.Then(shell.Here.Unmount(want.Mount), command)
	}
	return command
}

// PlugIn is the remedy of a drive whose place another one has.
func PlugIn(label, command string) string {
	return fmt.Sprintf("plug %s in, then `%s`; no data is lost", pathtext.Show(label), command)
}

func shownAll(paths []string) string {
	var out []string
	for _, p := range paths {
		out = append(out, pathtext.Show(p))
	}
	return strings.Join(out, ", ")
}
