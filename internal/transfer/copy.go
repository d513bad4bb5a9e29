package transfer

import (
	"cmp"
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"syscall"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// ReadSize is the most bytes that one read takes.
const ReadSize = chunk

const (
	// chunk is what one read takes: large enough that calls cost nothing,
	// small enough that a few workers stay within a few MiB.
	chunk = 256 << 10
	// large is the size above which reading and writing go on while the
	// digest of what was read before is taken.
	large = 4 << 20
	// grain is how much of a file has to be zeros to be made a hole, where the system does not
	// tell its holes, in bytes.
	grain = 64 << 10
	// ring is how many chunks of a large file are on their way at once.
	ring = 3
)

// A copier copies files for one goroutine.
type copier struct {
	*pass
	h   *hasher
	buf []byte
	ids [2]uint32 // owner and group that a new file gets

	again *Reader // for files that have to be compared; made when needed

	batch handle.Batch
	files []handle.Wanted // of the batch
	held  finder          // in the held original; of no use without a Lender
}

func newCopier(p *pass) *copier {
	c := &copier{
		pass: p, h: newHasher(cmp.Or(p.Digest, SHA256)), buf: handle.Aligned(chunk),
		ids: [2]uint32{uint32(os.Geteuid()), uint32(os.Getegid())},
	}
	if p.Lender != nil {
		c.held.root = p.Lender.Held
	}
	return c
}

// together copies a group of files, the small ones read side by side.
func (c *copier) together(group []task) error {
	c.files = c.files[:0]
	for i := range group {
		t := &group[i]
		c.files = append(c.files, handle.Wanted{})
		if t.fact.Flags&Recent != 0 || t.seen.Stat.Size > handle.BatchFile {
			continue
		}
		// What fails here fails once more where it counts.
		in, err := c.openFirst(t)
		if in == nil || err != nil {
			continue
		}
		if t.st, err = in.Stat(); err != nil || !t.st.IsRegular() || t.st.Allocated < t.st.Size {
			_ = in.Close() // nothing was done to it
			continue
		}
		t.in, c.files[i] = in, handle.Wanted{File: in, Size: t.st.Size, Cached: true}
		if t.lent != nil && c.Lender.Take { // it is proven by what the device has
			t.device, c.files[i].Cached = in.Uncache(0, 0), false
		}
	}
	return c.batch.Each(c.files, c.buf, func(i int) error {
		group[i].content = c.files[i].Content
		return c.carry(&group[i])
	})
}

// openFirst opens the file that a copy is tried from first; nil if it is the held one, and that
// is not what it was.
func (c *copier) openFirst(t *task) (*handle.File, error) {
	if t.lent == nil {
		return t.node.src.OpenFile(t.name)
	}
	dir, name, st, err := c.held.standing(t.path)
	if dir == nil || !t.lent.Of(c.Lender.Side).likely(st) {
		return nil, err
	}
	return dir.OpenFile(name)
}

// source opens the file to be copied, unless that was done, and looks at it.
func (t *task) source() (*handle.File, handle.Stat, error) {
	if in := t.in; in != nil {
		t.in = nil
		return in, t.st, nil
	}
	in, err := t.node.src.OpenFile(t.name)
	if err != nil {
		return nil, handle.Stat{}, err
	}
	st, err := in.Stat()
	if err != nil {
		_ = in.Close() // only read
	}
	return in, st, err
}

// file copies one regular file with its metadata. That the file changed
// meanwhile is no error: the fact says so, and the next pass redoes it.
func (c *copier) file(t *task) (*Fact, error) {
	in, st, err := t.source()
	if handle.Replaced(err) {
		return &Fact{Flags: Again, Source: c.source(&t.seen.Stat, t.seen.Xattrs)}, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if !st.IsRegular() {
		return &Fact{Flags: Again, Source: c.source(&st, t.seen.Xattrs)}, nil
	}
	// The attributes are those of the file that is open, whichever had its name
	// when the walk read them: nobody's list of rights gets to another's content.
	xattrs, err := t.node.src.XattrsOf(in, t.name)
	if err != nil {
		return nil, err
	}
	seen := c.source(&t.seen.Stat, t.seen.Xattrs)
	t.seen.Xattrs = xattrs
	f := &Fact{Flags: Copied, Source: c.source(&st, xattrs)}
	if !seen.Unchanged(&f.Source, false) {
		f.Flags |= Again // the record has what it was before: redo it with the next walk
	}
	if f.Source.recent(t.seen.At, c.TimeStep) {
		f.Flags |= Recent
	}
	t.from = in
	if err := c.write(t, f, st.Atime,
		func(out *handle.File) error { return c.content(t, in, out, &st, f) }); err != nil {
		return nil, err
	}
	return f, nil
}

// write makes the copy of a file: fill gives it its content, then it gets its
// metadata.
func (c *copier) write(t *task, f *Fact, atime handle.Time, fill func(out *handle.File) error) error {
	out, err := c.create(t)
	if err != nil {
		return err
	}
	err = fill(out)
	if err == nil {
		err = c.finishFile(out, t, f, atime)
	}
	if err == nil && c.flushesEach() {
		err = out.Flush()
	}
	return errors.Join(err, out.Close())
}

// createMode is what a copy is made with: its own permissions, so that one
// call sets them, unless attributes have to be set that need the right to
// write. The part around it is private.
func createMode(t *task) uint32 {
	if len(t.seen.Xattrs) > 0 {
		return 0o600
	}
	return t.seen.Stat.Mode & 0o777
}

func (c *copier) create(t *task) (*handle.File, error) {
	out, err := t.node.dst.Create(t.as, createMode(t))
	if errors.Is(err, fs.ErrExist) && c.Part != nil {
		if err := c.Part.moveOut(t.node.dst, t.as, t.path); err != nil {
			return nil, err
		}
		return t.node.dst.Create(t.as, createMode(t))
	}
	return out, err
}

// content copies the bytes, leaving holes as holes, and fills in digest and
// sum over all of them. The file is as long as what was read.
func (c *copier) content(t *task, in, out *handle.File, st *handle.Stat, f *Fact) error {
	c.h.reset(st.Size, c.backlog.segments(c.ctx, t, st.Size))
	sparse := st.Allocated < st.Size
	var at int64
	var hole bool // what was passed last
	var err error
	switch {
	case t.content != nil:
		at = int64(len(t.content))
		c.h.write(t.content)
		_, err = out.WriteAt(t.content, 0)
		c.advance(0, at)
	case st.Size > large:
		at, hole, err = c.pipeline(in, out, st.Size, sparse)
	default:
		at, hole, err = c.chunks(in, st.Size, sparse, c.buf, func(b []byte, at int64, n int64) ([]byte, error) {
			if b == nil {
				return c.buf, c.h.zeros(c.ctx, n)
			}
			c.h.write(b)
			_, err := out.WriteAt(b, at)
			return c.buf, err
		})
	}
	if err != nil {
		return err
	}
	c.h.finish(f)
	if at != st.Size {
		f.Flags |= Again // it shrank or grew under our hands
	}
	c.advance(1, 0)
	if hole {
		return out.Truncate(at)
	}
	return nil
}

// chunks reads a file piece by piece and passes each on: bytes, or nil for a
// hole of n bytes. pass gives the buffer for the next piece. It returns how
// far it got, and whether a hole came last. A file that takes less room than it is long, of
// which the system tells no holes, is read whole, and what is zeros becomes a hole.
func (c *copier) chunks(in *handle.File, size int64, sparse bool, buf []byte,
	pass func(b []byte, at, n int64) ([]byte, error)) (at int64, hole bool, err error) {
	var end int64   // of the data that at lies in
	var untold bool // the file should have holes, and the system tells none
	for at < size {
		if err := c.ctx.Err(); err != nil {
			return at, hole, err
		}
		if sparse && at >= end {
			start, next, err := in.NextExtent(at, size)
			if err != nil {
				return at, hole, err
			}
			end, untold = next, start == 0 && next == size
			if start > at {
				if buf, err = pass(nil, at, start-at); err != nil {
					return at, hole, err
				}
				c.advance(0, start-at)
				at, hole = start, true
				continue
			}
		}
		// One byte more than is expected shows a file that grows.
		most := size - at + 1
		if sparse && end < size {
			most = end - at
		}
		if untold {
			most = min(most, grain)
		}
		n, err := in.ReadOnce(buf[:min(int64(len(buf)), most)], at)
		if n > 0 {
			var err error
			b := buf[:n]
			hole = untold && zero(b)
			if hole {
				b = nil
			}
			if buf, err = pass(b, at, int64(n)); err != nil {
				return at, hole, err
			}
			at += int64(n)
			c.advance(0, int64(n))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return at, hole, err
		}
	}
	return at, hole, nil
}

// piece is a part of a large file on its way to the digest.
type piece struct {
	buf []byte // whole; nil for a hole
	n   int64
}

// rings are chunks for large files.
var rings = sync.Pool{New: func() any { return new([ring][chunk]byte) }}

// pipeline copies a large file: while the digest of one piece is taken, the
// next ones are read and written.
func (c *copier) pipeline(in, out *handle.File, size int64, sparse bool) (at int64, hole bool, err error) {
	all := rings.Get().(*[ring][chunk]byte)
	defer rings.Put(all)
	free := make(chan []byte, ring)
	for i := range all {
		free <- all[i][:]
	}
	pieces := make(chan piece, ring)
	var digested error
	var group sync.WaitGroup
	group.Go(func() {
		for p := range pieces {
			if p.buf == nil {
				digested = errors.Join(digested, c.h.zeros(c.ctx, p.n))
				continue
			}
			c.h.write(p.buf[:p.n])
			free <- p.buf
		}
	})
	first := <-free
	at, hole, err = c.chunks(in, size, sparse, first, func(b []byte, at, n int64) ([]byte, error) {
		if b == nil {
			pieces <- piece{n: n}
			return first, nil
		}
		if _, err := out.WriteAt(b, at); err != nil {
			return nil, err
		}
		pieces <- piece{buf: b[:cap(b)], n: n}
		first = <-free
		return first, nil
	})
	close(pieces)
	group.Wait()
	return at, hole, errors.Join(err, digested)
}

func (p *pass) advance(files, bytes int64) {
	if p.Progress != nil {
		p.Progress.Advance(files, bytes)
	}
}

// stillEqual reads the source again and compares it with the copy's sum. If
// it holds, the fact is brought up to date.
func (c *copier) stillEqual(t *task) (bool, error) {
	in, err := t.node.src.OpenFile(t.name)
	if handle.Replaced(err) {
		return false, nil // it changes under our hands: it is copied again
	}
	if err != nil {
		return false, err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil || !st.IsRegular() {
		return false, err
	}
	sum, err := c.comparer().Sum(c.ctx, in, st.Size)
	if err != nil {
		return false, err
	}
	now := c.source(&st, t.seen.Xattrs)
	if sum != t.fact.Sum || !t.fact.Source.Unchanged(&now, false) {
		return false, nil
	}
	t.fact.Flags &^= Recent
	if now.recent(t.seen.At, c.TimeStep) {
		t.fact.Flags |= Recent
	}
	return true, nil
}

// finishFile gives the copy owner, attributes, mode, ACLs and times, in this
// order: a change of owner takes away setuid and capabilities, a mode without
// the right to write forbids attributes, a mode changes an ACL's mask, and
// the times come last. What a new file has anyway is not set; whether it
// really has it is looked at in the end.
func (c *copier) finishFile(out *handle.File, t *task, f *Fact, atime handle.Time) error {
	want, xattrs := &f.Source, c.Allow.keep(t.seen.Xattrs)
	chown := !c.Allow.Owners && (want.UID != c.ids[0] || want.GID != c.ids[1])
	chmod := !c.Allow.Modes && (len(t.seen.Xattrs) > 0 || want.Mode&0o7000 != 0)
	for range 2 {
		if chown {
			if err := out.Chown(want.UID, want.GID); err != nil {
				return err
			}
			chmod = !c.Allow.Modes
		}
		if err := setXattrs(t.node.dst, t.as, xattrs, false); err != nil {
			return err
		}
		if chmod {
			if err := out.Chmod(want.Mode & 0o7777); err != nil {
				return err
			}
		}
		if err := setXattrs(t.node.dst, t.as, xattrs, true); err != nil {
			return err
		}
		if err := c.setTimes(out, t, atime, want.Mtime); err != nil {
			return err
		}
		made, has, err := c.asMade(out, t)
		if err != nil {
			return err
		}
		f.Copy = c.made(&made, has)
		// A directory that hands down its group, or the umask, was at work.
		chown = !c.Allow.Owners && (made.UID != want.UID || made.GID != want.GID)
		chmod = !c.Allow.Modes && made.Mode != want.Mode
		if !chown && !chmod {
			return nil
		}
	}
	return nil // verification says what is left
}

// setTimes gives a copy its times, among them that at which the source was made.
func (c *copier) setTimes(out *handle.File, t *task, atime, mtime handle.Time) error {
	if err := out.SetTimes(atime, mtime); err != nil || t.from == nil {
		return err
	}
	return out.Created(t.from)
}

// asMade looks at a copy once it has its metadata. Behind FUSE Verify asks for its
// attributes, by its name.
func (c *copier) asMade(out *handle.File, t *task) (handle.Stat, []handle.Xattr, error) {
	st, err := out.Stat()
	if err != nil || c.Fuse {
		return st, t.seen.Xattrs, err
	}
	has, err := t.node.dst.XattrsOf(out, t.as)
	return st, has, err
}

// source is the snap of an entry of the source.
func (j *Job) source(st *handle.Stat, xattrs []handle.Xattr) Snap {
	return SnapOf(st, xattrs).On(j.SourceUnstable)
}

// made is the snap of an entry of the copy.
func (j *Job) made(st *handle.Stat, xattrs []handle.Xattr) Snap {
	return SnapOf(st, j.Allow.keep(xattrs)).On(j.Unstable)
}

// setEntry gives a symbolic link or a node its metadata by its name.
func (p *pass) setEntry(dst *handle.Dir, name string, e *inventory.Entry) (Snap, error) {
	st, err := dst.Stat(name)
	if err == nil && !p.Allow.Owners && (st.UID != e.Stat.UID || st.GID != e.Stat.GID) {
		err = dst.ChownEntry(name, e.Stat.UID, e.Stat.GID)
	}
	xattrs := p.Allow.keep(e.Xattrs)
	if err == nil {
		err = setXattrs(dst, name, xattrs, false)
	}
	if err == nil && !e.Stat.IsSymlink() && !p.Allow.Modes {
		err = dst.ChmodEntry(name, e.Stat.Perm())
	}
	if err == nil {
		err = setXattrs(dst, name, xattrs, true)
	}
	if err == nil {
		err = dst.SetTimesEntry(name, e.Stat.Atime, e.Stat.Mtime)
	}
	if err == nil {
		st, err = dst.Stat(name)
	}
	return p.made(&st, e.Xattrs), err
}

// setXattrs sets the ACLs and what Windows drives have, or all other
// attributes. Nothing is taken away here: the entry is new, and what the system
// puts on it by itself is the system's.
func setXattrs(dst *handle.Dir, name string, xattrs []handle.Xattr, acls bool) error {
	for _, x := range xattrs {
		if acls && handle.OfWindows(x.Name) {
			// After all else: one of them may say that the entry is read-only.
			if err := dst.SetXattr(name, x); err != nil && !errors.Is(err, syscall.EOPNOTSUPP) &&
				!errors.Is(err, fs.ErrPermission) {
				return err
			}
		}
		if inventory.SystemLabel(x.Name) || acls != inventory.IsACL(x.Name) {
			continue
		}
		if err := dst.SetXattr(name, x); err != nil {
			return err
		}
	}
	return nil
}

// setDir gives a directory owner, mode, attributes and times. Attributes
// that it has and the source has not are taken away, unless it is fresh.
func (a *Allow) setDir(dst *handle.Dir, want *Snap, xattrs []handle.Xattr, atime handle.Time,
	fresh bool) (handle.Stat, error) {
	st, err := dst.Self()
	if err != nil {
		return st, err
	}
	if !a.Owners && (st.UID != want.UID || st.GID != want.GID) {
		if err := dst.Chown(want.UID, want.GID); err != nil {
			return st, err
		}
	}
	xattrs = a.keep(xattrs)
	if !fresh {
		if err := dropXattrs(dst, xattrs); err != nil {
			return st, err
		}
	}
	if err := setXattrs(dst, ".", xattrs, false); err != nil {
		return st, err
	}
	if !a.Modes {
		if err := dst.Chmod(want.Mode & 0o7777); err != nil {
			return st, err
		}
	}
	if err := setXattrs(dst, ".", xattrs, true); err != nil {
		return st, err
	}
	if err := dst.SetTimes(atime, want.Mtime); err != nil {
		return st, err
	}
	return dst.Self()
}

func dropXattrs(dst *handle.Dir, keep []handle.Xattr) error {
	have, err := dst.Xattrs(".")
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, x := range keep {
		wanted[x.Name] = true
	}
	for _, x := range have {
		if wanted[x.Name] || inventory.SystemLabel(x.Name) || strings.HasPrefix(x.Name, "trusted.") {
			continue
		}
		if err := dst.RemoveXattr(".", x.Name); err != nil {
			return err
		}
	}
	return nil
}
