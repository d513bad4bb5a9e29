package transfer

import (
	"context"
	"errors"
	"io/fs"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A Job is one pass over a source.
type Job struct {
	Source   *handle.Dir
	Part     *Part
	Old      []*Spool        // what is known from before, newest first; may be empty
	New      *Spool          // what this pass writes
	Writing  map[string]bool // relative paths that some program may write to: compared by digest
	TimeStep time.Duration   // of the source's file system; 0 means at least 20 ms
	Workers  int             // 0 means twice the processors
	Progress Progress        // may be nil
	// Reread has what is carried over read back again by the next Verify: a
	// run that goes on after a stop trusts nothing that it did not see itself.
	Reread bool
}

// A Tally is what a pass or a verification handled.
type Tally struct {
	Files, Bytes     int64 // regular files in the folder, and their sizes
	Entries          int64
	CopiedFiles      int64
	CopiedBytes      int64
	Changed          int64    // entries copied, made again or removed
	ChangedPaths     []string // the first of them
	ReadBack         int64    // files read back
	FromDevice       int64    // of these, read with nothing left in the page cache
	Aside            []string // entries of others, put aside
	mu               sync.Mutex
	readBack, device atomic.Int64
}

const keptPaths = 100

func (t *Tally) changed(path string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.Changed++
	if len(t.ChangedPaths) < keptPaths {
		t.ChangedPaths = append(t.ChangedPaths, path)
	}
}

// Pass brings the part in line with the source as the walk finds it and
// writes the new spool. When it returns without an error, every entry of
// the new spool is Copied or marked Again.
//
// Errors: *fs.PathError of the entry that could not be read or written,
// *SpoolError, ErrNotKept, handle.ErrMount, or that of ctx. After any of
// them the new spool holds what was done, and the next pass goes on from it.
func Pass(ctx context.Context, j Job) (*Tally, error) {
	p := &pass{Job: j, tally: &Tally{}, old: Read(j.Old...)}
	if p.Workers == 0 {
		p.Workers = 2 * runtime.GOMAXPROCS(0)
	}
	group, ctx := errgroup.WithContext(ctx)
	p.ctx = ctx
	p.tasks = make(chan task, 64)
	for range p.Workers {
		group.Go(func() error { return p.work() })
	}
	group.Go(func() error {
		defer close(p.tasks)
		return p.walk()
	})
	err := group.Wait()
	p.tally.Entries = p.New.count
	return p.tally, err
}

type pass struct {
	Job
	ctx   context.Context
	tally *Tally
	old   *Cursor
	tasks chan task
	stack []*node // directories the walk is in
}

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
	count    atomic.Int32
}

type task struct {
	node *node
	name string // in the source
	as   string // in the copy
	path string
	ord  int64
	fact Fact // of the pass before; to be compared by digest if Recent is set
	seen inventory.Entry
}

func (p *pass) walk() error {
	if err := inventory.Walk(p.ctx, p.Source, p); err != nil {
		return err
	}
	for p.old.Peek() != nil {
		if err := p.drop(); err != nil {
			return err
		}
	}
	return nil
}

// Visit implements [inventory.Visitor].
func (p *pass) Visit(e *inventory.Entry) (bool, error) {
	old, err := p.match(e)
	if err != nil {
		return false, err
	}
	ord, err := p.New.Append(e.Depth, e.Name, e.Link, e.Xattrs)
	if err != nil {
		return false, err
	}
	switch {
	case e.Stat.IsDir():
		return true, p.enter(e, ord, old)
	case e.Stat.IsRegular():
		p.tally.Files++
		p.tally.Bytes += e.Stat.Size
		return false, p.file(e, ord, old)
	case e.Stat.IsSymlink():
		return false, p.symlink(e, ord, old)
	}
	return false, &fs.PathError{Op: "copy", Path: e.Dir.Join(e.Name), Err: ErrNotKept}
}

// match steps the old spool up to e: what it passes is gone from the source
// and leaves the part. It returns what was known of e, nil if nothing of
// the same type.
func (p *pass) match(e *inventory.Entry) (*Fact, error) {
	for {
		r := p.old.Peek()
		if r == nil || handle.Compare(r.Path, e.Path) > 0 {
			return nil, nil
		}
		if r.Path != e.Path {
			if err := p.drop(); err != nil {
				return nil, err
			}
			continue
		}
		known := r.Fact.Flags != 0
		if known && r.Fact.Source.Mode&0o170000 != e.Stat.Type() {
			return nil, p.drop()
		}
		f := r.Fact
		p.old.Next()
		return &f, nil
	}
}

// drop takes the old spool's current entry, and what lies below it, out of
// the part.
func (p *pass) drop() error {
	r := *p.old.Peek()
	p.old.Next()
	for below := p.old.Peek(); below != nil && handle.Within(below.Path, r.Path); below = p.old.Peek() {
		if err := p.drop(); err != nil {
			return err
		}
	}
	if r.Path == "." {
		return nil
	}
	p.tally.changed(r.Path)
	return p.Part.remove(&r)
}

