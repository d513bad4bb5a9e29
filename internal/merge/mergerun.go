package merge

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// A merge copies the half into a part beside the target like a move, and
// then gives its entries their places in the target by renames: nothing of
// the target is written to, and nothing is replaced. An entry has been placed
// if the part lacks it; once the records are settled, they say so. So it can
// be taken back from anywhere.

// A merging gives the entries of a copy their places among others.
type merging struct{ execute.Copying }

func (m *merging) Where() (plan.Position, error) { return m.WhereMove() }

func (m *merging) Place(ctx context.Context, _ execute.Placement) error {
	if err := m.merge(ctx); err != nil {
		return err
	}
	return m.SwitchAct(ctx)
}

func (m *merging) Settle(ctx context.Context) error {
	return handle.InOrder(func() error { return m.settle(ctx) }, func() error { return m.tidy(ctx) })
}

func (m *merging) TryLink(ctx context.Context, _ *handle.Dir) error { return m.TryMended(ctx) }

func (m *merging) Describe(ctx context.Context) error { return m.RenewNote(ctx) }

func (m *merging) Save(context.Context) (func(*ledger.Tx) error, error) {
	after := &m.Plan.Mend.After
	var err error
	if after.Settings, err = m.SettingRecords(); err != nil {
		return nil, err
	}
	after.Drive.Counter = max(after.Drive.Counter, m.LedgerRedirect().Drive.Counter)
	return m.SaveMended, nil
}

// merge gives the entries of the part their places in the target.
func (m *merging) merge(ctx context.Context) error {
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	if err := m.keepTimes(live); err != nil {
		return err
	}
	return m.Act(ctx, "merge", m.Plan.Target, func() error {
		return m.eachMoved(ctx, m.Spool, live, "merged",
			func(rec *transfer.Record) (bool, error) { return m.mergeOne(ctx, live, rec) })
	}, nil)
}

// eachMoved has every entry of the records moved, one way or the other, and
// gives the target's directories back what they had.
func (m *merging) eachMoved(ctx context.Context, spool *transfer.Spool, live *handle.Dir, what string,
	move func(*transfer.Record) (bool, error)) error {
	n := 0
	for c := transfer.Read(spool); c.Peek() != nil; c.Next() {
		if c.Peek().Path == "." {
			continue
		}
		moved, err := move(c.Peek())
		if err != nil {
			return err
		}
		if moved {
			n++
			if err := run.Point(ctx, fmt.Sprintf("%s-%d", what, n)); err != nil {
				return err
			}
		}
	}
	return handle.InOrder(func() error { return m.timesBack(live) }, live.SyncAll, m.Part.Dir.Sync)
}

// flushFUSE flushes directories one by one where flushing the whole file
// system proves nothing.
func (m *merging) flushFUSE(dirs ...*handle.Dir) error {
	if !m.Plan.IntoFuse {
		return nil
	}
	var err error
	for _, d := range dirs {
		err = errors.Join(err, d.Sync())
	}
	return err
}

func (m *merging) mergeOne(ctx context.Context, live *handle.Dir, rec *transfer.Record) (moved bool, err error) {
	from, name, err := m.Part.Dir.Parent(rec.Path)
	if handle.Missing(err) {
		return false, nil // it went over with the directory around it
	}
	if err != nil {
		return false, err
	}
	defer from.Release()
	half, err := from.Stat(name)
	if handle.Missing(err) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	to, _, err := live.Parent(rec.Path)
	if err != nil {
		return false, err
	}
	defer to.Release()
	var target *handle.Stat
	if st, err := to.Stat(name); err == nil {
		target = &st
	} else if !handle.Missing(err) {
		return false, err
	}
	fate, err := fateOf(m.Plan, rec.Path, &half, target,
		func() (bool, error) { return m.targetHas(ctx, to, name, rec, target) })
	if err != nil {
		return false, err
	}
	as := name
	switch fate {
	case FateEqual, FateInside, FateHeld:
		return false, nil
	}
	if err := writable(from, to); err != nil {
		return false, err
	}
	switch fate {
	case FateBeside:
		as = m.Plan.Beside(name, plan.OfHalf)
	case FateName:
		err = to.Rename(name, to, m.Plan.Beside(name, plan.OfTarget))
	case FateReplace:
		err = to.Rename(name, from, m.Plan.Beside(name, plan.OfTarget))
	}
	if err == nil && fate != FateNew && fate != FateBeside {
		err = run.Point(ctx, "made-way")
	}
	if err == nil {
		err = carry(from, name, to, as)
	}
	return true, errors.Join(err, m.flushFUSE(from, to))
}

