package transfer

import (
	"cmp"
	"errors"
	"io/fs"
	"sync"

	"nexlin/internal/handle"
)

// A Lender is a held original of the folder that is copied, on the drive it
// is copied to: what is the same in both need not come from the other drive.
// An entry is the same if neither side has changed since the spool says that
// they were equal. The content is proven again by its sum, whichever way it
// comes: cloned or copied, or, with Take, renamed out of the held original.
type Lender struct {
	Held   *handle.Dir // the held original
	Spool  *Spool      // of the run that made one side from the other
	Side   Side        // which side the held original is
	Before handle.Time // only what was last changed before this is unchanged for certain
	Digest Digest      // of the spool; empty means SHA256
	Take   bool        // there is no room for copies: rename
}

// same gives what the spool says of a file that has not changed at the live
// side since, nil for any other. Files with several names are copied.
func (l *Lender) same(r *Record, live *Snap) *Fact {
	if r == nil || !r.IsRegular() || r.Fact.Flags&Verified == 0 || live.Nlink != 1 || !l.Before.After(live.Ctime) {
		return nil
	}
	if was := r.Fact.Of(l.Side.Other()); was.Ino == 0 || !was.Unchanged(live, false) || r.Fact.Of(l.Side).Nlink != 1 {
		return nil
	}
	return &r.Fact
}

// lending steps through the lender's spool beside the walk.
type lending struct {
	*Lender
	cur *Cursor
	mu  sync.Mutex // of the times of held directories
}

// errKept says that a directory lets nothing out of it.
var errKept = errors.New("the directory lets nothing out of it")

// rename takes an entry out of a held directory, whose times stay; errKept if it stays there.
func (l *lending) rename(dir *handle.Dir, name string, to *handle.Dir, as string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	times, err := dir.Self()
	if err != nil {
		return err
	}
	err = dir.Rename(name, to, as)
	if errors.Is(err, fs.ErrPermission) {
		return errKept
	}
	if err != nil {
		return err
	}
	return dir.SetTimes(times.Atime, times.Mtime)
}

// at gives the record of path, nil if there is none. Paths come in the one
// order.
func (l *lending) at(path string) *Record {
	if l == nil {
		return nil
	}
	for r := l.cur.Peek(); r != nil && handle.Compare(r.Path, path) <= 0; r = l.cur.Peek() {
		rec := *r
		if rec.Path == path {
			return &rec
		}
		l.cur.Next()
	}
	return nil
}

// lentIno is the inode number of the held file at this path, by which it is
// known if it stands in the part; 0 if it can't.
func (l *lending) lentIno(path string) uint64 {
	if r := l.at(path); r != nil && l.Take && r.IsRegular() {
		return r.Fact.Of(l.Side).Ino
	}
	return 0
}

// borrow makes the copy of a file from the held original; nil if that does
// not have it any more as it was, or its content fails the proof: then the
// caller copies it from the live side. in is the held file if it is open already; else nil.
func (c *copier) borrow(t *task, in *handle.File) (*Fact, error) {
	l := c.Lender
	dir, name, st, err := c.held.standing(t.path)
	if dir == nil {
		return nil, err
	}
	if !t.lent.Of(l.Side).likely(st) {
		return nil, nil
	}
	f := &Fact{Flags: Copied, Source: c.source(&t.seen.Stat, t.seen.Xattrs), Digest: t.lent.Digest, Sum: t.lent.Sum}
	if f.Source.recent(t.seen.At, c.TimeStep) {
		f.Flags |= Recent
	}
	if l.Take {
		return c.take(t, dir, name, f)
	}
	if in == nil {
		in, err = dir.OpenFile(name)
		if handle.Replaced(err) {
			return nil, nil // somebody is at work there: the live side has it
		}
		if err != nil {
			return nil, err
		}
		defer in.Close()
	}
	return c.cloneOrCopy(t, in, st, f)
}

// take renames the held file into the part, once its content is read from
// the device and is what it has to be.
func (c *copier) take(t *task, dir *handle.Dir, name string, f *Fact) (*Fact, error) {
	xattrs, err := dir.Xattrs(name)
	if handle.Absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	held := *t.lent.Of(c.Lender.Side)
	if (&Allow{}).Differs(&f.Source, &held, t.seen.Xattrs, xattrs) != "" {
		return nil, nil
	}
	device, holds := t.device, false
	if t.content != nil {
		holds = c.comparer().sumOf(t.content) == f.Sum
	} else {
		device, holds, err = c.holds(dir, name, held.Size, &f.Sum)
	}
	if err != nil || !holds {
		return nil, err // if it is not what it was, the live side has it
	}
	dst := t.node.dst
	err = c.lending.rename(dir, name, dst, t.as)
	if errors.Is(err, fs.ErrExist) {
		if err = c.Part.moveOut(dst, t.as, t.path); err == nil {
			err = c.lending.rename(dir, name, dst, t.as)
		}
	}
	if errors.Is(err, errKept) {
		return nil, nil // the live side has it
	}
	if err != nil {
		return nil, err
	}
	c.tally.lent.Add(1)
	c.advance(1, held.Size)
	return c.proven(t, f, device)
}

