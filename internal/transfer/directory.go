package transfer

import (
	"errors"
	"io/fs"
	"sync/atomic"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A node is a directory being copied. It is finished by whoever drops the
// last count: the walk holds one, every child in work holds one.
type node struct {
	src, dst *handle.Dir
	parent   *node
	ord      int64
	path     string
	before   Snap
	xattrs   []handle.Xattr
	atime    handle.Time
	fresh    bool // made by this pass
	count    atomic.Int32
}

func (p *pass) enter(e *inventory.Entry, ord int64, old *Fact) error {
	n := &node{
		src: p.open.retain(e.Self), ord: ord, path: e.Path,
		before: p.source(&e.Stat, e.Xattrs), xattrs: e.Xattrs, atime: e.Stat.Atime,
	}
	n.count.Store(1)
	if e.Depth == 0 {
		n.dst = p.open.retain(p.Part.Dir)
	} else {
		n.parent = p.stack[e.Depth-1]
		n.parent.count.Add(1)
		n.fresh = old == nil
		if err := p.New.FlushNames(); err != nil {
			return err
		}
		dst, err := p.directory(n.parent.dst, e, old)
		if err != nil {
			return err
		}
		n.dst = p.open.own(dst)
	}
	p.stack = append(p.stack[:e.Depth], n)
	if old == nil || !old.Source.Unchanged(&n.before, e.Depth == 0) {
		p.tally.changed(e.Path)
	}
	return nil
}

// directory opens the copy of a directory and makes it if it is not there.
func (p *pass) directory(parent *handle.Dir, e *inventory.Entry, old *Fact) (*handle.Dir, error) {
	err := parent.Mkdir(e.Name, 0o700)
	if errors.Is(err, fs.ErrExist) && old == nil {
		if err = p.Part.moveOut(parent, e.Name, e.Path); err == nil {
			err = parent.Mkdir(e.Name, 0o700)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	d, err := parent.Beneath(e.Name)
	if err != nil && old != nil && old.Flags == 0 {
		// A run stopped while it made something else under this name.
		if err = parent.Unlink(e.Name); err == nil {
			err = parent.Mkdir(e.Name, 0o700)
		}
		if err == nil {
			d, err = parent.Beneath(e.Name)
		}
	}
	if err != nil {
		return nil, err
	}
	if old != nil {
		// It has its last metadata already. What is made in it inherits nothing, and
		// where there is no right to write in it, it is opened up again.
		err = d.DropInherited()
		if err == nil && !p.Allow.Modes {
			err = d.Chmod(0o700)
		}
		if err != nil {
			d.Release()
			return nil, err
		}
	}
	return d, nil
}

// Leave implements [inventory.Visitor]. What was known below the directory and was
// not met is gone, and leaves the part before the directory gets its times.
func (p *pass) Leave(e *inventory.Entry) error {
	if err := p.dropBelow(e.Path); err != nil {
		return err
	}
	n := p.stack[e.Depth]
	p.stack = p.stack[:e.Depth]
	return p.done(n)
}

// done drops one count of n and finishes it with the last.
func (p *pass) done(n *node) error {
	for n != nil {
		if n.count.Add(-1) > 0 {
			return nil
		}
		f := Fact{Flags: Copied | Verified, Source: n.before}
		var err error
		// The part itself stays private until it is in place: Finish.
		if n.parent != nil {
			var made handle.Stat
			if made, err = p.Allow.setDir(n.dst, &n.before, n.xattrs, n.atime, n.fresh); err == nil {
				f.Copy = p.made(&made, n.xattrs)
				if p.flushesEach() {
					err = n.dst.Sync()
				}
			}
		}
		if err == nil {
			err = p.New.Put(n.ord, &f)
		}
		p.open.release(n.src)
		p.open.release(n.dst)
		if err != nil {
			return err
		}
		n = n.parent
	}
	return nil
}
