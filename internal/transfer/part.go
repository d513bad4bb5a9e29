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

// Discard takes the part away: what the spools say this run made. If
// anything else is in it, the part stays, and left says so.
func Discard(parent *handle.Dir, name string, spools ...*Spool) (left bool, err error) {
	r := &remover{still: func(r *Record, st *handle.Stat) bool {
		return r.Fact.Copy.Ino == 0 || r.Fact.Copy.Ino == st.Ino
	}}
	return r.all(parent, name, Read(spools...))
}

// Sweep takes away what of the spool stands in the part and ours says is the
// run's own. If anything else is in it, the part stays, and left says so.
func Sweep(parent *handle.Dir, name string, spool *Spool, ours func(*Record) bool) (left bool, err error) {
	r := &remover{still: func(r *Record, st *handle.Stat) bool { return st.Type() == r.Type() && ours(r) }}
	return r.all(parent, name, Read(spool))
}

// Erase takes a held original away, entry by entry: those that are still as
// the spool has them on the given side and for which may says so. Left
// reports that something stays.
func Erase(parent *handle.Dir, name string, side Side, spool *Spool, may func(*Record) bool) (left bool, err error) {
	r := &remover{still: func(r *Record, st *handle.Stat) bool {
		was, now := *r.Fact.Of(side), SnapOf(st, nil)
		was.Attrs = now.Attrs // a change of attributes shows in the ctime
		return may(r) && (st.IsDir() || was.Still(&now, false))
	}, mayRoot: may}
	return r.all(parent, name, Read(spool))
}

// A remover takes recorded entries away, and of these only what still is
// what was recorded.
type remover struct {
	dir   *handle.Dir
	find  finder // below it
	still func(*Record, *handle.Stat) bool

	mayRoot func(*Record) bool // whether the folder itself may go; nil: once it is empty
	keep    bool               // it may not
}

func (p *remover) all(parent *handle.Dir, name string, c *Cursor) (left bool, err error) {
	dir, err := parent.Beneath(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return true, err
	}
	defer dir.Release()
	p.dir, p.find = dir, finder{root: dir}
	defer p.find.close()
	p.unlock(".")
	if err := p.empty(c); err != nil {
		return true, err
	}
	if p.keep {
		return true, nil
	}
	err = parent.Rmdir(name)
	if errors.Is(err, fs.ErrExist) {
		return true, nil
	}
	return err != nil, err
}

// empty removes recorded entries, directories after what they hold; memory
// is that of one path's depth.
func (p *remover) empty(c *Cursor) error {
	var open []Record
	closeDown := func(depth int) error {
		for len(open) > depth {
			r := open[len(open)-1]
			open = open[:len(open)-1]
			if err := p.take(&r); err != nil {
				return err
			}
		}
		return nil
	}
	for ; c.Peek() != nil; c.Next() {
		r := *c.Peek()
		if r.Depth == 0 {
			p.keep = p.mayRoot != nil && !p.mayRoot(&r)
			continue
		}
		depth := 0
		for depth < len(open) && handle.Within(r.Path, open[depth].Path) {
			depth++
		}
		if err := closeDown(depth); err != nil {
			return err
		}
		dir, name, st, err := p.find.standing(r.Path)
		switch {
		case err != nil:
			return err
		case dir == nil: // it is gone already
		case st.IsDir():
			p.unlock(r.Path)
			open = append(open, r)
		case p.still(&r, st):
			if err := dir.Unlink(name); err != nil {
				return err
			}
		}
	}
	return closeDown(0)
}

// unlock opens a directory of ours up that was copied without the right to
// write in it; if that fails, the removal says why. An administrator needs no
// rights there.
func (p *remover) unlock(rel string) {
	if d, err := p.dir.Beneath(rel); err == nil {
		if d.Access(".", handle.MayWrite|handle.MayEnter) != nil {
			_ = d.Chmod(0o700)
		}
		d.Release()
	}
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

// take removes one recorded directory if it is still what was made and nothing is in it, and
// leaves everything else where it is.
func (p *remover) take(r *Record) error {
	dir, name, st, err := p.find.standing(r.Path)
	if dir == nil || !st.IsDir() || !p.still(r, st) {
		return err
	}
	if err = dir.Rmdir(name); errors.Is(err, fs.ErrExist) {
		return nil
	}
	return err
}
