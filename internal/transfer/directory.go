package transfer

import (
	"errors"
	"io/fs"
	"path"
	"sync/atomic"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A node is a directory being copied. It is finished by whoever drops the
// last count: the walk holds one, every child in work holds one.
type node struct {
	src    *handle.Dir
	dst    *handle.Dir // nil as long as nothing in an unchanged one has to change
	parent *node
	old    *Fact // nil if the pass before had no such directory
	ord    int64
	path   string
	before Snap
	xattrs []handle.Xattr
	atime  handle.Time
	fresh  bool // made by this pass
	count  atomic.Int32
}

func (p *pass) enter(e *inventory.Entry, ord int64, old *Fact) error {
	n := &node{
		src: p.open.retain(e.Self), ord: ord, path: e.Path,
		before: p.source(&e.Stat, e.Xattrs), xattrs: e.Xattrs, atime: e.Stat.Atime, fresh: old == nil,
	}
	n.count.Store(1)
	changed := old == nil || !old.Source.Unchanged(&n.before, e.Depth == 0)
	if changed {
		p.tally.changed(e.Path)
	}
	if old != nil {
		known := *old
		n.old = &known
	}
	if e.Depth > 0 {
		n.parent = p.stack[e.Depth-1]
		n.parent.count.Add(1)
	}
	p.stack = append(p.stack[:e.Depth], n)
	if !changed && !p.doubts(old) && e.Depth > 0 && old.Flags&^Lent == Copied|Verified {
		return nil
	}
	return p.openCopy(n)
}

// openCopy opens the copy of a directory that the walk is in, unless it is open.
func (p *pass) openCopy(n *node) error {
	if n.dst != nil {
		return nil
	}
	if n.old != nil && n.old.Flags&Lent != 0 {
		return ErrNotAsLent
	}
	if n.parent == nil {
		n.dst = p.open.retain(p.Part.Dir)
		return nil
	}
	if err := handle.InOrder(p.New.FlushNames, func() error { return p.openCopy(n.parent) }); err != nil {
		return err
	}
	dst, err := p.directory(n.parent.dst, n.path, n.old)
	if err == nil {
		n.dst = p.open.own(dst)
	}
	return err
}

// openAround opens the copy of the directory that holds an entry, if the walk
// is in it: the entry is about to be made or to go, and the directory gets its
// times anew in the end.
func (p *pass) openAround(entry string) error {
	for _, n := range p.stack {
		if n.path == path.Dir(entry) {
			return p.openCopy(n)
		}
	}
	return nil
}

// directory opens the copy of a directory and makes it if it is not there.
func (p *pass) directory(parent *handle.Dir, at string, old *Fact) (*handle.Dir, error) {
	name := path.Base(at)
	err := parent.Mkdir(name, 0o700)
	if errors.Is(err, fs.ErrExist) && old == nil {
		if err = p.Part.moveOut(parent, name, at); err == nil {
			err = parent.Mkdir(name, 0o700)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	d, err := parent.Beneath(name)
	if err != nil && old != nil && old.Flags == 0 {
		// A run stopped while it made something else under this name.
		if err = parent.Unlink(name); err == nil {
			err = parent.Mkdir(name, 0o700)
		}
		if err == nil {
			d, err = parent.Beneath(name)
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
		if n.dst != nil {
			err = n.dst.Created(n.src)
		}
		switch {
		case err != nil:
		case n.dst == nil:
			f.Copy, f.Flags = n.old.Copy, n.old.Flags
		case n.parent != nil: // the part itself stays private until it is in place: Finish
			var made handle.Stat
			if made, err = p.Allow.setDir(n.dst, &n.before, n.xattrs, n.atime, n.fresh); err == nil {
				f.Copy = p.made(&made, n.xattrs)
				if p.flushesEach() {
					err = n.dst.Flush()
				}
			}
		}
		if err == nil {
			err = p.New.Put(n.ord, &f)
		}
		p.open.release(n.src)
		if n.dst != nil {
			p.open.release(n.dst)
		}
		if err != nil {
			return err
		}
		n = n.parent
	}
	return nil
}
