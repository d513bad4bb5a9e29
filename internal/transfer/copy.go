package transfer

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// chunk is what one read takes: large enough that calls cost nothing, small
// enough that a few workers stay within a few MiB.
const chunk = 256 << 10

// copyFile copies one regular file with its metadata. That the file changed
// meanwhile is no error: the fact says so, and the next pass redoes it.
func (p *pass) copyFile(t *task) (*Fact, error) {
	in, err := t.node.src.OpenFile(t.name)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ELOOP) {
		return &Fact{Flags: Again, Source: SnapOf(&t.seen.Stat, t.seen.Xattrs)}, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	st, err := handle.StatFile(in)
	if err != nil {
		return nil, err
	}
	f := &Fact{Flags: Copied, Source: SnapOf(&st, t.seen.Xattrs)}
	seen := SnapOf(&t.seen.Stat, t.seen.Xattrs)
	if !seen.Unchanged(&f.Source, false) {
		// Its attributes were read before it changed: redo it with the next walk.
		f.Flags |= Again
	}
	if !st.IsRegular() {
		f.Flags = Again
		return f, nil
	}
	began := time.Now()
	if f.Source.recent(began, p.TimeStep) {
		f.Flags |= Recent
	}
	out, err := p.create(t)
	if err != nil {
		return nil, err
	}
	err = p.content(in, out, st.Size, f)
	if err == nil {
		err = setFile(out, t, &f.Source, st.Atime)
	}
	if err == nil {
		var made handle.Stat
		if made, err = handle.StatFile(out); err == nil {
			f.Copy = SnapOf(&made, t.seen.Xattrs)
		}
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return nil, err
	}
	return f, nil
}

func (p *pass) create(t *task) (*os.File, error) {
	out, err := t.node.dst.Create(t.as, 0o600)
	if errors.Is(err, fs.ErrExist) && p.Part != nil {
		if err := p.Part.putAside(t.node.dst, t.as, t.path); err != nil {
			return nil, err
		}
		return t.node.dst.Create(t.as, 0o600)
	}
	return out, err
}

