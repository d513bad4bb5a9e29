package transfer

import (
	"errors"
	"io/fs"

	"nexlin/internal/handle"
)

// Discard takes the part away: what the spools say this run made. If
// anything else is in it, the part stays, and left says so.
func Discard(parent *handle.Dir, name string, spools ...*Spool) (left bool, err error) {
	r := &remover{still: func(r *Record, st *handle.Stat) bool {
		// What type an entry had that was never copied is not known.
		return (r.Type() == 0 || r.Type() == st.Type()) && (r.Fact.Copy.Ino == 0 || r.Fact.Copy.Ino == st.Ino)
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
		return may(r) && st.Type() == r.Type() && (st.IsDir() || was.Still(&now, false))
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
