package transfer

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// CopyEntry copies one file or symbolic link into dst under a name that is
// free there, flushes it and reads it back. The fact's Copy is the entry
// under that name; a rename afterwards changes its ctime.
func CopyEntry(ctx context.Context, e *inventory.Entry, dst *handle.Dir, name string) (*Fact, error) {
	if e.Stat.IsSymlink() {
		if err := dst.Symlink(e.Link, name); err != nil {
			return nil, err
		}
		made, err := setSymlink(dst, name, e)
		return &Fact{Flags: Copied | Verified, Source: SnapOf(&e.Stat, e.Xattrs), Copy: made}, err
	}
	if !e.Stat.IsRegular() {
		return nil, &fs.PathError{Op: "copy", Path: e.Dir.Join(e.Name), Err: ErrNotKept}
	}
	p := &pass{ctx: ctx}
	f, err := p.copyFile(&task{node: &node{src: e.Dir, dst: dst}, name: e.Name, as: name, path: e.Path, seen: *e})
	if err != nil {
		return nil, err
	}
	out, err := dst.OpenFile(name)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	if err := out.Sync(); err != nil {
		return nil, err
	}
	digest, _, _, err := ReadBack(ctx, out)
	if err == nil && digest != f.Digest {
		err = &DiffError{Path: e.Path, What: "content"}
	}
	f.Flags |= Verified
	return f, err
}

// SetDir gives a directory the metadata of another, without its times if
// keepTimes is set.
func SetDir(dst *handle.Dir, want *inventory.Entry, keepTimes bool) (Snap, error) {
	snap := SnapOf(&want.Stat, want.Xattrs)
	if keepTimes {
		st, err := dst.Self()
		if err != nil {
			return Snap{}, err
		}
		snap.Mtime = st.Mtime
	}
	if err := setDir(dst, &snap, want.Xattrs, want.Stat.Atime); err != nil {
		return Snap{}, err
	}
	return dirSnap(dst)
}

// Amend writes the spool of pass n: the old one with some records replaced
// or added. Changes are in the one order.
func Amend(old *Spool, dir string, n int, changes []Record) (*Spool, error) {
	out, err := CreateSpool(dir, n)
	if err != nil {
		return nil, err
	}
	put := func(r *Record) error {
		depth := 0
		if r.Path != "." {
			depth = strings.Count(r.Path, "/") + 1
		}
		ord, err := out.Append(depth, Base(r.Path), r.Link, r.Xattrs)
		if err != nil {
			return err
		}
		return out.Put(ord, &r.Fact)
	}
	c := Read(old)
	for err == nil && (c.Peek() != nil || len(changes) > 0) {
		r := c.Peek()
		if len(changes) > 0 && (r == nil || handle.Compare(changes[0].Path, r.Path) <= 0) {
			if r != nil && r.Path == changes[0].Path {
				c.Next()
			}
			err = put(&changes[0])
			changes = changes[1:]
			continue
		}
		err = put(r)
		c.Next()
	}
	if err = errors.Join(err, out.Sync()); err != nil {
		return nil, errors.Join(err, out.Close())
	}
	return out, nil
}
