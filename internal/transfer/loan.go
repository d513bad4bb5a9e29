package transfer

import (
	"context"
	"errors"
	"os"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A Loan is what a [Lender] with Take would lend to a copy of the live folder.
type Loan struct {
	Files int64     // that are equal
	Bytes int64     // that their copies would take, in whole blocks
	Dirs  []LentDir // that can be taken as they are, in the one order, see [Lender.TakeDirs]; none lies in another
}

// A LentDir is a directory of the held original that is taken with all that is in it.
type LentDir struct {
	Path string `json:"path"`
	Ino  uint64 `json:"ino"`
}

func (d LentDir) is(st *handle.Stat) bool { return st.IsDir() && st.Ino == d.Ino }

// mostDirs bounds how many directories are taken as they are: the journal names each.
const mostDirs = 1000

// Lendable looks at both sides by metadata alone and says what would be lent to a copy of
// the live folder, which takes room in blocks of so many bytes. Both are walked at once.
func (l *Lender) Lendable(ctx context.Context, live *handle.Dir, block int64) (Loan, error) {
	group, ctx := errgroup.WithContext(ctx)
	verdicts := make(chan []verdict, 8)
	group.Go(func() error {
		defer close(verdicts)
		return l.judgeHeld(ctx, verdicts)
	})
	a := &appraisal{Lender: l, block: block, verdicts: verdicts}
	group.Go(func() error {
		if err := Match(ctx, live, l.Spool, a.visit); err != nil {
			return err // which ends the other walk
		}
		a.end()
		return nil
	})
	err := group.Wait()
	return a.loan, err
}

// A verdict says of one entry of the held original whether it is as the spool has it. One
// that the spool has not is not.
type verdict struct {
	path string
	same bool
}

// verdictLot is how many verdicts are handed over at once.
const verdictLot = 256

// judgeHeld gives the verdicts of all entries of the held original, in the one order.
func (l *Lender) judgeHeld(ctx context.Context, to chan<- []verdict) error {
	lot := make([]verdict, 0, verdictLot)
	err := Match(ctx, l.Held, l.Spool, func(rec *Record, now *inventory.Entry) error {
		v := verdict{path: pathOf(rec, now)}
		if rec != nil && now != nil {
			var err error
			if v.same, err = l.heldSame(rec, now); err != nil {
				return err
			}
		}
		if lot = append(lot, v); len(lot) < verdictLot {
			return nil
		}
		full := lot
		lot = make([]verdict, 0, verdictLot)
		return send(ctx, to, full)
	})
	if err != nil {
		return err
	}
	return send(ctx, to, lot)
}

// heldSame holds an entry of the held original against the record. The change time of a
// directory says only that entries have come and gone again, which the walk sees; that of a
// file, which was lent before and given back, nothing: its content is proven.
func (l *Lender) heldSame(rec *Record, now *inventory.Entry) (bool, error) {
	was := rec.Fact.Of(l.Side)
	switch {
	case now.Stat.IsRegular():
		return was.likely(&now.Stat), nil
	case !now.Stat.IsDir():
		return was.sameStat(&now.Stat) && rec.LinkOf(l.Side) == now.Link, nil
	}
	if err := now.ReadXattrs(); errors.Is(err, inventory.ErrGone) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	is := SnapOf(&now.Stat, now.Xattrs)
	return was.SameButNames(&is), nil
}

// An appraisal holds the live folder against the spool, and against what was said of the
// held original.
type appraisal struct {
	*Lender
	block    int64
	verdicts <-chan []verdict
	got      []verdict
	open     []appraised // the directories that the walk is in
	loan     Loan
}

// appraised is a directory of which nothing was found yet that is not equal.
type appraised struct {
	path  string
	ino   uint64 // of the held one
	equal bool
	takes bool // it can be renamed, and what is in it
	first int  // how many directories could be taken before it
}

func (a *appraisal) visit(rec *Record, now *inventory.Entry) error {
	path := pathOf(rec, now)
	held := a.heldHas(path)
	a.leave(path)
	both := held && rec != nil && now != nil
	switch {
	case rec != nil && now != nil && rec.IsDir() && now.Stat.IsDir():
		a.enter(rec, &now.Stat, held)
	case both && rec.IsRegular() && now.Stat.IsRegular():
		a.file(rec, &now.Stat)
	case !both || !a.alike(rec, &now.Stat) || !now.Stat.IsSymlink() || rec.Made != "" || rec.Link != now.Link:
		a.spoil(path)
	}
	return nil
}

func (a *appraisal) file(rec *Record, live *handle.Stat) {
	now := SnapOf(live, nil)
	now.Attrs = rec.Fact.Of(a.Side.Other()).Attrs // a change of them shows in the ctime
	if a.same(rec, &now) != nil && a.open[len(a.open)-1].takes {
		a.loan.Files++
		a.loan.Bytes += (live.Allocated + a.block - 1) / a.block * a.block
		if a.alike(rec, live) {
			return
		}
	}
	a.spoil(rec.Path)
}

func (a *appraisal) enter(rec *Record, live *handle.Stat, held bool) {
	equal := held && rec.Depth > 0 && a.alike(rec, live)
	if !equal {
		a.spoil(rec.Path)
	}
	mine := live.Mode&0o300 == 0o300 || os.Geteuid() == 0
	a.open = append(a.open, appraised{rec.Path, rec.Fact.Of(a.Side).Ino, equal, mine, len(a.loan.Dirs)})
}

// alike says that a live entry is as the record has it, and has the same metadata as the
// held one.
func (a *appraisal) alike(rec *Record, live *handle.Stat) bool {
	held, was := rec.Fact.Of(a.Side), rec.Fact.Of(a.Side.Other())
	return rec.Fact.Flags&Verified != 0 && was.Ino != 0 && was.sameStat(live) && a.Before.After(live.Ctime) &&
		held.Attrs == was.Attrs && (&Allow{}).Differs(held, was, nil, nil) == ""
}

// leave ends the directories that the path does not lie in.
func (a *appraisal) leave(path string) {
	for len(a.open) > 0 {
		d := a.open[len(a.open)-1]
		if path != "" && handle.Within(path, d.path) {
			return
		}
		a.open = a.open[:len(a.open)-1]
		if d.equal || !d.takes {
			a.loan.Dirs = a.loan.Dirs[:d.first] // it is taken with all in it, or nothing of it can be
		}
		if d.equal && d.takes && len(a.loan.Dirs) < mostDirs {
			a.loan.Dirs = append(a.loan.Dirs, LentDir{d.path, d.ino})
		}
	}
}

// spoil notes of the directories around an entry that not all in them is equal.
func (a *appraisal) spoil(path string) {
	for i := range a.open {
		if handle.Within(path, a.open[i].path) {
			a.open[i].equal = false
		}
	}
}

// heldHas says whether the held original has the entry as it was. What it alone has
// before is noted.
func (a *appraisal) heldHas(path string) bool {
	for v := a.next(); v != nil; v = a.next() {
		order := handle.Compare(v.path, path)
		if order > 0 {
			return false
		}
		a.got = a.got[1:]
		if order == 0 {
			return v.same
		}
		a.spoil(v.path)
	}
	return false
}

// next is the verdict that follows; nil at the end.
func (a *appraisal) next() *verdict {
	for len(a.got) == 0 {
		var more bool
		if a.got, more = <-a.verdicts; !more {
			return nil
		}
	}
	return &a.got[0]
}

// end takes in what only the held original has at the end of it.
func (a *appraisal) end() {
	for v := a.next(); v != nil; v = a.next() {
		a.spoil(v.path)
		a.got = a.got[1:]
	}
	a.leave("")
}
