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

func join(dir, name string) string {
	if dir == "." {
		return name
	}
	return dir + "/" + name
}
