package selftest

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
)

// Where a self-test works: one directory of this name in the home, one in the directory on the
// other drive.
const (
	placeName = "nexlin-selftest"
	record    = "record.json"
	recordMax = 64 << 10 // bytes
	lockName  = "lock"   // a directory that is locked while a self-test is at work
)

// patience is how long taking away waits for a command that was killed to be gone.
const patience = 10 * time.Second

// A place is where a self-test works. The directory in the home has the record of what has to be
// taken away, and what is locked while one is at work; the one on the other drive has an id.
type place struct {
	home           string
	source, target string // the two directories
	drives         *drive.System
	dir, lock      *handle.Dir // the one in the home, and what is locked in it
	kept           recorded
}

// recorded is what the record says. It is read again by the next self-test.
type recorded struct {
	Version int      `json:"nexlin_selftest"`
	Targets []remote `json:"targets"`
}

// A remote is a directory on another drive that may be there. It is ours if it has the id in it.
type remote struct {
	Path  string `json:"path"`
	ID    string `json:"id"`
	Drive string `json:"drive"` // identity of the drive
}

// makePlace makes the two directories, after it has taken away what a self-test that was killed
// has left. The error is [ErrBusy] if another is at work.
func makePlace(home, into string, drives *drive.System) (*place, error) {
	p := &place{home: home, source: filepath.Join(home, placeName), drives: drives}
	in, err := handle.Open(home)
	if err != nil {
		return nil, err
	}
	defer in.Release()
	made := in.Mkdir(placeName, 0o700)
	if made != nil && !errors.Is(made, fs.ErrExist) {
		return nil, made
	}
	d, err := in.Sub(placeName)
	if err != nil {
		return nil, err
	}
	if err = p.claim(d, made == nil); err != nil {
		p.lock.Release()
		d.Release()
		return nil, err
	}
	p.dir = d
	if p.target, err = p.make(into, placeName); err != nil {
		return nil, errors.Join(err, p.takeAway())
	}
	return p, nil
}

// claim wants the directory to be this account's, locks it, and takes away what an earlier
// self-test has left in both.
func (p *place) claim(d *handle.Dir, fresh bool) error {
	st, err := d.Self()
	if err == nil && st.UID != uint32(os.Geteuid()) {
		err = &fs.PathError{Op: "selftest", Path: p.source, Err: fs.ErrPermission}
	}
	if err == nil {
		err = p.locked(d)
	}
	if err != nil {
		return err
	}
	if !fresh {
		if p.kept, err = readRecord(d); err != nil {
			return err
		}
		err = p.clear(d)
	}
	return err
}

// locked locks the directory for this self-test alone.
func (p *place) locked(d *handle.Dir) error {
	err := d.Mkdir(lockName, 0o700)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if p.lock, err = d.Sub(lockName); err == nil {
		err = p.lock.Lock(true)
	}
	// One that has just ended may have taken it away before it was locked.
	var own, is handle.Stat
	if err == nil {
		own, err = p.lock.Self()
	}
	if err == nil {
		is, err = d.Stat(lockName)
	}
	if handle.IsLocked(err) || handle.Missing(err) || err == nil && !is.SameInode(&own) {
		return ErrBusy
	}
	return err
}

// make makes a directory on another drive, once the record speaks of it.
func (p *place) make(into, name string) (string, error) {
	at := filepath.Join(into, name)
	on, err := p.drives.Of(into)
	if err != nil {
		return at, err
	}
	ours := remote{Path: at, ID: drive.NewID(), Drive: on.Identity()}
	p.kept.Version, p.kept.Targets = 1, append(p.kept.Targets, ours)
	if err = p.write(); err != nil {
		return at, err
	}
	in, err := handle.OpenReal(into)
	if err != nil {
		return at, err
	}
	defer in.Release()
	if err = in.Mkdir(name, 0o700); err != nil {
		return at, err
	}
	d, err := in.Sub(name)
	if err != nil {
		return at, err
	}
	defer d.Release()
	f, err := d.Create(record, 0o600)
	if err != nil {
		return at, err
	}
	_, err = f.WriteString(ours.ID)
	return at, errors.Join(err, f.Close())
}

func (p *place) write() error {
	return handle.WriteFile(filepath.Join(p.source, record), 0o600, func(w io.Writer) error {
		return json.NewEncoder(w).Encode(p.kept)
	})
}

