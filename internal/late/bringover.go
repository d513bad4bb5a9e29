package late

import (
	"context"
	"errors"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/transfer"
)

// setDirectory makes a new directory in the live folder, or gives the one
// that was copied its new rights.
func (l *Writes) setDirectory(d transfer.Difference) (transfer.Snap, error) {
	dir, name, err := l.Live.Parent(d.Path)
	if err != nil {
		return transfer.Snap{}, err
	}
	defer dir.Release()
	at, err := l.Live.Beneath(d.Path)
	if handle.Missing(err) && d.Was == nil {
		var made transfer.Snap
		_, err := l.place(dir, name, nil, func(private *handle.Dir, tmp string) error {
			if err := private.Mkdir(tmp, 0o700); err != nil {
				return err
			}
			sub, err := private.Beneath(tmp)
			if err != nil {
				return err
			}
			defer sub.Release()
			made, err = l.Job.Allow.SetDir(sub, d.Now, false)
			return err
		})
		if errors.Is(err, handle.ErrReplaced) {
			err = errConflict
		}
		return made, err
	}
	if err != nil {
		return transfer.Snap{}, err
	}
	defer at.Release()
	st, err := at.Self()
	if err != nil {
		return transfer.Snap{}, err
	}
	if d.Was == nil { // made there, too, and has rights of its own
		return transfer.SnapOf(&st, nil).On(l.Job.Unstable), l.Tidy(dir)
	}
	if ino := d.Was.Fact.Of(l.Side.Other()).Ino; ino != 0 && ino != st.Ino {
		return transfer.Snap{}, errConflict
	}
	return l.Job.Allow.SetDir(at, d.Now, true)
}

// Tidy removes what a run that was stopped left of [Writes.place].
func (l *Writes) Tidy(dir *handle.Dir) error {
	if _, err := dir.Stat(l.Scratch); handle.Missing(err) {
		return nil
	}
	private, err := dir.Private(l.Scratch, l.Job.Allow.Owners)
	if err != nil {
		return err
	}
	defer private.Release()
	return dir.DropPrivate(l.Scratch, private)
}

// place makes an entry in the live folder: in a private directory beside its
// place, so that nobody can exchange it while it is made (I6), then renamed; if
// old is not nil, in the place of the entry that it describes and of no other.
// The times of the directory around it stay. It returns what was made;
// [handle.ErrReplaced] if something else stands there by now.
func (l *Writes) place(dir *handle.Dir, name string, old *handle.Stat,
	make func(private *handle.Dir, tmp string) error) (made handle.Stat, err error) {
	const tmp = handle.InPrivate
	times, err := dir.Self()
	if err != nil {
		return made, err
	}
	private, err := dir.Private(l.Scratch, l.Job.Allow.Owners)
	if err != nil {
		return made, err
	}
	defer private.Release()
	if err = make(private, tmp); err == nil {
		made, err = private.Stat(tmp)
	}
	if err == nil {
		err = dir.PlaceFrom(private, name, &made, old)
	}
	if err == nil {
		made, err = dir.Stat(name) // the rename has moved its ctime
	}
	err = errors.Join(err, dir.DropPrivate(l.Scratch, private),
		handle.IgnorePermission(dir.SetTimes(times.Atime, times.Mtime)))
	if err != nil {
		return made, err
	}
	return made, dir.Sync()
}

// bring makes the late entry under a name that is free: a copy, or one more
// name of a file whose other name was brought over before.
func (l *Writes) bring(ctx context.Context, e *inventory.Entry, dir *handle.Dir, tmp string) (*transfer.Record,
	error) {
	linked := !e.Stat.IsDir() && e.Stat.Nlink > 1 && !l.Job.Allow.Links
	if first := l.links[e.Stat.ID()]; linked && first != nil {
		from, name, err := l.Live.Parent(first.Path)
		if err != nil {
			return nil, err
		}
		defer from.Release()
		rec := *first
		rec.Path, rec.Same = e.Path, first.Path
		return &rec, from.Link(name, dir, tmp)
	}
	rec, err := transfer.CopyEntry(ctx, l.Job, e, dir, tmp)
	if err == nil && linked {
		if l.links == nil {
			l.links = map[handle.FileID]*transfer.Record{}
		}
		keep := *rec
		l.links[e.Stat.ID()] = &keep
	}
	return rec, err
}

