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
	"nexlin/internal/hardlink"
	"nexlin/internal/inventory"
)

// A Job is one pass over a source.
type Job struct {
	Source   *handle.Dir
	Part     *Part
	Old      []*Spool        // what is known from before, newest first; may be empty
	New      *Spool          // what this pass writes
	Scratch  string          // directory for a table that outgrows memory
	Writing  map[string]bool // relative paths that some program may write to: compared by content
	TimeStep time.Duration   // of the source's file system; [LeastStep] comes on top of it
	Workers  int             // 0 means twice the processors
	Progress Progress        // may be nil
	Digest   Digest          // empty means SHA256
	Allow    Allow           // what the target can't keep
	// Reread has what is carried over read back again by the next Verify: for
	// a run that goes on after a stop in which the drive was away.
	Reread bool
	// Doubt has what would be carried over looked for in the part: for a run that goes
	// on although its undo had begun to empty it.
	Doubt bool
	// Overlap has what is copied flushed and read back while the rest is still
	// being copied: faster, unless the target has to move a head for it.
	Overlap bool
	// Fuse says that the target lies behind FUSE, where flushing the whole file
	// system proves nothing, so every file and directory is flushed by itself.
	Fuse bool
	// Unstable says that inode numbers of the target change with every mount, so none is
	// recorded; SourceUnstable says so of the source.
	Unstable, SourceUnstable bool
	// Bare copies the folder itself and nothing in it.
	Bare bool
	// Lender is a held original that the copy may be made from; nil if there
	// is none.
	Lender *Lender
	// Lent says that directories of the part were taken from the lender as they are, see
	// [Lender.TakeDirs]. Nothing is written in them, and they are looked at like all else.
	Lent bool
	// Rewrite gives the text that a symbolic link gets in the copy, and the
	// one it is to have again some day; empty where that is its own. It is
	// called in the order of the walk. Nil keeps every text.
	Rewrite func(e *inventory.Entry) (made, origin string)
}

// flushesEach says that every file and directory is flushed by itself: behind
// FUSE, and where the system can't flush a whole file system.
func (j *Job) flushesEach() bool { return j.Fuse || !handle.FlushesWhole }

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
	Lent             int64 // files taken from the held original
	Young            int64 // files changed so lately that their times can't tell of a further change
	lent, young      atomic.Int64
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
// *SpoolError, handle.ErrMount, [ErrNotAsLent], or that of ctx. After any of them the new
// spool holds what was done, and the next pass goes on from it.
func Pass(ctx context.Context, j Job) (*Tally, error) {
	p := &pass{Job: j, tally: &Tally{}, old: Read(j.Old...), links: hardlink.New(j.Scratch),
		flying: map[handle.FileID]chan struct{}{}}
	if p.Workers == 0 {
		p.Workers = 2 * runtime.GOMAXPROCS(0)
	}
	group, ctx := errgroup.WithContext(ctx)
	p.ctx = ctx
	if p.Lender != nil {
		p.lending = &lending{Lender: p.Lender, cur: Read(p.Lender.Spool)}
	}
	p.tasks = make(chan []task, p.Workers)
	var copying sync.WaitGroup
	copying.Add(p.Workers)
	back := p.readBacklog(group, &copying)
	for range p.Workers {
		group.Go(func() error { defer copying.Done(); return newCopier(p).work() })
	}
	group.Go(func() error {
		defer close(p.tasks)
		return p.walk()
	})
	err := errors.Join(group.Wait(), p.links.Close())
	p.open.releaseAll()
	p.tally.Entries, p.tally.Lent, p.tally.Young = p.New.count, p.tally.lent.Load(), p.tally.young.Load()
	p.tally.ReadBack, p.tally.FromDevice = p.tally.readBack.Load(), p.tally.device.Load()
	if back != nil {
		back.open.releaseAll()
		p.tally.ReadBack += back.tally.readBack.Load()
		p.tally.FromDevice += back.tally.device.Load()
		if err == nil && back.first != nil {
			err = back.first
		}
	}
	return p.tally, errors.Join(err, p.New.Flush())
}

type pass struct {
	Job
	ctx   context.Context
	tally *Tally
	old   *Cursor
	tasks chan []task
	stack []*node // directories the walk is in
	open  openDirs

	group      []task // not handed to the workers yet
	groupBytes int64

	backlog *backlog // nil without Overlap
	lending *lending // nil without a Lender

	links  *hardlink.Table // of this walk
	mu     sync.Mutex
	flying map[handle.FileID]chan struct{} // hard-linked files that a worker has or will have; closed when copied
}

type task struct {
	node *node
	name string // in the source
	as   string // in the copy
	path string
	ord  int64
	fact Fact // of the pass before; to be compared by content if Recent is set
	seen inventory.Entry
	back *largeFile // its segments on their way back; nil for most
	lent *Fact      // of the same file in the held original; nil if it has none
	ino  uint64     // of that, see lentIno

	from    *handle.File // the source, while it is copied
	in      *handle.File // what it is copied from first, once it is open: the source, or the held file
	st      handle.Stat  // of that
	content []byte       // of that; nil if it was not read together with others
	device  bool         // the content came from the device for certain
}

