package handle

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// Private makes a directory that only this account can look into, and opens
// it: what is made in there can't be exchanged by whoever may write in d
// (I6). One that is there already, from a run that was stopped, is taken
// again, without what was being made there. plain says that the file system keeps
// no owners, so that there are no rights to tell apart.
//
// fs.ErrPermission means that another directory was slipped in under the
// name.
func (d *Dir) Private(name string, plain bool) (*Dir, error) {
	made := d.Mkdir(name, 0o700)
	if made != nil && !errors.Is(made, fs.ErrExist) {
		return nil, made
	}
	p, err := d.Beneath(name)
	if err != nil {
		return nil, err
	}
	st, err := p.Self()
	// Where a file system keeps no modes, others may look into it, and an
	// administrator must not have them write there.
	if err == nil && !plain && (st.UID != uint32(os.Geteuid()) || st.UID == 0 && st.Perm()&0o022 != 0) {
		err = &fs.PathError{Op: "open", Path: p.Path(),
			Err: fmt.Errorf("it belongs to account %d: %w", st.UID, fs.ErrPermission)}
	}
	if err == nil && made != nil {
		err = p.wasPrivate()
	}
	if err == nil {
		err = p.DropInherited()
	}
	if err == nil {
		err = p.clearPrivate()
	}
	if err != nil {
		p.Release()
		return nil, err
	}
	return p, nil
}

// wasPrivate wants a directory that was there to have what a private one may have, and nothing
// else: another one of this account's may have been put there.
func (d *Dir) wasPrivate() error {
	names, err := d.Names()
	for _, n := range names {
		if n != InPrivate && n != keptInPrivate {
			return &fs.PathError{Op: "open", Path: d.Path(),
				Err: fmt.Errorf("it is another directory: %w", fs.ErrPermission)}
		}
	}
	return err
}

// ErrReplaced reports an entry that is another one than was looked at: somebody
// has put it there meanwhile.
var ErrReplaced = errors.New("something else was put in its place meanwhile")

// PlaceFrom gives what was made in the private directory p under [InPrivate] its
// name in d, and wants it to be what stands there then: made. Where old is not
// nil, it takes the place of the entry that old describes and of no other: the
// two are exchanged in one act, looked at, and exchanged back if it was another.
//
// The error is [ErrReplaced] if something else stood there, or stands there
// afterwards; fs.ErrExist if old is nil and there is an entry.
func (d *Dir) PlaceFrom(p *Dir, name string, made, old *Stat) error {
	if err := d.placeFrom(p, name, old); err != nil {
		return err
	}
	now, err := d.Stat(name)
	if err == nil && !now.SameInode(made) || errors.Is(err, fs.ErrNotExist) {
		err = d.err("rename", name, ErrReplaced)
	}
	return err
}

func (d *Dir) placeFrom(p *Dir, name string, old *Stat) error {
	if old == nil {
		return p.Rename(InPrivate, d, name)
	}
	err := p.Exchange(InPrivate, d, name)
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS) || errors.Is(err, syscall.EOPNOTSUPP) {
		// It can't exchange: the look has to come first.
		was, err := d.Stat(name)
		if err == nil && !was.sameEntry(old) {
			err = d.err("rename", name, ErrReplaced)
		}
		if err != nil {
			return err
		}
		return p.Replace(InPrivate, d, name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return d.err("rename", name, ErrReplaced)
	}
	if err != nil {
		return err
	}
	was, err := p.Stat(InPrivate)
	if err == nil && !was.sameEntry(old) {
		err = d.err("rename", name, ErrReplaced)
	}
	if err != nil {
		if back := p.Exchange(InPrivate, d, name); back != nil {
			err = errors.Join(err, back, p.keep())
		}
	}
	return err
}

