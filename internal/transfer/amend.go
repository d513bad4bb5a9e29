package transfer

import (
	"context"
	"errors"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// CopyEntry copies one entry that is no directory into dst under a name
// that is free there, flushes it and reads it back. Of the job it takes the
// digest, what is allowed, and how links are rewritten. The record's Copy is
// the entry under that name; a rename afterwards changes its ctime.
func CopyEntry(ctx context.Context, j *Job, e *inventory.Entry, dst *handle.Dir, name string) (*Record, error) {
	p := &pass{ctx: ctx, Job: Job{Digest: j.Digest, Allow: j.Allow, Fuse: j.Fuse, Rewrite: j.Rewrite, TimeStep: j.TimeStep}}
	rec := p.record(e)
	rec.Fact = Fact{Flags: Copied | Verified, Source: p.source(&e.Stat, e.Xattrs)}
	if !e.Stat.IsRegular() {
		var err error
		rec.Fact.Copy, err = p.makeSpecial(dst, name, e, rec.LinkOf(Copy))
		return &rec, err
	}
	f, err := newCopier(p).file(&task{node: &node{src: e.Dir, dst: dst}, name: e.Name, as: name, path: e.Path, seen: *e})
	if err != nil {
		return nil, err
	}
	out, err := dst.OpenFile(name)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(out.Sync(), out.Close()); err != nil {
		return nil, err
	}
	sum, _, err := NewReader().ReadBack(ctx, dst, name, f.Source.Size)
	if err == nil && sum != f.Sum {
		err = &DiffError{Path: e.Path, What: "content"}
	}
	f.Flags |= Verified
	rec.Fact = *f
	return &rec, err
}

// SetDir gives a directory the metadata of another, without its times if
// keepTimes is set.
func (a *Allow) SetDir(dst *handle.Dir, want *inventory.Entry, keepTimes bool) (Snap, error) {
	snap := SnapOf(&want.Stat, want.Xattrs)
	if keepTimes {
		st, err := dst.Self()
		if err != nil {
			return Snap{}, err
		}
		snap.Mtime = st.Mtime
	}
	made, err := a.setDir(dst, &snap, want.Xattrs, want.Stat.Atime, false)
	return SnapOf(&made, want.Xattrs), err
}

// Amend writes the spool of pass n: the old one with some records replaced
// or added. Changes are in the one order.
func Amend(old *Spool, dir string, n int, changes []Record) (*Spool, error) {
	return Compose(dir, n, func(put func(*Record) error) (err error) {
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
		return err
	})
}

// Rewrite writes the spool of pass n: the old one with every record as change
// leaves it. Paths stay.
func Rewrite(old *Spool, dir string, n int, change func(*Record) error) (*Spool, error) {
	return Compose(dir, n, func(put func(*Record) error) error {
		for c := Read(old); c.Peek() != nil; c.Next() {
			r := *c.Peek()
			if err := change(&r); err != nil {
				return err
			}
			if err := put(&r); err != nil {
				return err
			}
		}
		return nil
	})
}

// Compose writes the spool of pass n from the records that fill gives, in the
// one order.
func Compose(dir string, n int, fill func(put func(*Record) error) error) (*Spool, error) {
	out, err := CreateSpool(dir, n)
	if err != nil {
		return nil, err
	}
	err = fill(func(r *Record) error {
		next := *r
		next.Depth = 0
		if r.Path != "." {
			next.Depth = strings.Count(r.Path, "/") + 1
		}
		if err := out.Append(&next); err != nil {
			return err
		}
		return out.Put(next.Ord, &r.Fact)
	})
	if err = errors.Join(err, out.Sync()); err != nil {
		return nil, errors.Join(err, out.Close())
	}
	return out, nil
}