// content copies the bytes, leaving holes as holes, and fills in the digest
// over all of them. The file is as long as what was read.
func (p *pass) content(in, out *os.File, size int64, f *Fact) error {
	sum := sha256.New()
	buf := make([]byte, min(chunk, max(size, 1)+1))
	var at int64
	for at < size {
		if err := p.ctx.Err(); err != nil {
			return err
		}
		start, err := nextData(in, at, size)
		if err != nil {
			return err
		}
		if start > at {
			if err := zeros(p.ctx, sum, start-at); err != nil {
				return err
			}
			p.advance(0, start-at)
			at = start
			continue
		}
		n, err := in.ReadAt(buf, at)
		if n > 0 {
			sum.Write(buf[:n])
			if _, err := out.WriteAt(buf[:n], at); err != nil {
				return err
			}
			at += int64(n)
			p.advance(0, int64(n))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	sum.Sum(f.Digest[:0])
	if at != size {
		f.Flags |= Again // it shrank or grew under our hands
	}
	p.advance(1, 0)
	return out.Truncate(at)
}

func (p *pass) advance(files, bytes int64) {
	if p.Progress != nil {
		p.Progress.Advance(files, bytes)
	}
}

// nextData is the offset of the next data at or after at; size if only a
// hole follows. Holes are looked for from chunk to chunk only: a file
// without holes costs one call a chunk.
func nextData(in *os.File, at, size int64) (int64, error) {
	if size < chunk && at == 0 {
		// Small files are not worth the question, unless they take no blocks.
		if st, err := handle.StatFile(in); err == nil && st.Allocated > 0 {
			return at, nil
		}
	}
	off, err := unix.Seek(int(in.Fd()), at, unix.SEEK_DATA)
	switch err {
	case nil:
		return min(off, size), nil
	case unix.ENXIO:
		return size, nil
	case unix.EINVAL: // a file system that can't tell has no holes
		return at, nil
	}
	return 0, &fs.PathError{Op: "seek", Path: in.Name(), Err: err}
}

var nothing [chunk]byte

// zeros adds n zero bytes to a digest.
func zeros(ctx context.Context, h hash.Hash, n int64) error {
	for n > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		k := min(n, chunk)
		h.Write(nothing[:k])
		n -= k
	}
	return nil
}

// stillEqual reads the source again and compares it with the digest of the
// copy. If it holds, the fact is brought up to date.
func (p *pass) stillEqual(t *task) (bool, error) {
	in, err := t.node.src.OpenFile(t.name)
	if err != nil {
		return false, err
	}
	defer in.Close()
	began := time.Now()
	digest, st, err := Digest(p.ctx, in)
	if err != nil {
		return false, err
	}
	now := SnapOf(&st, t.seen.Xattrs)
	if digest != t.fact.Digest || !t.fact.Source.Unchanged(&now, false) {
		return false, nil
	}
	t.fact.Flags &^= Recent
	if now.recent(began, p.TimeStep) {
		t.fact.Flags |= Recent
	}
	return true, nil
}

// Digest reads an open file from its start and returns the SHA-256 of its
// content with the stat taken before.
func Digest(ctx context.Context, in *os.File) (sum [32]byte, st handle.Stat, err error) {
	if st, err = handle.StatFile(in); err != nil {
		return sum, st, err
	}
	h := sha256.New()
	buf := make([]byte, min(chunk, max(st.Size, 1)+1))
	for at := int64(0); ; {
		if err := ctx.Err(); err != nil {
			return sum, st, err
		}
		n, err := in.ReadAt(buf, at)
		h.Write(buf[:n])
		at += int64(n)
		if err == io.EOF {
			h.Sum(sum[:0])
			return sum, st, nil
		}
		if err != nil {
			return sum, st, err
		}
	}
}

// setFile gives the copy owner, attributes, mode, ACLs and times, in this
// order: a change of owner takes away setuid and capabilities, a mode without
// the right to write forbids attributes, a mode changes an ACL's mask, and
// the times come last.
func setFile(out *os.File, t *task, want *Snap, atime handle.Time) error {
	st, err := handle.StatFile(out)
	if err != nil {
		return err
	}
	if st.UID != want.UID || st.GID != want.GID {
		if err := out.Chown(int(want.UID), int(want.GID)); err != nil {
			return err
		}
	}
	if err := setXattrs(t.node.dst, t.as, t.seen.Xattrs, false); err != nil {
		return err
	}
	if err := unix.Fchmod(int(out.Fd()), want.Mode&0o7777); err != nil {
		return &fs.PathError{Op: "chmod", Path: out.Name(), Err: err}
	}
	if err := setXattrs(t.node.dst, t.as, t.seen.Xattrs, true); err != nil {
		return err
	}
	return handle.SetFileTimes(out, atime, want.Mtime)
}

func setSymlink(dst *handle.Dir, name string, e *inventory.Entry) (Snap, error) {
	st, err := dst.Stat(name)
	if err == nil && (st.UID != e.Stat.UID || st.GID != e.Stat.GID) {
		err = dst.ChownEntry(name, e.Stat.UID, e.Stat.GID)
	}
	if err == nil {
		err = setXattrs(dst, name, e.Xattrs, false)
	}
	if err == nil {
		err = dst.SetTimesEntry(name, e.Stat.Atime, e.Stat.Mtime)
	}
	if err == nil {
		st, err = dst.Stat(name)
	}
	return SnapOf(&st, e.Xattrs), err
}

// setXattrs sets the ACLs, or all other attributes. Nothing is taken away here: the entry is new,
// and what the system puts on it by itself is the system's.
func setXattrs(dst *handle.Dir, name string, xattrs []handle.Xattr, acls bool) error {
	for _, x := range xattrs {
		if inventory.SystemLabel(x.Name) || acls != strings.HasPrefix(x.Name, "system.posix_acl_") {
			continue
		}
		if err := dst.SetXattr(name, x); err != nil {
			return err
		}
	}
	return nil
}

// setDir gives a directory owner, mode, attributes and times. Attributes
// that an earlier pass set and the source has no more are taken away.
func setDir(dst *handle.Dir, want *Snap, xattrs []handle.Xattr, atime handle.Time) error {
	st, err := dst.Self()
	if err != nil {
		return err
	}
	if st.UID != want.UID || st.GID != want.GID {
		if err := dst.Chown(want.UID, want.GID); err != nil {
			return err
		}
	}
	if err := dropXattrs(dst, xattrs); err != nil {
		return err
	}
	if err := setXattrs(dst, ".", xattrs, false); err != nil {
		return err
	}
	if err := dst.Chmod(want.Mode & 0o7777); err != nil {
		return err
	}
	if err := setXattrs(dst, ".", xattrs, true); err != nil {
		return err
	}
	return dst.SetTimes(atime, want.Mtime)
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

func dirSnap(d *handle.Dir) (Snap, error) {
	st, err := d.Self()
	if err != nil {
		return Snap{}, err
	}
	xattrs, err := d.Xattrs(".")
	return SnapOf(&st, xattrs), err
}