// comparer is the reader of files that are compared and not copied.
func (c *copier) comparer() *Reader {
	if c.again == nil {
		c.again = NewReader()
	}
	return c.again
}

// holds reads a file from the device and reports whether its content is the
// one of the sum; one that the device can't give back has not.
func (c *copier) holds(dir *handle.Dir, name string, size int64, want *Sum) (device, same bool, err error) {
	sum, device, err := c.comparer().ReadBack(c.ctx, dir, name, size)
	if handle.Damaged(err) {
		return device, false, nil
	}
	return device, err == nil && sum == *want, err
}

// proven records a copy that was read back already.
func (c *copier) proven(t *task, f *Fact, device bool) (*Fact, error) {
	c.tally.readBack.Add(1)
	if device {
		c.tally.device.Add(1)
	}
	made, err := t.node.dst.Stat(t.as)
	if err != nil {
		return nil, err
	}
	f.Flags |= Verified
	f.Copy = c.made(&made, t.seen.Xattrs)
	return f, nil
}

// cloneOrCopy makes a copy of the held file: one that shares its blocks where
// the file system can do that. Those blocks are on the device already, so they
// are read back from there at once: a byte that went bad in the held original
// is copied from the live side instead, and not cloned again by every pass.
func (c *copier) cloneOrCopy(t *task, in *handle.File, st *handle.Stat, f *Fact) (*Fact, error) {
	want, cloned := f.Sum, false
	err := c.write(t, f, st.Atime, func(out *handle.File) error {
		if cmp.Or(c.Lender.Digest, SHA256) == cmp.Or(c.Digest, SHA256) && out.Clone(in) == nil {
			cloned = true
			return nil
		}
		return c.content(t, in, out, st, f)
	})
	if err == nil && cloned {
		device, holds, err := c.holds(t.node.dst, t.as, st.Size, &want)
		if err != nil {
			return nil, err
		}
		if holds {
			c.advance(1, st.Size)
			return c.proven(t, f, device)
		}
	} else if err == nil && f.Sum == want {
		return f, nil
	}
	if err != nil && !handle.Damaged(err) {
		return nil, err
	}
	// The held original does not have it any more; the live side does.
	if err := t.node.dst.Unlink(t.as); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return nil, nil
}

// GiveBack renames what was taken from the held original back to its place,
// out of the directory called name in parent, which may be gone: the directories that
// were taken as they are, and files. What the held original has again already stays where
// it is.
func (l *Lender) GiveBack(parent *handle.Dir, name string, dirs []LentDir) error {
	from, err := parent.Beneath(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer from.Release()
	for _, d := range dirs {
		if err := l.giveBackIf(from, d.Path, d.is); err != nil {
			return err
		}
	}
	for c := Read(l.Spool); c.Peek() != nil; c.Next() {
		r := c.Peek()
		if !r.IsRegular() {
			continue
		}
		err := l.giveBackIf(from, r.Path, func(st *handle.Stat) bool {
			return st.Ino == r.Fact.Of(l.Side).Ino && st.IsRegular()
		})
		if err != nil {
			return err
		}
	}
	if err := from.SyncAll(); err != nil {
		return err
	}
	return l.Held.Sync()
}

// giveBackIf gives back what stands at a path in the part if it is what was taken.
func (l *Lender) giveBackIf(from *handle.Dir, path string, taken func(*handle.Stat) bool) error {
	dir, name, st, err := standing(from, path)
	if dir == nil {
		return err
	}
	defer dir.Release()
	if !taken(st) {
		return nil
	}
	if err := l.giveBack(dir, name, path); !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

// giveBack renames one entry back. The times of the directory it leaves stay.
func (l *Lender) giveBack(dir *handle.Dir, name, path string) error {
	to, as, err := l.Held.Parent(path)
	if err != nil {
		return err
	}
	defer to.Release()
	var times [2]handle.Stat
	for i, d := range []*handle.Dir{dir, to} {
		if times[i], err = d.Self(); err != nil {
			return err
		}
	}
	if err := dir.Rename(name, to, as); err != nil {
		return err
	}
	for i, d := range []*handle.Dir{dir, to} {
		if err := d.SetTimes(times[i].Atime, times[i].Mtime); err != nil {
			return err
		}
	}
	return nil
}