func (p *pass) walk() error {
	if err := inventory.Walk(p.ctx, p.Source, p); err != nil {
		return err
	}
	if err := p.old.Rest(p.dropped); err != nil {
		return err
	}
	return p.hand()
}

// Visit implements [inventory.Visitor].
func (p *pass) Visit(e *inventory.Entry) (bool, error) {
	old, err := p.match(e)
	if err != nil {
		return false, err
	}
	if old.sureOf(e) {
		e.Xattrs = old.Xattrs
	} else if err := e.ReadXattrs(); errors.Is(err, inventory.ErrGone) && old != nil {
		return false, p.dropped(old)
	} else if err != nil {
		return false, err
	}
	rec := p.record(e)
	firstOrd := p.New.count
	if !e.Stat.IsDir() && e.Stat.Nlink > 1 && !p.Allow.Links {
		var first string
		if first, firstOrd, err = p.links.Add(hardlink.ID(e.Stat.ID()), e.Stat.Nlink, e.Path, p.New.count); err != nil {
			return false, err
		}
		if first != e.Path {
			rec.Same = first
		}
	}
	if err := p.New.Append(&rec); err != nil {
		return false, err
	}
	if e.Stat.IsRegular() {
		p.tally.Files++
		if rec.Same == "" {
			p.tally.Bytes += e.Stat.Size
		}
	}
	switch {
	case rec.Same != "":
		return false, p.another(e, &rec, old.fact(), firstOrd)
	case e.Stat.IsDir():
		return !p.Bare, p.enter(e, rec.Ord, old.fact())
	case e.Stat.IsRegular():
		return false, p.file(e, rec.Ord, old.fact())
	}
	return false, p.special(e, &rec, old)
}

// record is what the spool says of an entry of the source, its fact left aside.
func (j *Job) record(e *inventory.Entry) Record {
	rec := Record{Path: e.Path, Depth: e.Depth, Link: e.Link, Xattrs: e.Xattrs}
	if e.Stat.IsDevice() {
		rec.Rdev = e.Stat.Rdev
	}
	if e.Stat.IsSymlink() && j.Rewrite != nil {
		rec.Made, rec.Origin = j.Rewrite(e)
	}
	return rec
}

// sureOf reports whether the stat of a regular file alone says that its
// attributes are still the recorded ones: a change of them moves the ctime,
// and r's was not so young that a second change could have the same.
func (r *Record) sureOf(e *inventory.Entry) bool {
	return r != nil && e.Stat.IsRegular() && r.Fact.Flags&Copied != 0 && r.Fact.Flags&(Again|Recent) == 0 &&
		r.Fact.Source.sameStat(&e.Stat)
}

func (r *Record) fact() *Fact {
	if r == nil {
		return nil
	}
	return &r.Fact
}

// match steps the old spool up to e: what it passes is gone from the source
// and leaves the part. It returns what was known of e, nil if nothing of
// the same type.
func (p *pass) match(e *inventory.Entry) (*Record, error) {
	rec, err := p.old.To(e.Path, p.dropped)
	if rec == nil || err != nil {
		return nil, err
	}
	if !p.Lent {
		rec.Fact.Flags &^= Lent
	}
	if rec.Fact.Flags != 0 && rec.Fact.Source.Mode&handle.TypeMask != e.Stat.Type() {
		return nil, p.dropped(rec)
	}
	return rec, nil
}

// dropped takes an entry that the old spool's cursor has passed, and what lies below it,
// out of the part.
func (p *pass) dropped(r *Record) error {
	if p.Lent && r.Fact.Flags&Lent != 0 {
		return ErrNotAsLent
	}
	lent := p.lending.lentIno(r.Path)
	if err := p.dropBelow(r.Path); err != nil {
		return err
	}
	if r.Path == "." {
		return nil
	}
	p.tally.changed(r.Path)
	if err := p.openAround(r.Path); err != nil {
		return err
	}
	return p.Part.remove(r, lent)
}

// dropBelow drops what the old spool has next, as far as it lies in a directory.
func (p *pass) dropBelow(dir string) error {
	for below := p.old.Peek(); below != nil && handle.Within(below.Path, dir); below = p.old.Peek() {
		r := *below
		p.old.Next()
		if err := p.dropped(&r); err != nil {
			return err
		}
	}
	return nil
}

// remove takes one recorded entry out of the part. What stands there and
// is not what was recorded is put aside; the file with the inode number lent,
// if that is not 0, goes back to the held original it was taken from.
func (p *Part) remove(r *Record, lent uint64) error {
	dir, name, st, err := standing(p.Dir, r.Path)
	if dir == nil {
		return err
	}
	defer dir.Release()
	if lent != 0 && st.Ino == lent && st.IsRegular() {
		if err := p.Lender.giveBack(dir, name, r.Path); !errors.Is(err, fs.ErrExist) &&
			!errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return p.moveOut(dir, name, r.Path)
	}
	made := &r.Fact.Copy
	if made.Ino != 0 && made.Ino != st.Ino {
		return p.moveOut(dir, name, r.Path)
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
		return p.moveOut(dir, name, r.Path)
	}
	return err
}

