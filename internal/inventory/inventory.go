// Package inventory walks a folder and says what is in it.
//
// Two ways: [Walk] visits every entry in the one order (depth first, names
// in byte order within a directory), so that walks and manifests can be held
// against each other as streams; [Measure] counts as fast as the machine
// can, in no order. Both go through directory handles, follow no link and
// enter no other mount.
//
// It changes nothing, reads no file's content, and does not know about
// drives or targets.
package inventory

import (
	"context"
	"errors"
	"sync"
	"time"

	"nexlin/internal/handle"
)

// An Entry is one thing in a folder. It is valid during the call it is
// passed to; a visitor that keeps Dir or Self retains them.
type Entry struct {
	Path   string    // relative to the folder; "." is the folder itself
	Name   string    // last component; "." for the folder itself
	Depth  int       // 0 for the folder itself
	At     time.Time // just before it was looked at
	Stat   handle.Stat
	Link   string         // text of a symbolic link
	Xattrs []handle.Xattr // after ReadXattrs; nil where there are none
	Dir    *handle.Dir    // the directory that holds it; for "." the folder
	Self   *handle.Dir    // an open directory; nil for anything else
}

// ReadXattrs fills in the extended attributes. They are not read by the walk
// itself: often the times tell already that they are the known ones. What
// changes between the look and this shows in a later ctime. An entry that is
// not there any more is [ErrGone].
func (e *Entry) ReadXattrs() (err error) {
	if e.Self != nil {
		e.Xattrs, err = e.Self.Xattrs(".")
	} else {
		e.Xattrs, err = e.Dir.Xattrs(e.Name)
	}
	return Vanished(err)
}

// A Visitor gets the entries of a walk.
type Visitor interface {
	// Visit is called for every entry, a directory before what it holds.
	// For a directory, false leaves out what it holds. With [ErrGone] the walk
	// goes on as if it had never met the entry.
	Visit(e *Entry) (descend bool, err error)
	// Leave is called for every directory after what it holds.
	Leave(e *Entry) error
}

// VisitorFunc is a [Visitor] of every entry.
type VisitorFunc func(e *Entry) error

// Visit implements [Visitor].
func (f VisitorFunc) Visit(e *Entry) (bool, error) { return true, f(e) }

// Leave implements [Visitor].
func (f VisitorFunc) Leave(*Entry) error { return nil }

// Walk visits root and everything below it in the one order. Directories
// are read when they are entered; an error of a visitor ends the walk and is
// returned as it is, an unreadable directory or entry is a *fs.PathError.
// Where another file system is mounted inside, the error wraps
// handle.ErrMount. root stays the caller's.
func Walk(ctx context.Context, root *handle.Dir, v Visitor) error {
	at := time.Now()
	st, err := root.Self()
	if err != nil {
		return err
	}
	e := Entry{Path: ".", Name: ".", At: at, Stat: st, Dir: root, Self: root}
	w := walker{ctx: ctx, v: v, root: st}
	return w.dir(&e)
}

type walker struct {
	ctx  context.Context
	v    Visitor
	root handle.Stat
}

func (w *walker) dir(e *Entry) error {
	descend, err := w.v.Visit(e)
	if errors.Is(err, ErrGone) && e.Depth > 0 {
		return nil
	}
	if err != nil {
		return err
	}
	if descend {
		if err := w.children(e); err != nil {
			return err
		}
	}
	return w.v.Leave(e)
}

// ahead is how many entries are looked at together, while those before them
// are visited.
const ahead = 128

// A lot is some entries of a directory, looked at by a goroutine of its own.
type lot struct {
	entries []Entry
	errs    []error
	done    sync.WaitGroup
}

func (l *lot) look() {
	for i := range l.entries {
		e := &l.entries[i]
		e.At = time.Now()
		l.errs = append(l.errs, load(e))
	}
}

func (l *lot) clear() { l.entries, l.errs = l.entries[:0], l.errs[:0] }

// children visits what a directory holds.
func (w *walker) children(e *Entry) error {
	next, last := &lot{}, &lot{}
	defer func() { last.done.Wait() }() // it looks through e's handle
	turn := func() error {
		next.done.Go(next.look)
		next, last = last, next
		err := w.visit(next) // of these all are known by now
		next.clear()
		return err
	}
	var visiting error
	err := e.Self.EachName(func(name string) error {
		if visiting = w.ctx.Err(); visiting != nil {
			return visiting
		}
		next.entries = append(next.entries,
			Entry{Path: join(e.Path, name), Name: name, Depth: e.Depth + 1, Dir: e.Self})
		if len(next.entries) < ahead {
			return nil
		}
		visiting = turn()
		return visiting
	})
	if visiting != nil || err != nil && (e.Depth == 0 || !gone(err)) {
		return err // a directory that was removed holds nothing more
	}
	if len(last.entries) == 0 { // few entries need no goroutine
		next.look()
		return w.visit(next)
	}
	if err := turn(); err != nil {
		return err
	}
	return w.visit(last)
}

// visit visits the entries of a lot in their order.
func (w *walker) visit(l *lot) error {
	l.done.Wait()
	for i := range l.entries {
		if err := w.ctx.Err(); err != nil {
			return err
		}
		if err := w.child(&l.entries[i], l.errs[i]); err != nil {
			return err
		}
	}
	return nil
}

// child visits an entry that was looked at.
func (w *walker) child(c *Entry, err error) error {
	if err != nil {
		if gone(err) {
			return nil // removed since the directory was read; a later pass sees that
		}
		return err
	}
	if c.Stat.Elsewhere(&w.root) {
		return mountError(c.Dir.Join(c.Name))
	}
	if !c.Stat.IsDir() {
		if _, err = w.v.Visit(c); errors.Is(err, ErrGone) {
			return nil
		}
		return err
	}
	self, err := c.Dir.Sub(c.Name)
	if err != nil {
		if gone(err) {
			return nil
		}
		return err
	}
	defer self.Release()
	c.Self = self
	// What was opened counts, not what was looked at before.
	if c.Stat, err = self.Self(); err != nil {
		return err
	}
	return w.dir(c)
}

// load fills in the stat and link text of the entry called e.Name in e.Dir.
func load(e *Entry) error {
	err := e.Dir.StatInto(e.Name, &e.Stat)
	if err == nil && e.Stat.IsSymlink() {
		e.Link, err = e.Dir.Readlink(e.Name)
	}
	return err
}

func join(dir, name string) string {
	if dir == "." {
		return name
	}
	return dir + "/" + name
}
