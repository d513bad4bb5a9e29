package transfer

import (
	"errors"
	"io/fs"
	"os"
	"path"

	"nexlin/internal/handle"
)

// OpenPart opens the part called name in parent and makes it if it is not
// there: private to this account, without the rights that the directory
// around it would hand down. known is the inode it had before, 0 if it is to
// be new. What stands there and is no directory, or not the known one, is
// fs.ErrExist (I6), whoever it belongs to: it may be the administrator's own, put
// there by an account. An empty one of this account's is taken, made or not: the
// known one may have been taken away by an undo that was stopped. Where the file
// system keeps no owners that can't be told. The caller closes the part.
func OpenPart(parent *handle.Dir, name, aside string, known uint64, allow *Allow) (*Part, error) {
	err := parent.Mkdir(name, 0o700)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	dir, err := parent.Beneath(name)
	if errors.Is(err, handle.ErrNotDir) {
		err = &fs.PathError{Op: "open", Path: parent.Join(name), Err: fs.ErrExist}
	}
	if err != nil {
		return nil, err
	}
	st, err := dir.Self()
	own := st.UID == uint32(os.Geteuid())
	if err == nil && !allow.Owners && st.Ino != known && !own {
		err = &fs.PathError{Op: "open", Path: parent.Join(name), Err: fs.ErrExist}
	}
	if err == nil && !allow.Owners && !own {
		// It had its last metadata already: it becomes private again.
		err = dir.Chown(uint32(os.Geteuid()), uint32(os.Getegid()))
	}
	if err == nil && st.Ino != known && !allow.Owners {
		// Whoever may write in parent could have put another directory of this
		// account's there: a new part is empty.
		var names []string
		if names, err = dir.Names(); len(names) > 0 {
			err = &fs.PathError{Op: "open", Path: parent.Join(name), Err: fs.ErrExist}
		}
	}
	if err == nil {
		err = dropXattrs(dir, nil)
	}
	if err == nil && !allow.Modes {
		err = dir.Chmod(0o700)
	}
	if err != nil {
		dir.Release()
		return nil, err
	}
	return &Part{Dir: dir, Parent: parent.Retain(), Aside: aside}, nil
}

// Close gives the handles up.
func (p *Part) Close() {
	p.Dir.Release()
	p.Parent.Release()
}

// Finish gives the part's own directory the owner, mode, attributes and
// times of the folder and flushes it: the last act before it gets its name.
func (p *Part) Finish(spool *Spool, allow *Allow) error {
	r := Read(spool).Peek()
	if r == nil || r.Path != "." {
		return &SpoolError{spool.names.Name(), errors.New("the folder itself is not recorded")}
	}
	if _, err := allow.setDir(p.Dir, &r.Fact.Source, r.Xattrs, r.Fact.Source.Mtime, false); err != nil {
		return err
	}
	made, err := p.Dir.Self()
	if err != nil {
		return err
	}
	xattrs, err := p.Dir.Xattrs(".")
	if err != nil {
		return err
	}
	r.Fact.Copy = SnapOf(&made, xattrs)
	if what := allow.Differs(&r.Fact.Source, &r.Fact.Copy, r.Xattrs, xattrs); what != "" {
		return &DiffError{Path: ".", What: what}
	}
	if err := spool.Put(r.Ord, &r.Fact); err != nil {
		return err
	}
	if err := spool.Flush(); err != nil {
		return err
	}
	return p.Dir.Sync()
}

// SetDir gives a directory of the part that was made again the owner, mode, attributes
// and times of the folder's.
func (p *Part) SetDir(r *Record, allow *Allow) error {
	d, err := p.Dir.Beneath(r.Path)
	if err != nil {
		return err
	}
	defer d.Release()
	_, err = allow.setDir(d, &r.Fact.Source, r.Xattrs, r.Fact.Source.Mtime, false)
	return err
}

// Around opens the directory around an entry of the part; what is missing on the way there is
// made, private to this account.
func (p *Part) Around(at string) (*handle.Dir, error) {
	dir, _, err := p.Dir.Parent(at)
	if !handle.Missing(err) {
		return dir, err
	}
	up := path.Dir(at)
	above, err := p.Around(up)
	if err != nil {
		return nil, err
	}
	defer above.Release()
	if err := above.Mkdir(path.Base(up), 0o700); err != nil {
		return nil, err
	}
	return above.Beneath(path.Base(up))
}

// has reports whether the entry that was made, which is no directory, stands in the part.
func (p *Part) has(at string, made *Snap) (bool, error) {
	dir, _, st, err := standing(p.Dir, at)
	if dir == nil || err != nil {
		return false, err
	}
	defer dir.Release()
	return st.Type() == made.Mode&0o170000 && (made.Ino == 0 || st.Ino == made.Ino) &&
		(!st.IsRegular() || st.Size == made.Size), nil
}

// A finder looks at entries below a directory whose paths come in the one order, so that
// most lie where the one before lay.
type finder struct {
	root, dir *handle.Dir
	at        string // the path of dir
}

// standing is [standing] with a directory that stays the finder's.
func (f *finder) standing(rel string) (dir *handle.Dir, name string, st *handle.Stat, err error) {
	if f.dir == nil || path.Dir(rel) != f.at {
		f.close()
		if dir, name, st, err = standing(f.root, rel); dir != nil {
			f.dir, f.at = dir, path.Dir(rel)
		}
		return dir, name, st, err
	}
	st = &handle.Stat{}
	if err = f.dir.StatInto(path.Base(rel), st); err == nil {
		return f.dir, path.Base(rel), st, nil
	}
	if handle.Absent(err) {
		err = nil
	}
	return nil, path.Base(rel), nil, err
}

func (f *finder) close() {
	f.dir.Release()
	f.dir = nil
}

// standing looks at what stands at a relative path and opens the directory
// around it; dir is nil if nothing is there, or after an error.
func standing(root *handle.Dir, rel string) (dir *handle.Dir, name string, st *handle.Stat, err error) {
	dir, name, err = root.Parent(rel)
	if err == nil {
		st = &handle.Stat{}
		if err = dir.StatInto(name, st); err == nil {
			return dir, name, st, nil
		}
		dir.Release()
	}
	// A link where a directory was is no way to the entry either.
	if handle.Absent(err) {
		err = nil
	}
	return nil, name, nil, err
}