func (p *pass) file(e *inventory.Entry, ord int64, old *Fact) error {
	now := p.source(&e.Stat, e.Xattrs)
	t := task{node: p.stack[e.Depth-1], name: e.Name, as: e.Name, path: e.Path, ord: ord, seen: *e}
	same := old != nil && old.Flags&Copied != 0 && old.Flags&Again == 0 && old.Source.Unchanged(&now, false)
	if same && p.doubts(old) {
		var err error
		if same, err = p.Part.has(e.Path, &old.Copy); err != nil {
			return err
		}
	}
	if same {
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
	if p.lending != nil {
		t.lent, t.ino = p.lending.same(p.lending.at(e.Path), &now), p.lending.lentIno(e.Path)
	}
	if err := p.openCopy(t.node); err != nil {
		return err
	}
	t.node.count.Add(1)
	p.takeOff(&e.Stat)
	p.group = append(p.group, t)
	p.groupBytes += e.Stat.Size
	if len(p.group) >= groupFiles || p.groupBytes >= groupBytes {
		return p.hand()
	}
	return nil
}

const (
	groupFiles = 16
	groupBytes = 1 << 20
)

// hand gives the workers the files gathered so far; their names are written
// before, so that what a kill leaves half made is known.
func (p *pass) hand() error {
	if err := p.New.FlushNames(); err != nil {
		return err
	}
	if len(p.group) == 0 {
		return nil
	}
	group := p.group
	p.group, p.groupBytes = taskLots.empty(), 0
	return send(p.ctx, p.tasks, group)
}

// lots are groups of files that go from hand to hand, each emptied and used again.
type lots[T any] struct{ sync.Pool }

func (l *lots[T]) empty() []T {
	if used, ok := l.Get().(*[]T); ok {
		return *used
	}
	return make([]T, 0, groupFiles)
}

// used takes a group back that nobody looks at any more.
func (l *lots[T]) used(group []T) {
	clear(group)
	group = group[:0]
	l.Put(&group)
}

var (
	taskLots lots[task]
	readLots lots[readTask]
)

// send puts a value into a channel unless the work ends before.
func send[T any](ctx context.Context, to chan<- T, v T) error {
	select {
	case to <- v:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// keep carries a fact over from the pass before.
func (p *pass) keep(ord int64, old *Fact, size int64) error {
	if p.Reread {
		old.Flags &^= Verified
	}
	p.advance(1, size)
	return p.New.Put(ord, old)
}

// doubts says that what the spool before has is looked for in the part.
func (p *pass) doubts(old *Fact) bool { return p.Doubt && old.Flags&Lent == 0 }

// clear makes room for an entry that is copied again.
func (p *pass) clear(e *inventory.Entry, old *Fact) error {
	if old.Flags&Lent != 0 {
		return ErrNotAsLent
	}
	if err := p.openAround(e.Path); err != nil {
		return err
	}
	r := Record{Path: e.Path, Fact: *old}
	return p.Part.remove(&r, p.lending.lentIno(e.Path))
}

func (c *copier) work() error {
	defer c.held.close()
	for group := range c.tasks {
		err := c.together(group)
		for i := range group {
			if group[i].in != nil {
				_ = group[i].in.Close() // of what a failure left; it was only read
			}
		}
		if err != nil {
			return err
		}
		taskLots.used(group)
	}
	return nil
}

// carry copies a file and records it.
func (c *copier) carry(t *task) error {
	if err := c.ctx.Err(); err != nil {
		return err
	}
	f, err := c.one(t)
	if f != nil && f.Flags&Recent != 0 {
		c.tally.young.Add(1)
	}
	if err == nil {
		err = c.New.Put(t.ord, f)
	}
	if err == nil {
		err = c.backlog.copied(c.ctx, t, f)
	}
	if err == nil {
		err = c.done(t.node)
	}
	if err == nil {
		c.landed(&t.seen.Stat)
	}
	return err
}

// one copies a file, or finds by its content that the copy still holds.
func (c *copier) one(t *task) (*Fact, error) {
	if t.fact.Flags&Recent != 0 {
		same, err := c.stillEqual(t)
		if err != nil || same {
			return &t.fact, err
		}
		r := Record{Path: t.path, Fact: t.fact}
		if err := c.Part.remove(&r, t.ino); err != nil {
			return nil, err
		}
	}
	var f *Fact
	var err error
	if t.lent != nil {
		in := t.in
		t.in = nil
		f, err = c.borrow(t, in)
		if in != nil {
			_ = in.Close() // only read
		}
		t.content = nil // of the held file
	}
	if f == nil && err == nil {
		f, err = c.file(t)
	}
	if err != nil {
		return nil, err
	}
	c.tally.changed(t.path)
	c.tally.mu.Lock()
	c.tally.CopiedFiles++
	c.tally.CopiedBytes += f.Source.Size
	c.tally.mu.Unlock()
	return f, nil
}
