package transfer

import (
	"errors"
	"io/fs"
	"syscall"

	"nexlin/internal/handle"
)

// ErrNotAsLent says that something in a directory that was taken as it is differs from the
// live folder by now: all has to be given back and looked at file by file.
var ErrNotAsLent = errors.New("what the held original lent as it is has changed")

// RecordDirs writes into a new spool what the part holds once [Lender.TakeDirs] has taken the
// directories: all in them as the lender's spool says that it is, and the directories around
// them, which are not made yet. All of it is on the device afterwards. It returns the number of files.
func (l *Lender) RecordDirs(dirs []LentDir, to *Spool) (files int64, err error) {
	for c := Read(l.Spool); c.Peek() != nil; c.Next() {
		r := *c.Peek()
		for len(dirs) > 0 && handle.Compare(r.Path, dirs[0].Path) > 0 && !handle.Within(r.Path, dirs[0].Path) {
			dirs = dirs[1:]
		}
		if len(dirs) == 0 {
			break
		}
		f := Fact{Flags: Copied | Lent, Source: *r.Fact.Of(l.Side.Other()), Copy: *r.Fact.Of(l.Side),
			Digest: r.Fact.Digest, Sum: r.Fact.Sum}
		switch in := handle.Within(r.Path, dirs[0].Path); {
		case in && r.IsRegular():
			files++
		case in:
			f.Flags |= Verified
		case handle.Within(dirs[0].Path, r.Path):
			f = Fact{}
		default:
			continue
		}
		if err := handle.InOrder(func() error { return to.Append(&r) },
			func() error { return to.Put(r.Ord, &f) }); err != nil {
			return files, err
		}
	}
	return files, to.Sync()
}

// TakeDirs renames directories out of the held original into the part, each with all that is
// in it; those that were taken before stay. Nothing is proven by that: a pass of a [Job]
// that says Lent and [Verify] do. Where one can't be renamed, or is another by now, the error is
// [ErrNotAsLent].
func (l *Lender) TakeDirs(part *Part, dirs []LentDir) error {
	for _, d := range dirs {
		err := l.takeDir(part, d)
		if errors.Is(err, fs.ErrExist) || errors.Is(err, errKept) || errors.Is(err, syscall.EXDEV) {
			err = ErrNotAsLent
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (l *Lender) takeDir(part *Part, d LentDir) error {
	from, name, st, err := standing(l.Held, d.Path)
	if from == nil {
		return err // taken before, or gone: then it will be missed in the part
	}
	defer from.Release()
	if !d.is(st) {
		return ErrNotAsLent
	}
	to, err := part.Around(d.Path)
	if err != nil {
		return err
	}
	defer to.Release()
	by := lending{Lender: l}
	if err := by.rename(from, name, to, name); err != nil {
		return err
	}
	// Whoever may write around it could have put another there meanwhile.
	if err := to.StatInto(name, st); err != nil || d.is(st) {
		return err
	}
	return errors.Join(ErrNotAsLent, by.rename(to, name, from, name))
}
