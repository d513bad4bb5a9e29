// Package link makes, reads and exchanges the links that Nexlin leaves
// behind, and follows chains of links for people to see.
//
// It alone judges what a link is. Making one never replaces anything, and
// one is removed only if its text is ours. It does not know redirects and
// does not flush: the sequence decides what must be durable when.
package link

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/junction"
)

// maxChain is how many links a path may lead through: Linux's own limit
// (path_resolution(7)).
const maxChain = 40

// A Step is one link met on the way along a path.
type Step struct {
	Path string // where the link stands
	Text string // what it says
}

// ErrNotOurs reports that another thing stands where our link should.
var ErrNotOurs = errors.New("what stands here is not the link that Nexlin made")

// ErrNotMade reports a system that says it has made a link and has not.
var ErrNotMade = errors.New("it was said to be made, and is not there")

// ErrNoExchange reports a file system that can't exchange two entries.
var ErrNoExchange = errors.New("this file system can't exchange two entries in one act")

// Chain follows an absolute path one component at a time and gives every
// link met, and the real path at the end. If the end does not exist, real is
// where it would be and the error is fs.ErrNotExist.
func Chain(path string) (steps []Step, real string, err error) {
	real, rest := split(path)
	for len(rest) > 0 {
		part := rest[0]
		rest = rest[1:]
		switch part {
		case "", ".":
			continue
		case "..":
			real = filepath.Dir(real)
			continue
		}
		at := filepath.Join(real, part)
		st, err := handle.Lstat(at)
		if err != nil {
			return steps, filepath.Join(append([]string{at}, rest...)...), err
		}
		if !st.IsSymlink() {
			real = at
			continue
		}
		text, err := os.Readlink(at)
		if err != nil {
			return steps, at, err
		}
		steps = append(steps, Step{at, says(real, part, text)})
		if len(steps) > maxChain {
			return steps, at, &fs.PathError{Op: "follow", Path: path, Err: syscall.ELOOP}
		}
		root, on := split(text)
		if filepath.IsAbs(text) {
			real = root
		}
		rest = append(on, rest...)
	}
	return steps, real, nil
}

// split gives the root that a path begins with, on every system the one of
// paths without a drive, and the names behind it.
func split(path string) (root string, names []string) {
	vol := filepath.VolumeName(path)
	sep := string(filepath.Separator)
	return vol + sep, strings.Split(filepath.ToSlash(strings.Trim(path[len(vol):], sep)), "/")
}

// says is what a link says, for people to see: of a junction its own bytes, not
// what a driver makes of them.
func says(dir, name, text string) string {
	d, err := handle.Open(dir)
	if err != nil {
		return text
	}
	defer d.Release()
	if own, err := d.Readlink(name); err == nil && IsJunction(own) {
		return own
	}
	return text
}

// Make puts a symbolic link with this text under name and reads it back.
// fs.ErrExist if something stands there.
func Make(dir *handle.Dir, name, text string) error {
	if err := dir.Symlink(text, name); err != nil {
		return err
	}
	return readBack(dir, name, text)
}

func readBack(dir *handle.Dir, name, text string) error {
	got, err := dir.Readlink(name)
	if errors.Is(err, fs.ErrNotExist) {
		return &fs.PathError{Op: "symlink", Path: dir.Join(name), Err: ErrNotMade}
	}
	if err == nil && got != text {
		err = &fs.PathError{Op: "readlink", Path: dir.Join(name),
			Err: fmt.Errorf("reads back as %q, not %q", got, text)}
	}
	return err
}

// An Owner says for whom a link is made.
type Owner struct {
	UID, GID uint32
	Scratch  string // name of a directory for what is given away, see [handle.Dir.Private]
}

// MakeFor is [Make] for an account. Where this account is the administrator
// and the other one is not, the link is made and given away inside a private
// directory, then renamed to its place: it is never another entry of dir that
// is given away (I6). A file system that keeps no owners keeps none.
func MakeFor(dir *handle.Dir, name, text string, who Owner) error {
	if os.Geteuid() != 0 || who.UID == 0 && who.GID == 0 {
		return Make(dir, name, text)
	}
	own, err := dir.Self()
	if err != nil {
		return err
	}
	p, err := dir.Private(who.Scratch, false)
	if errors.Is(err, fs.ErrPermission) && own.UID != 0 {
		// Shown as another account's: a file system without owners, or somebody at
		// work here. Then the link stays the administrator's.
		return Make(dir, name, text)
	}
	if err != nil {
		return err
	}
	defer p.Release()
	err = Make(p, handle.InPrivate, text)
	if err == nil {
		if err = p.ChownEntry(handle.InPrivate, who.UID, who.GID); errors.Is(err, fs.ErrPermission) {
			err = nil
		}
	}
	if err == nil {
		err = p.Rename(handle.InPrivate, dir, name)
	}
	return errors.Join(err, dir.DropPrivate(who.Scratch, p))
}