// readRecord reads what an earlier self-test has left; none is the zero value. One that can't be
// read is an error: then nobody knows what is whose.
func readRecord(d *handle.Dir) (out recorded, err error) {
	b, err := small(d, record)
	if handle.Missing(err) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	if err == nil && out.Version != 1 {
		err = errors.New("it is of another version")
	}
	if err != nil {
		return out, &fs.PathError{Op: "read", Path: d.Join(record), Err: handle.Cause(err)}
	}
	return out, nil
}

// small reads a small file in d.
func small(d *handle.Dir, name string) ([]byte, error) {
	f, err := d.OpenFile(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, recordMax))
}

// takeAway removes both directories and gives the lock up. What can't be removed, on a drive that
// is not here, say, stays in the record for the next self-test.
func (p *place) takeAway() error {
	err := p.clear(p.dir)
	if handle.Windows { // where what is open keeps its name until it is closed
		p.lock.Release()
	} else {
		defer p.lock.Release()
	}
	switch {
	case err != nil:
	case len(p.kept.Targets) > 0:
		err = p.write()
	default:
		err = p.dir.Rmdir(lockName)
	}
	p.dir.Release()
	if err != nil || len(p.kept.Targets) > 0 {
		return err
	}
	in, err := handle.Open(p.home)
	if err != nil {
		return err
	}
	defer in.Release()
	return in.Rmdir(placeName)
}

// clear removes what is in the directory of the home and the directories on other drives; what
// is left in the record are those that are not to be reached. A command that was
// killed may still be at work for a moment, so it is tried again for a while.
func (p *place) clear(d *handle.Dir) (err error) {
	for end := time.Now().Add(patience); ; time.Sleep(200 * time.Millisecond) {
		if err = p.clearOnce(d); err == nil || time.Now().After(end) {
			return err
		}
	}
}

func (p *place) clearOnce(d *handle.Dir) error {
	var away []remote
	for _, r := range p.kept.Targets {
		on, err := p.drives.Of(filepath.Dir(r.Path))
		if err != nil || on.Identity() != r.Drive {
			away = append(away, r) // its drive is not here
			continue
		}
		if err := handle.IgnoreMissing(r.clear()); err != nil {
			return err
		}
	}
	p.kept.Targets = away
	return emptied(d, func(name string) bool { return name == lockName || name == record && len(away) > 0 })
}

// clear removes the directory, if it is the one that the record means: it has its id, or is
// empty, as one is whose self-test was killed right there.
func (r *remote) clear() error {
	in, err := handle.OpenReal(filepath.Dir(r.Path))
	if err != nil {
		return err
	}
	defer in.Release()
	d, err := in.Sub(filepath.Base(r.Path))
	if err != nil {
		return err
	}
	defer d.Release()
	id, err := small(d, record)
	if err != nil && !handle.Missing(err) {
		return err
	}
	if string(id) == r.ID {
		// The id goes last: without it nobody would know whose the rest is.
		if err = emptied(d, func(name string) bool { return name == record }); err == nil {
			err = d.Unlink(record)
		}
		if err != nil {
			return err
		}
	}
	if err = in.Rmdir(filepath.Base(r.Path)); errors.Is(err, fs.ErrExist) || errors.Is(err, syscall.ENOTEMPTY) {
		return nil // somebody else's directory of that name
	}
	return err
}

// emptied removes what is in d, entry by entry, without following a link and without entering
// another mount; what without names stays.
func emptied(d *handle.Dir, without func(name string) bool) error {
	names, err := d.Names()
	if err != nil {
		return err
	}
	own, err := d.Self()
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, name := range names {
		if without != nil && without(name) {
			continue
		}
		st, err := d.Stat(name)
		if err == nil && st.IsDir() {
			if st.Elsewhere(&own) {
				return &fs.PathError{Op: "remove", Path: d.Join(name), Err: handle.ErrMount}
			}
			err = removedDir(d, name)
		} else if err == nil {
			err = d.Unlink(name)
		}
		if err != nil && !handle.Missing(err) {
			return err
		}
	}
	return nil
}

func removedDir(d *handle.Dir, name string) error {
	if err := handle.IgnorePermission(d.ChmodEntry(name, 0o700)); err != nil {
		return err
	}
	sub, err := d.Sub(name)
	if err != nil {
		return err
	}
	err = emptied(sub, nil)
	sub.Release()
	if err != nil {
		return err
	}
	return d.Rmdir(name)
}