// RemoveSeen removes the file called name in d that old describes, and no other:
// it is looked at once more in a private directory called scratch, where nobody
// can exchange it, and gets its name again if it is another. The error is
// [ErrReplaced] then; fs.ErrNotExist if there is none.
func (d *Dir) RemoveSeen(name string, old *Stat, scratch string) error {
	p, err := d.Private(scratch, false)
	if err != nil {
		return err
	}
	defer p.Release()
	if err = d.Rename(name, p, InPrivate); err == nil {
		var was Stat
		was, err = p.Stat(InPrivate)
		if err == nil && !was.sameEntry(old) {
			err = d.err("remove", name, ErrReplaced)
		}
		if err != nil {
			if back := p.Rename(InPrivate, d, name); back != nil {
				err = errors.Join(err, back, p.keep())
			}
		}
	}
	return errors.Join(err, d.DropPrivate(scratch, p))
}

// sameEntry reports whether an entry that was renamed meanwhile is the one that
// was looked at, and nobody has written to it.
func (s *Stat) sameEntry(old *Stat) bool {
	return s.SameInode(old) && s.Mtime == old.Mtime && s.Size == old.Size
}

// keep gives what is in a private directory, and is somebody else's, a name under
// which it is not removed.
func (d *Dir) keep() error { return d.Rename(InPrivate, d, keptInPrivate) }

// MkdirFor makes the directory called name, which must not exist, for
// another account, and opens it: made and given away inside a private
// directory called scratch, then renamed to its place. So it is never another
// directory of d that is given away. Where owner is this account, or plain
// says that none is kept, it is made in its place.
func (d *Dir) MkdirFor(name string, mode, owner, group uint32, scratch string, plain bool) (*Dir, error) {
	if plain || os.Geteuid() != 0 || owner == 0 && group == 0 {
		if err := d.Mkdir(name, mode); err != nil {
			return nil, err
		}
		return d.Beneath(name)
	}
	_, exists := d.Stat(name)
	if _, err := d.Stat(scratch); exists == nil && errors.Is(err, fs.ErrNotExist) {
		return nil, d.err("mkdir", name, fs.ErrExist)
	}
	p, err := d.Private(scratch, false)
	if err != nil {
		return nil, err
	}
	defer p.Release()
	if exists == nil { // a run was stopped between renaming and tidying up
		return nil, errors.Join(d.err("mkdir", name, fs.ErrExist), d.DropPrivate(scratch, p))
	}
	made, err := p.directoryFor(mode, owner, group)
	if err == nil {
		if err = p.Rename(InPrivate, d, name); err == nil {
			made.path = d.Join(name)
		}
	}
	if err = errors.Join(err, d.DropPrivate(scratch, p)); err != nil {
		if made != nil {
			made.Release()
		}
		return nil, err
	}
	return made, nil
}

// keptInPrivate is what somebody else's entry is called that could not be given back.
const keptInPrivate = "kept"

// InPrivate is what an entry is called while it is made in a private directory.
const InPrivate = "new"

func (d *Dir) directoryFor(mode, owner, group uint32) (*Dir, error) {
	if err := d.Mkdir(InPrivate, 0o700); err != nil {
		return nil, err
	}
	made, err := d.Beneath(InPrivate)
	if err == nil {
		err = made.Chmod(mode)
	}
	if err == nil {
		err = made.Chown(owner, group)
	}
	if err == nil {
		err = made.Sync()
	}
	if err != nil && made != nil {
		made.Release()
		made = nil
	}
	return made, err
}

// DropPrivate removes what Private made, with what was not renamed out of it.
func (d *Dir) DropPrivate(name string, p *Dir) error {
	if err := p.clearPrivate(); err != nil {
		return err
	}
	err := d.Rmdir(name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil // somebody moved it away: it was empty
	}
	return err
}

func (d *Dir) clearPrivate() error {
	for _, take := range []func(string) error{d.Rmdir, d.Unlink} {
		// One of the two fits, if anything is left at all.
		if err := take(InPrivate); err != nil && !errors.Is(err, fs.ErrNotExist) &&
			!errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.EISDIR) {
			return err
		}
	}
	return nil
}

// A HandsError reports a directory that another account could have put in its
// place: it stands in a directory of that account's and does not belong to it.
type HandsError struct {
	Path  string // where the directory was opened
	Owner uint32 // whose it is
	Hands uint32 // who may exchange what is at its place, or at one above it
}

func (e *HandsError) Error() string {
	return fmt.Sprintf("%s, or a directory above it, belongs to account %d and lies in the hands of account %d",
		e.Path, e.Owner, e.Hands)
}