// remove takes one recorded entry out of the part. What stands there and
// is not what was recorded is put aside.
func (p *Part) remove(r *Record) error {
	dir, name, st, err := standing(p.Dir, r.Path)
	if dir == nil {
		return err
	}
	defer dir.Release()
	made := &r.Fact.Copy
	if made.Ino != 0 && made.Ino != st.Ino {
		return p.putAside(dir, name, r.Path)
	}
	take := dir.Unlink
	if st.IsDir() {
		take = dir.Rmdir
	}
	err = take(name)
	if errors.Is(err, fs.ErrPermission) {
		// The directory was copied with no right to write in it.
		if err = dir.Chmod(0o700); err == nil {
			err = take(name)
		}
	}
	if errors.Is(err, fs.ErrExist) { // ENOTEMPTY: somebody else's entries are in it
		return p.putAside(dir, name, r.Path)
	}
	return err
}

func (p *pass) enter(e *inventory.Entry, ord int64, old *Fact) error {
	n := &node{
		src: e.Self.Retain(), ord: ord, path: e.Path,
		before: SnapOf(&e.Stat, e.Xattrs), xattrs: e.Xattrs, atime: e.Stat.Atime,
	}
	n.count.Store(1)
	if e.Depth == 0 {
		n.dst = p.Part.Dir.Retain()
	} else {
		n.parent = p.stack[e.Depth-1]
		n.parent.count.Add(1)
		dst, err := p.directory(n.parent.dst, e, old)
		if err != nil {
			return err
		}
		n.dst = dst
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
		if err = p.Part.putAside(parent, e.Name, e.Path); err == nil {
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
		// A directory copied with no right to write in it is opened up again.
		if err := d.Chmod(0o700); err != nil {
			d.Release()
			return nil, err
		}
	}
	return d, nil
}

// Leave implements [inventory.Visitor].
func (p *pass) Leave(e *inventory.Entry) error {
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
			if err = setDir(n.dst, &n.before, n.xattrs, n.atime); err == nil {
				f.Copy, err = dirSnap(n.dst)
			}
		}
		if err == nil {
			err = p.New.Put(n.ord, &f)
		}
		n.src.Release()
		n.dst.Release()
		if err != nil {
			return err
		}
		n = n.parent
	}
	return nil
}

func (p *pass) file(e *inventory.Entry, ord int64, old *Fact) error {
	if e.Stat.Nlink > 1 {
		return &fs.PathError{Op: "copy", Path: e.Dir.Join(e.Name), Err: ErrNotKept}
	}
	now := SnapOf(&e.Stat, e.Xattrs)
	t := task{node: p.stack[e.Depth-1], name: e.Name, as: e.Name, path: e.Path, ord: ord, seen: *e}
	if old != nil && old.Flags&Copied != 0 && old.Flags&Again == 0 && old.Source.Unchanged(&now, false) {
		if old.Flags&Recent == 0 && !p.Writing[e.Path] {
			return p.keep(ord, old, e.Stat.Size)
		}
		t.fact = *old
		t.fact.Flags |= Recent
	} else if old != nil {
		if err := p.clear(e, old); err != nil {
			return err
		}
	}
	t.node.count.Add(1)
	select {
	case p.tasks <- t:
		return nil
	case <-p.ctx.Done():
		return p.ctx.Err()
	}
}

// keep carries a fact over from the pass before.
func (p *pass) keep(ord int64, old *Fact, size int64) error {
	if p.Reread {
		old.Flags &^= Verified
	}
	if p.Progress != nil {
		p.Progress.Advance(1, size)
	}
	return p.New.Put(ord, old)
}

// clear makes room for an entry that is copied again.
func (p *pass) clear(e *inventory.Entry, old *Fact) error {
	r := Record{Path: e.Path, Fact: *old}
	return p.Part.remove(&r)
}

func (p *pass) symlink(e *inventory.Entry, ord int64, old *Fact) error {
	now := SnapOf(&e.Stat, e.Xattrs)
	if old != nil && old.Flags&Copied != 0 && old.Source.Unchanged(&now, false) {
		return p.New.Put(ord, old)
	}
	if old != nil {
		if err := p.clear(e, old); err != nil {
			return err
		}
	}
	p.tally.changed(e.Path)
	dst := p.stack[e.Depth-1].dst
	err := dst.Symlink(e.Link, e.Name)
	if errors.Is(err, fs.ErrExist) {
		if err = p.Part.putAside(dst, e.Name, e.Path); err == nil {
			err = dst.Symlink(e.Link, e.Name)
		}
	}
	if err != nil {
		return err
	}
	f := Fact{Flags: Copied | Verified, Source: now}
	if f.Copy, err = setSymlink(dst, e.Name, e); err != nil {
		return err
	}
	return p.New.Put(ord, &f)
}

func (p *pass) work() error {
	for t := range p.tasks {
		if err := p.ctx.Err(); err != nil {
			return err
		}
		f, err := p.one(&t)
		if err == nil {
			err = p.New.Put(t.ord, f)
		}
		if err == nil {
			err = p.done(t.node)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// one copies a file, or finds by its digest that the copy still holds.
func (p *pass) one(t *task) (*Fact, error) {
	if t.fact.Flags&Recent != 0 {
		same, err := p.stillEqual(t)
		if err != nil || same {
			return &t.fact, err
		}
		r := Record{Path: t.path, Fact: t.fact}
		if err := p.Part.remove(&r); err != nil {
			return nil, err
		}
	}
	f, err := p.copyFile(t)
	if err != nil {
		return nil, err
	}
	p.tally.changed(t.path)
	p.tally.mu.Lock()
	p.tally.CopiedFiles++
	p.tally.CopiedBytes += f.Source.Size
	p.tally.mu.Unlock()
	return f, nil
}
