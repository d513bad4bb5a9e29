package inventory

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"nexlin/internal/handle"
)

// Walk visits root and everything below it in the one order. A directory is
// read after it was looked at and not before all that stands before it; that
// goes on a little ahead of the visits, in a goroutine of its own, so a visitor
// that takes something away may still be shown it. An error of a visitor ends
// the walk and is returned as it is, an unreadable directory or entry is a
// *fs.PathError. Where another file system is mounted inside, the error wraps
// handle.ErrMount. root stays the caller's.
func Walk(ctx context.Context, root *handle.Dir, v Visitor) error {
	at := time.Now()
	st, err := root.Self()
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	s := &scout{ctx: ctx, root: st, lots: make(chan *lot, lotsAhead), lot: lots.Get().(*lot)}
	go func() {
		defer close(s.lots)
		// What ends it early, the visitor knows already.
		_ = s.found(root.Retain(), Entry{Path: ".", Name: ".", At: at, Stat: st, Dir: root}, nil)
		_ = s.hand(true)
	}()
	w := walker{v: v}
	defer func() {
		stop()
		w.giveUp(s.lots)
	}()
	for l := range s.lots {
		if err := w.visit(ctx, l); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// How far the scout goes ahead, in steps, open directories and lots of them:
// enough that neither waits for the other at every directory, few enough that
// handles and memory stay few.
const (
	lotSteps  = 128
	lotDirs   = 16
	lotsAhead = 3
	// lotLeast is what is handed on when the visitor has nothing to do.
	lotLeast = 16
)

// A lot is some steps that follow one another.
type lot struct {
	steps  []step
	dirs   int            // among them
	unseen int            // entries to be looked at
	looked sync.WaitGroup // until they are
}

var lots = sync.Pool{New: func() any { return &lot{steps: make([]step, 0, lotSteps)} }}

// look looks at the entries that the scout has not looked at.
func (l *lot) look(root *handle.Stat) {
	for i := range l.steps {
		if st := &l.steps[i]; st.unseen {
			st.err = look(&st.entry, root)
		}
	}
}

// A step is what the walk meets next: an entry, what hinders it, or the end of
// a directory.
type step struct {
	entry  Entry // of a directory, Self is the receiver's to release
	err    error // of looking at the entry, or of reading the directory
	branch *branch
	end    bool // of the branch
	unseen bool // the entry is no directory and not looked at before its lot is on its way
}

// A branch is a directory that is walked.
type branch struct {
	above *branch
	left  atomic.Bool // the visitor does not want what it holds
}

func (b *branch) unwanted() bool {
	for ; b != nil; b = b.above {
		if b.left.Load() {
			return true
		}
	}
	return false
}

// A scout reads directories, in the order in which they will be visited, and has
// their entries looked at.
type scout struct {
	ctx  context.Context
	root handle.Stat
	lots chan *lot
	lot  *lot
}

// What ends the scout's way early; why, the visitor knows already.
var (
	errStop     = errors.New("stopped")
	errUnwanted = errors.New("not wanted")
)

func (s *scout) put(st step) error {
	l := s.lot
	l.steps = append(l.steps, st)
	if st.unseen {
		l.unseen++
	}
	if st.entry.Self != nil {
		l.dirs++
	}
	return s.hand(false)
}

// hand gives the lot to the visitor if it is full, or all is done.
func (s *scout) hand(done bool) error {
	l := s.lot
	enough := len(l.steps) >= lotSteps || l.dirs >= lotDirs || len(l.steps) >= lotLeast && len(s.lots) == 0
	if len(l.steps) == 0 || !done && !enough {
		return nil
	}
	if s.lot = lots.Get().(*lot); l.unseen > lotLeast {
		l.looked.Go(func() { l.look(&s.root) })
	} else {
		l.look(&s.root)
	}
	select {
	case s.lots <- l:
		return nil
	case <-s.ctx.Done():
		s.lots <- l // to be given up
		return errStop
	}
}

// found takes self, an open directory, and goes through what it holds.
func (s *scout) found(self *handle.Dir, e Entry, above *branch) error {
	defer self.Release()
	e.Self = self.Retain()
	b := &branch{above: above}
	if err := s.put(step{entry: e, branch: b}); err != nil {
		return err
	}
	if err := s.children(&e, b); err != nil {
		return err
	}
	return s.put(step{branch: b, end: true})
}

func (s *scout) children(e *Entry, b *branch) error {
	if b.unwanted() {
		return nil
	}
	err := e.Self.EachTyped(func(name string, mayBeDir bool) error {
		if b.unwanted() {
			return errUnwanted
		}
		c := Entry{Path: join(e.Path, name), Name: name, Depth: e.Depth + 1, Dir: e.Self}
		if !mayBeDir {
			return s.put(step{entry: c, branch: b, unseen: true})
		}
		return s.child(c, b)
	})
	switch {
	case err == nil, errors.Is(err, errUnwanted):
		return nil
	case errors.Is(err, errStop):
		return err
	case e.Depth > 0 && gone(err): // a directory that was removed holds nothing more
		return nil
	}
	return s.put(step{err: err, branch: b})
}

// child goes on with what may be a directory.
func (s *scout) child(c Entry, b *branch) error {
	err := look(&c, &s.root)
	if err == nil && c.Stat.IsDir() {
		var self *handle.Dir
		if self, err = c.Dir.Sub(c.Name); err == nil {
			// What was opened counts, not what was looked at before.
			if c.Stat, err = self.Self(); err == nil {
				return s.found(self, c, b)
			}
			self.Release()
		}
	}
	return s.put(step{entry: c, err: err, branch: b})
}

// look fills in stat and link text of the entry called e.Name in e.Dir.
func look(e *Entry, root *handle.Stat) error {
	e.At = time.Now()
	err := e.Dir.StatInto(e.Name, &e.Stat)
	if err == nil && e.Stat.IsSymlink() {
		e.Link, err = e.Dir.Readlink(e.Name)
	}
	if err == nil && e.Stat.Elsewhere(root) {
		err = mountError(e.Dir.Join(e.Name))
	}
	return err
}

// A walker shows a visitor what the scout has found.
type walker struct {
	v    Visitor
	open []directory // that the walk is in
	skip *branch     // what it holds is passed over, up to its end
	rest []*lot      // of which not all was shown
}

type directory struct {
	entry Entry
	gone  bool // it was not shown, or the visitor says that it is gone: it is not left either
}

// visit shows the steps of a lot in their order.
func (w *walker) visit(ctx context.Context, l *lot) error {
	l.looked.Wait()
	for i := range l.steps {
		err := ctx.Err()
		if err == nil {
			err = w.step(&l.steps[i])
		}
		if err != nil {
			w.rest = append(w.rest, l)
			return err
		}
	}
	clear(l.steps)
	l.steps, l.dirs, l.unseen = l.steps[:0], 0, 0
	lots.Put(l)
	return nil
}

// giveUp releases what is open once nobody looks through it any more.
func (w *walker) giveUp(lots <-chan *lot) {
	for l := range lots {
		w.rest = append(w.rest, l)
	}
	for _, l := range w.rest {
		l.looked.Wait()
	}
	for _, l := range w.rest {
		for i := range l.steps {
			l.steps[i].entry.Self.Release()
		}
	}
	for i := range w.open {
		w.open[i].entry.Self.Release()
	}
}

func (w *walker) step(s *step) error {
	switch {
	case s.end:
		return w.leave(s.branch)
	case s.entry.Self != nil:
		return w.enter(s)
	case w.skip != nil, s.entry.Dir != nil && gone(s.err): // a later pass sees what is gone
		return nil
	case s.err != nil:
		return s.err
	}
	if _, err := w.v.Visit(&s.entry); !errors.Is(err, ErrGone) {
		return err
	}
	return nil
}

// enter keeps a directory open up to its end, since what follows in it is looked at
// ahead, also where nobody wants it.
func (w *walker) enter(s *step) error {
	w.open = append(w.open, directory{entry: s.entry, gone: w.skip != nil})
	s.entry.Self = nil // the walker's now
	if w.skip != nil {
		return nil
	}
	d := &w.open[len(w.open)-1]
	descend, err := w.v.Visit(&d.entry)
	d.gone = errors.Is(err, ErrGone) && d.entry.Depth > 0
	if err != nil && !d.gone {
		return err
	}
	if d.gone || !descend {
		w.skip = s.branch
		s.branch.left.Store(true)
	}
	return nil
}

func (w *walker) leave(b *branch) error {
	if w.skip == b {
		w.skip = nil
	}
	d := &w.open[len(w.open)-1]
	if !d.gone {
		if err := w.v.Leave(&d.entry); err != nil {
			return err
		}
	}
	d.entry.Self.Release()
	w.open = w.open[:len(w.open)-1]
	return nil
}