// Is reports whether a link with exactly this text stands under name; that
// nothing stands there is false without an error.
func Is(dir *handle.Dir, name, text string) (bool, error) {
	st, err := dir.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil || !st.IsSymlink() {
		return false, err
	}
	got, err := dir.Readlink(name)
	return err == nil && got == text, err
}

// Remove takes the link under name away if its text is ours, else the error
// wraps [ErrNotOurs]. That nothing is there is no error.
func Remove(dir *handle.Dir, name, text string) error {
	if _, err := dir.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	ours, err := Is(dir, name, text)
	if err == nil && !ours {
		err = &fs.PathError{Op: "remove", Path: dir.Join(name), Err: ErrNotOurs}
	}
	if err != nil {
		return err
	}
	return dir.Unlink(name)
}

// Exchange swaps the entries called a and b of two directories on one mount
// in one act. A file system without that is [ErrNoExchange].
func Exchange(dir *handle.Dir, a string, with *handle.Dir, b string) error {
	err := dir.Exchange(a, with, b)
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS) {
		return &fs.PathError{Op: "exchange", Path: dir.Join(a), Err: ErrNoExchange}
	}
	return err
}

// TryIn does the switch in small before a byte is copied: it makes two links with
// this text in dir, which is empty, exchanges them, and takes them away. exchanges
// is false where the file system can't do that in one act; then it is tried that
// a link can be renamed.
func TryIn(dir *handle.Dir, text string) (exchanges bool, err error) {
	const a, b, c = "a", "b", "c"
	defer func() {
		for _, n := range []string{a, b, c} {
			if e := dir.Unlink(n); e != nil && !errors.Is(e, fs.ErrNotExist) {
				err = errors.Join(err, e)
			}
		}
	}()
	for _, n := range []string{a, b} {
		if err := Make(dir, n, text); err != nil {
			return false, err
		}
	}
	err = Exchange(dir, a, dir, b)
	if !errors.Is(err, ErrNoExchange) {
		return err == nil, err
	}
	if err := dir.Rename(a, dir, c); err != nil {
		return false, err
	}
	is, err := Is(dir, c, text)
	if err == nil && !is {
		err = &fs.PathError{Op: "rename", Path: dir.Join(c), Err: ErrNotOurs}
	}
	return false, err
}

// Lead has the junction under name say another text, in one act: nothing else
// about it changes. Errors are those of [Make].
func Lead(dir *handle.Dir, name, text string) error {
	data, err := junction.EncodeSubstitute(strings.TrimPrefix(text, handle.JunctionText))
	if err != nil {
		return err
	}
	if err := dir.SetReparse(name, data); err != nil {
		return err
	}
	return readBack(dir, name, text)
}

// maxWait bounds how long [Patiently] tries: what scanners and indexers hold
// open they let go of sooner.
const maxWait = 10 * time.Second

// Patiently does a rename, and does it again, with growing waits, while the
// system says that somebody holds one of the entries just now. The last error
// is returned.
func Patiently(rename func() error) error {
	waited := time.Duration(0)
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		err := rename()
		if err == nil || !handle.Passing(err) || waited >= maxWait {
			return err
		}
		time.Sleep(wait)
		waited += wait
	}
}

// JunctionTo is the text of a junction to a place as the system that follows
// it names that: D:\ines\Documents, or \\?\Volume{…}\ines\Documents. The error
// is that of [junction.Clean].
func JunctionTo(seen string) (text string, err error) {
	t, err := junction.Clean(seen)
	return handle.JunctionText + strings.TrimPrefix(t, `\\?\`), err
}

// IsJunction reports a text that is a junction's.
func IsJunction(text string) bool { return strings.HasPrefix(text, handle.JunctionText) }

// Seen is where a link leads as people write it: the text of a symbolic link,
// and of a junction the place as the system that follows it names that.
func Seen(text string) string {
	if !IsJunction(text) {
		return text
	}
	return junction.Link{Substitute: text}.Target()
}
