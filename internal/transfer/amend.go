package transfer

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// ErrSourceGone reports an entry that is gone, or has become something else,
// since it was seen.
var ErrSourceGone = errors.New("it is gone")

// ErrChanging reports a file that does not come to rest.
var ErrChanging = errors.New("it keeps changing")

// copyTries is how often a file that changes meanwhile is copied again.
const copyTries = 5

// CopyEntry copies one entry that is no directory into dst under a name
// that is free there, flushes it and reads it back. Of the job it takes the
// digest, what is allowed, how links are rewritten, and the time step. The
// record's Copy is the entry under that name; a rename afterwards changes its
// ctime. An entry that has changed since it was seen is copied as it is now,
// and e says so.
//
// Errors: [ErrSourceGone], [ErrChanging] in a *fs.PathError, those of reading and writing.
func CopyEntry(ctx context.Context, j *Job, e *inventory.Entry, dst *handle.Dir, name string) (*Record, error) {
	for range copyTries {
		if err := lookAgain(ctx, e, j.TimeStep); err != nil {
			return nil, err
		}
		rec, err := copyOnce(ctx, j, e, dst, name)
		if err != nil || rec.Fact.Flags&(Again|Recent) == 0 {
			return rec, err
		}
		if err := dst.Unlink(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return nil, &fs.PathError{Op: "copy", Path: e.Dir.Join(e.Name), Err: ErrChanging}
}

// lookAgain looks at an entry once it is so old that a further change would
// show in its times.
func lookAgain(ctx context.Context, e *inventory.Entry, step time.Duration) error {
	for {
		at := time.Now()
		st, err := e.Dir.Stat(e.Name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && st.Type() != e.Stat.Type() {
			return ErrSourceGone
		}
		if err != nil {
			return err
		}
		e.At, e.Stat = at, st
		if now := SnapOf(&st, nil); !st.IsRegular() || !now.recent(at, step) {
			break
		}
		select {
		case <-time.After(step + LeastStep):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if e.Stat.IsSymlink() {
		var err error
		if e.Link, err = e.Dir.Readlink(e.Name); err != nil {
			return orSourceGone(err)
		}
	}
	return orSourceGone(e.ReadXattrs())
}

// orSourceGone is [ErrSourceGone] for an error that says that the entry is not
// there any more.
func orSourceGone(err error) error {
	if handle.Absent(err) {
		return ErrSourceGone
	}
	return err
}

func copyOnce(ctx context.Context, j *Job, e *inventory.Entry, dst *handle.Dir, name string) (*Record, error) {
	p := &pass{ctx: ctx, Job: Job{Digest: j.Digest, Allow: j.Allow, Fuse: j.Fuse, Unstable: j.Unstable,
		Rewrite: j.Rewrite, TimeStep: j.TimeStep}}
	rec := p.record(e)
	rec.Fact = Fact{Flags: Copied | Verified, Source: p.source(&e.Stat, e.Xattrs)}
	if !e.Stat.IsRegular() {
		var err error
		rec.Fact.Copy, err = p.makeSpecial(dst, name, e, rec.LinkOf(Copy))
		return &rec, err
	}
	f, err := newCopier(p).file(&task{node: &node{src: e.Dir, dst: dst}, name: e.Name, as: name, path: e.Path,
		seen: *e})
	if err != nil {
		return nil, err
	}
	if f.Flags&Again != 0 {
		return &Record{Fact: *f}, nil
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
	return Compose(dir, n, func(put func(*Record) error) error {
		c := Read(old)
		for i := range changes {
			if _, err := c.To(changes[i].Path, put); err != nil {
				return err
			}
			if err := put(&changes[i]); err != nil {
				return err
			}
		}
		return c.Rest(put)
	})
}

// Rewrite writes the spool of pass n: the old one with every record as change
// leaves it. Paths stay.
func Rewrite(old *Spool, dir string, n int, change func(*Record) error) (*Spool, error) {
	return Compose(dir, n, func(put func(*Record) error) error {
		return Read(old).Rest(func(r *Record) error {
			return handle.InOrder(func() error { return change(r) }, func() error { return put(r) })
		})
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
