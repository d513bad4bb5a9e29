package inventory

import (
	"context"
	"errors"
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
	s := &scout{ctx: ctx, root: st, lots: make(chan []step, lotsAhead), free: make(chan []step, lotsAhead+1)}
	go func() {
		defer close(s.lots)
		s.found(root.Retain(), Entry{Path: ".", Name: ".", At: at, Stat: st, Dir: root}, nil)
		s.hand(true)
	}()
	w := walker{v: v}
	defer func() {
		stop()
		for lot := range s.lots {
			giveUp(lot)
		}
		for i := range w.open {
			w.open[i].entry.Self.Release()
		}
	}()
	for lot := range s.lots {
		if err := w.visit(ctx, lot); err != nil {
			return err
		}
		clear(lot)
		select {
		case s.free <- lot[:0]:
		default:
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
	lotsAhead = 2
	// lotLeast is what is handed on when the visitor has nothing to do.
	lotLeast = 16
)

// A step is what the walk meets next: an entry, what hinders it, or the end of
// a directory.
type step struct {
	entry  Entry // of a directory, Self is the receiver's to release
	err    error // of looking at the entry, or of reading the directory
	branch *branch
	end    bool // of the branch
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

// A scout reads directories and looks at their entries, in the order in which
// they will be visited.
type scout struct {
	ctx  context.Context
	root handle.Stat
	lots chan []step
	free chan []step // lots to be filled again
	lot  []step
	dirs int // in the lot
}

// What ends the scout's way early; why, the visitor knows already.
var (
	errStop     = errors.New("stopped")
	errUnwanted = errors.New("not wanted")
)

func (s *scout) put(st step) error {
	if s.lot == nil {
		select {
		case s.lot = <-s.free:
		default:
			s.lot = make([]step, 0, lotSteps)
		}
	}
	s.lot = append(s.lot, st)
	return s.hand(false)
}

// hand gives a lot to the visitor if it is full, or all is done.
func (s *scout) hand(done bool) error {
	enough := len(s.lot) >= lotSteps || s.dirs >= lotDirs || len(s.lot) >= lotLeast && len(s.lots) == 0
	if len(s.lot) == 0 || !done && !enough {
		return nil
	}
	select {
	case s.lots <- s.lot:
		s.lot, s.dirs = nil, 0
		return nil
	case <-s.ctx.Done():
		giveUp(s.lot)
		s.lot, s.dirs = nil, 0
		return errStop
	}
}

// giveUp releases what steps hold that nobody takes.
func giveUp(lot []step) {
	for i := range lot {
		if !lot[i].end {
			lot[i].entry.Self.Release()
		}
	}
}

// found takes self, an open directory, and goes through what it holds.
func (s *scout) found(self *handle.Dir, e Entry, above *branch) error {
	defer self.Release()
	e.Self = self.Retain()
	b := &branch{above: above}
	s.dirs++
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
	err := e.Self.EachName(func(name string) error {
		if b.unwanted() {
			return errUnwanted
		}
		return s.child(Entry{Path: join(e.Path, name), Name: name, Depth: e.Depth + 1, Dir: e.Self}, b)
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

// child looks at an entry. What has gone since the directory was read is not
// met; a later pass sees that.
func (s *scout) child(c Entry, b *branch) error {
	c.At = time.Now()
	err := c.Dir.StatInto(c.Name, &c.Stat)
	if err == nil && c.Stat.IsSymlink() {
		c.Link, err = c.Dir.Readlink(c.Name)
	}
	if err == nil && c.Stat.Elsewhere(&s.root) {
		err = mountError(c.Dir.Join(c.Name))
	}
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
	if gone(err) {
		return nil
	}
	return s.put(step{entry: c, err: err, branch: b})
}

// A walker shows a visitor what the scout has found.
type walker struct {
	v    Visitor
	open []directory // that the walk is in
	skip *branch     // what it holds is passed over, up to its end
}

type directory struct {
	entry Entry
	gone  bool // the visitor says so: it is not left either
}

// visit shows the steps of a lot in their order.
func (w *walker) visit(ctx context.Context, lot []step) error {
	for i := range lot {
		if err := ctx.Err(); err != nil {
			giveUp(lot[i:])
			return err
		}
		if err := w.step(&lot[i]); err != nil {
			giveUp(lot[i+1:])
			return err
		}
	}
	return nil
}

func (w *walker) step(s *step) error {
	switch {
	case w.skip != nil && (w.skip != s.branch || !s.end):
		s.entry.Self.Release()
		return nil
	case s.err != nil:
		return s.err
	case s.end:
		return w.leave()
	case s.entry.Self != nil:
		return w.enter(s)
	}
	if _, err := w.v.Visit(&s.entry); !errors.Is(err, ErrGone) {
		return err
	}
	return nil
}

func (w *walker) enter(s *step) error {
	w.open = append(w.open, directory{entry: s.entry})
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

func (w *walker) leave() error {
	w.skip = nil
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