// onlyTouched reports a file whose content and metadata are as they were
// copied: nothing was written, only the inode's own time moved.
func (l *Writes) onlyTouched(ctx context.Context, d transfer.Difference) (bool, error) {
	if d.Was == nil || !d.Now.Stat.IsRegular() {
		return false, nil
	}
	was, now := *d.Was.Fact.Of(l.Side), l.snap(d.Now)
	plain := was
	plain.Ctime = now.Ctime
	if l.Erasing && was.Nlink > 1 {
		plain.Nlink = now.Nlink // other names of it are deleted already
	}
	if plain != now {
		return false, nil
	}
	sum, err := ContentOf(ctx, d.Now.Dir, d.Now.Name, now.Size)
	if err != nil || sum != d.Was.Fact.Sum {
		return false, err
	}
	fact := d.Was.Fact
	*fact.Of(l.Side) = now
	l.Touched++
	l.record(d, fact)
	return true, nil
}

// mayReplace reports whether the entry in the live folder is still the one
// that was copied, and nobody has it open for writing. What stands there is
// given, too; nil if nothing does.
func (l *Writes) mayReplace(dir *handle.Dir, name string, d transfer.Difference) (*handle.Stat, bool, error) {
	st, err := dir.Stat(name)
	if handle.Missing(err) {
		return nil, d.Was == nil, nil
	}
	if err != nil || d.Was == nil || l.busy[d.Path] {
		return &st, false, err
	}
	xattrs, err := dir.Xattrs(name)
	if err != nil {
		return nil, false, err
	}
	now := transfer.SnapOf(&st, xattrs)
	return &st, d.Was.Fact.Of(l.Side.Other()).Still(&now, false), nil
}

// equal reports that the live folder has the very same under this name: a run
// that was stopped brought it over already, or a person did.
func (l *Writes) equal(ctx context.Context, dir *handle.Dir, name string, held *inventory.Entry) (bool, error) {
	st, err := dir.Stat(name)
	if handle.Missing(err) || err == nil && st.Type() != held.Stat.Type() {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	xattrs, err := dir.Xattrs(name)
	if err != nil {
		return false, err
	}
	var allow transfer.Allow
	if l.Job != nil {
		allow = l.Job.Allow
	}
	want, is := transfer.SnapOf(&held.Stat, held.Xattrs), transfer.SnapOf(&st, xattrs)
	switch {
	case allow.Differs(&want, &is, held.Xattrs, xattrs) != "":
		return false, nil
	case st.IsSymlink():
		text, err := dir.Readlink(name)
		return text == held.Link || l.Job != nil && l.Job.Rewrite != nil && text == l.rewritten(held), err
	case !st.IsRegular():
		return true, nil
	}
	return SameContent(ctx, held.Dir, held.Name, dir, name, st.Size)
}

// SameContent reads two files of one size and reports whether they are equal.
func SameContent(ctx context.Context, a *handle.Dir, aName string, b *handle.Dir, bName string, size int64) (bool,
	error) {
	first, err := ContentOf(ctx, a, aName, size)
	if err != nil {
		return false, err
	}
	second, err := ContentOf(ctx, b, bName, size)
	return first == second, err
}

// ContentOf is the sum of a file's content.
func ContentOf(ctx context.Context, dir *handle.Dir, name string, size int64) (sum transfer.Sum, err error) {
	return ReadWith(ctx, transfer.NewReader(), dir, name, size)
}

// ReadWith is [ContentOf] by a reader that is there already.
func ReadWith(ctx context.Context, r *transfer.Reader, dir *handle.Dir, name string, size int64) (sum transfer.Sum,
	err error) {
	f, err := dir.OpenFile(name)
	if err != nil {
		return sum, err
	}
	sum, err = r.Sum(ctx, f, size)
	return sum, errors.Join(err, f.Close())
}

func (l *Writes) rewritten(e *inventory.Entry) string {
	made, _ := l.Job.Rewrite(e)
	return made
}