// writable lets this account change the names in directories that it owns and
// that were made read-only. Those of the target get their mode back from what
// [merging.keepTimes] has written down; those of the part are Nexlin's own.
func writable(dirs ...*handle.Dir) error {
	for _, d := range dirs {
		if d.Access(".", handle.MayWrite|handle.MayEnter) == nil {
			continue
		}
		st, err := d.Self()
		if err == nil {
			err = d.Chmod(st.Perm() | 0o300)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// carry renames an entry into another directory, never replacing. A directory
// has to be writable itself for that, since what is around it changes.
func carry(from *handle.Dir, name string, to *handle.Dir, as string) error {
	d, err := from.Beneath(name)
	if err != nil || d.Access(".", handle.MayWrite) == nil { // no directory, or one that may be carried
		d.Release()
		return from.Rename(name, to, as)
	}
	defer d.Release()
	st, err := d.Self()
	if err == nil {
		err = d.Chmod(st.Perm() | 0o200)
	}
	if err != nil {
		return err
	}
	return errors.Join(from.Rename(name, to, as), d.Chmod(st.Perm()))
}

// targetHas reports whether the target has the very content of a record.
func (m *merging) targetHas(ctx context.Context, dir *handle.Dir, name string, rec *transfer.Record,
	st *handle.Stat) (bool, error) {
	switch {
	case st.IsSymlink():
		text, err := dir.Readlink(name)
		return text == rec.Link || text == rec.LinkOf(transfer.Copy), err
	case !st.IsRegular():
		return st.Rdev == rec.Rdev, nil
	case st.Size != rec.Fact.Source.Size:
		return false, nil
	}
	sum, err := late.ContentOf(ctx, dir, name, st.Size)
	return err == nil && sum == rec.Fact.Sum, err
}

// timesFile keeps times and modes of the target's directories that a merge
// puts something into.
const timesFile = "times"

type dirTimes struct {
	Path  string      `json:"path"`
	Ino   uint64      `json:"ino"`
	Mode  uint32      `json:"mode"`
	Mtime handle.Time `json:"mtime"`
}

// keepTimes writes down what the directories have that both halves have. It
// is not done again once something was moved.
func (m *merging) keepTimes(live *handle.Dir) error {
	path := filepath.Join(m.Run.Dir(), timesFile)
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return handle.WriteFile(path, 0o600, func(w io.Writer) error {
		for c := transfer.Read(m.Spool); c.Peek() != nil; c.Next() {
			if !c.Peek().IsDir() {
				continue
			}
			d, err := live.Beneath(c.Peek().Path)
			if err != nil {
				continue // it is not there, or is no directory
			}
			st, err := d.Self()
			d.Release()
			if err != nil {
				return err
			}
			line, err := pathtext.Marshal(dirTimes{c.Peek().Path, st.Ino, st.Perm(), st.Mtime})
			if err == nil {
				_, err = w.Write(append(line, '\n'))
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// timesBack gives the target's directories the times and modes they had.
func (m *merging) timesBack(live *handle.Dir) error {
	f, err := handle.OpenRegular(filepath.Join(m.Run.Dir(), timesFile))
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		var t dirTimes
		if err := pathtext.Unmarshal(lines.Bytes(), &t); err != nil {
			return err
		}
		d, err := live.Beneath(t.Path)
		if err != nil {
			continue // others have taken it away
		}
		st, err := d.Self()
		if err == nil && (m.Plan.IntoUnstable() || st.Ino == t.Ino) {
			if st.Perm() != t.Mode {
				err = d.Chmod(t.Mode)
			}
			if st.Mtime != t.Mtime {
				err = errors.Join(err, handle.IgnorePermission(d.SetTimes(st.Atime, t.Mtime)))
			}
		}
		d.Release()
		if err != nil {
			return err
		}
	}
	return lines.Err()
}

// settle takes into the records where everything lies after the merge.
func (m *merging) settle(ctx context.Context) error {
	if done, err := m.settledSince("merge", "unmerge"); done || err != nil {
		return err
	}
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	if m.Part == nil {
		if m.Part, err = m.partAgain(); err != nil {
			return err
		}
	}
	return m.Act(ctx, "settle", m.Plan.Target, func() error {
		next, err := m.rewrite(ctx, live, func(rec *transfer.Record) error {
			rec.Fact.Flags &^= transfer.Merged
			if rec.Path == "." {
				return nil
			}
			_, err := m.inPart(rec.Path)
			merged := handle.Missing(err)
			if err != nil && !merged {
				return err
			}
			snap, err := m.settledAt(live, rec, merged)
			if snap != nil {
				rec.Fact.Copy = *snap
			}
			if merged {
				rec.Fact.Flags |= transfer.Merged
			}
			return err
		})
		if err != nil {
			return err
		}
		_ = m.Spool.Close() // only read from here on
		m.Spool = next
		return nil
	}, nil)
}

// settledAt looks at the target's entry that has the content of a record; nil
// if there is none.
func (m *merging) settledAt(live *handle.Dir, rec *transfer.Record, merged bool) (*transfer.Snap, error) {
	for _, path := range []string{rec.Path, m.Plan.BesidePath(live, rec.Path)} {
		dir, name, err := live.Parent(path)
		if handle.Absent(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		st, err := dir.Stat(name)
		var xattrs []handle.Xattr
		if err == nil {
			xattrs, err = dir.Xattrs(name)
		}
		dir.Release()
		if handle.Missing(err) || err == nil && merged && !placedAs(rec, &st) || err == nil && st.Type() != rec.Type() {
			continue
		}
		if err != nil {
			return nil, err
		}
		snap := transfer.SnapOf(&st, xattrs).On(m.Plan.IntoUnstable())
		return &snap, nil
	}
	return nil, nil
}

// rewrite writes the records of this run anew and composes the frozen
// manifest from them.
func (m *merging) rewrite(ctx context.Context, live *handle.Dir,
	change func(*transfer.Record) error) (*transfer.Spool,
	error) {
	return m.RewriteRecords(ctx, m.Plan.Run, m.Plan.Digest, live, func(dir string, n int) (*transfer.Spool, error) {
		return transfer.Rewrite(m.Spool, dir, n, change)
	})
}

// Tidy takes away what is left in the part: what the target had already. What
// was the target's stays, under a name that says so.
func (m *merging) tidy(ctx context.Context) error {
	aside := m.replacedDir()
	return m.Act(ctx, "tidy", aside, func() error {
		if m.Part != nil {
			m.Part.Close()
			m.Part = nil
		}
		part := naming.Part(m.Plan.Run)
		left, err := transfer.Sweep(m.Into, part, m.Spool,
			func(r *transfer.Record) bool { return r.Fact.Flags&transfer.Merged == 0 })
		if err != nil {
			return err
		}
		if left {
			if err := m.Into.Rename(part, m.Into, aside); err != nil {
				return err
			}
		}
		if _, err := m.Into.Stat(aside); err == nil {
			at := m.Into.Join(aside)
			f := finding.New(finding.OlderAside, at, "what the target had of entries that were replaced is in %s",
				at).Named(m.Plan.Name)
			m.Out.Findings = append(m.Out.Findings, f)
		}
		return m.Into.Sync()
	}, nil)
}

// replacedDir is where the target's entries lie that the half's replaced.
func (m *merging) replacedDir() string {
	return naming.Shorten("."+m.Plan.Final, ".replaced-"+m.Plan.Run)
}

// Merging is the job of a merge of halves.
func Merging(m *execute.Execution) execute.Job { return &merging{execute.CopyingOf(m)} }
