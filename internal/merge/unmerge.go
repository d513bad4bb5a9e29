package merge

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/plan"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// begun reports whether the merge may have moved something.
func (m *merging) begun() (bool, error) { return m.Last("merge", new(string)) }

// FindPart is [merging.begun], once the part of it was found again.
func (m *merging) FindPart() (bool, error) {
	begun, err := m.begun()
	if err != nil || !begun {
		return false, err
	}
	part, err := m.partAgain()
	if err != nil {
		return false, err
	}
	part.Close()
	return true, nil
}

// StartOver takes back a merge that was stopped, so that the part is whole
// again and can catch up with the half.
func (m *merging) StartOver(ctx context.Context) error {
	spool, err := m.SpoolOf(m.Plan.Run)
	if err != nil {
		return err
	}
	defer spool.Close()
	if err := m.unmerge(ctx, spool); err != nil {
		return err
	}
	// What was tidied away already is copied again.
	dir := m.Run.Dir()
	all := transfer.Spools(dir)
	next, err := transfer.Rewrite(spool, dir, all[len(all)-1]+1, func(rec *transfer.Record) error {
		rec.Fact.Flags &^= transfer.Merged
		if rec.Path == "." {
			return nil
		}
		_, err := m.inPart(rec.Path)
		if handle.Missing(err) {
			rec.Fact.Flags, rec.Fact.Copy = 0, transfer.Snap{}
		}
		return handle.IgnoreMissing(err)
	})
	if err != nil {
		return err
	}
	for _, n := range all {
		if err := transfer.RemoveSpool(dir, n); err != nil {
			return errors.Join(err, next.Close())
		}
	}
	return next.Close()
}

// settledSince reports whether the records were settled, and none of these acts
// begun since: then they say where the merge has put everything.
func (m *merging) settledSince(not ...string) (bool, error) {
	acts, err := m.Acts()
	if err != nil {
		return false, err
	}
	for _, a := range slices.Backward(acts) {
		if a.Name == "settle" {
			return !a.Done.IsZero(), nil
		}
		if slices.Contains(not, a.Name) {
			return false, nil
		}
	}
	return false, nil
}

// unmerge moves what was given a place back into the part, where it is still
// what was placed, and gives the target's entries their names again.
func (m *merging) unmerge(ctx context.Context, spool *transfer.Spool) error {
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	if err := m.Untried(live); err != nil { // a trial that failed may have switched back already
		return err
	}
	settled, err := m.settledSince("merge") // also while it is taken back, in several attempts if need be
	if err != nil {
		return err
	}
	err = m.Act(ctx, "unmerge", m.Plan.Target, func() error {
		return m.eachMoved(ctx, spool, live, "unmerged",
			func(rec *transfer.Record) (bool, error) { return m.unmergeOne(live, rec, settled) })
	}, nil)
	if err != nil {
		return err
	}
	err = os.Remove(filepath.Join(m.Run.Dir(), timesFile))
	return handle.IgnoreMissing(err)
}

func (m *merging) unmergeOne(live *handle.Dir, rec *transfer.Record, settled bool) (moved bool, err error) {
	to, name, err := live.Parent(rec.Path)
	if handle.Absent(err) {
		return false, nil // it came back with the directory around it
	}
	if err != nil {
		return false, err
	}
	defer to.Release()
	if !settled || rec.Fact.Flags&transfer.Merged != 0 {
		if moved, err = m.takeBack(to, name, rec); err != nil {
			return moved, err
		}
	}
	back, err := m.nameBack(to, name, rec)
	return moved || back, err
}

// takeBack moves an entry from its place in the target into the part.
func (m *merging) takeBack(to *handle.Dir, name string, rec *transfer.Record) (bool, error) {
	if _, err := m.inPart(rec.Path); !handle.Missing(err) {
		return false, err // it was not placed, or is back already
	}
	for _, as := range []string{name, m.Plan.Beside(name, plan.OfHalf)} {
		st, err := to.Stat(as)
		if handle.Missing(err) {
			continue
		}
		if err != nil {
			return false, err
		}
		if !placedAs(rec, &st) {
			continue // somebody else's, or changed since: it stays
		}
		from, err := m.Part.Around(rec.Path)
		if err != nil {
			return false, err
		}
		defer from.Release()
		if err := writable(from, to); err != nil {
			return false, err
		}
		if err := carry(to, as, from, name); err != nil {
			return true, err
		}
		return true, m.flushFUSE(from, to)
	}
	return false, nil
}

// placedAs reports whether an entry is still the one that was placed: a rename
// moves nothing but its ctime.
func placedAs(rec *transfer.Record, st *handle.Stat) bool {
	was, now := rec.Fact.Copy, transfer.SnapOf(st, nil)
	if was.Ino != 0 && was.Ino != now.Ino || rec.Type() != st.Type() {
		return false
	}
	return st.IsDir() || was.Size == now.Size && was.Mtime == now.Mtime
}

// inPart looks at an entry of the part.
func (m *merging) inPart(path string) (handle.Stat, error) {
	dir, name, err := m.Part.Dir.Parent(path)
	if err != nil {
		return handle.Stat{}, err
	}
	defer dir.Release()
	return dir.Stat(name)
}

// nameBack gives an entry of the target its name again that had made way.
func (m *merging) nameBack(to *handle.Dir, name string, rec *transfer.Record) (bool, error) {
	beside := m.Plan.Beside(name, plan.OfTarget)
	from := to
	if _, err := to.Stat(beside); handle.Missing(err) {
		dir, _, err := m.Part.Dir.Parent(rec.Path)
		if handle.Missing(err) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		defer dir.Release()
		from = dir
	}
	if _, err := from.Stat(beside); err != nil {
		return false, handle.IgnoreMissing(err)
	}
	if _, err := to.Stat(name); !handle.Missing(err) {
		return false, err // the name is taken: both stay
	}
	if err := writable(from, to); err != nil {
		return false, err
	}
	if err := from.Rename(beside, to, name); err != nil {
		return true, err
	}
	return true, m.flushFUSE(from, to)
}

// partAgain opens the part of a run whose merge has begun; it is made if it
// was tidied away.
func (m *merging) partAgain() (*transfer.Part, error) {
	if _, err := m.Into.Stat(m.replacedDir()); err == nil {
		if _, err := m.Into.Stat(naming.Part(m.Plan.Run)); handle.Missing(err) {
			if err := m.Into.Rename(m.replacedDir(), m.Into, naming.Part(m.Plan.Run)); err != nil {
				return nil, err
			}
		}
	}
	var known execute.Placement
	if _, err := m.Last("part-made", &known); err != nil {
		return nil, err
	}
	allow := m.Plan.Allow
	allow.Owners = true // it is this run's, whatever is in it
	return transfer.OpenPart(m.Into, naming.Part(m.Plan.Run), naming.Strangers(m.Plan.Run), known.Ino, &allow)
}

// Back takes a merge back from wherever it stands.
func (m *merging) Back(ctx context.Context) error {
	at, err := m.StandsAt()
	if err != nil {
		return err
	}
	begun, err := m.begun()
	if err != nil {
		return err
	}
	live := at == plan.Switched
	if begun && m.Into == nil {
		return swap.Broken(m.Plan.Into, "the directory around the target is not there")
	}
	if live {
		if err := m.unmergeSwitch(ctx); err != nil {
			return err
		}
	}
	if at == plan.Between {
		if _, err := m.BackFromGap(ctx); err != nil {
			return err
		}
	}
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	if err := link.Remove(m.HeldIn, m.Plan.Held, m.Plan.LinkText); err != nil {
		return err
	}
	if err := m.DropOwn(m.LinkIn, m.HeldIn); err != nil {
		return err
	}
	wasLive, err := m.Last("switch-back", new(json.RawMessage))
	if err != nil {
		return err
	}
	setAside := ""
	if begun {
		if setAside, err = m.takeAllBack(ctx, live || wasLive); err != nil {
			return err
		}
	}
	if setAside == "" {
		if err := m.RemovePart(ctx); err != nil {
			return err
		}
	}
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	aside, err := m.keptAside(setAside)
	if err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error { return m.saveUnmerged(t, aside) })
}

// keptAside is what was set aside under a name as a held copy; nil for no name.
func (m *merging) keptAside(name string) (*ledger.Held, error) {
	if name == "" {
		return nil, nil
	}
	if m.Plan.Fresh {
		if err := m.Renote(m.Into, m.Plan.Name, note.SetAside); err != nil {
			return nil, err
		}
	}
	m.Out.SetAside = filepath.Join(m.Plan.Into, name)
	return m.setAsideMerged(name)
}

// unmergeSwitch exchanges link and folder back, if nobody has worked in what the
// merge placed or holds.
func (m *merging) unmergeSwitch(ctx context.Context) error {
	m.Switched = true
	err := handle.InOrder(m.Reopen, func() error { return m.placedUnchanged(ctx) },
		func() error { return m.HeldUnchanged(ctx) },
		m.ShowHeld, func() error { return m.LeadBack(ctx) })
	m.Switched = err != nil
	return err
}

// saveUnmerged has the ledger say what it said before the merge; aside is what was
// set aside of it, nil if nothing was.
func (m *merging) saveUnmerged(t *ledger.Tx, aside *ledger.Held) error {
	if err := t.HeldGone(m.Plan.Run, m.Plan.HeldPath()); err != nil {
		return err
	}
	if aside != nil {
		if err := t.AddHeld(*aside); err != nil {
			return err
		}
	}
	switch {
	case !m.Plan.Fresh:
		return t.SaveRedirect(*m.Plan.Before)
	case aside == nil && m.Plan.Ended != nil:
		return t.SaveRedirect(*m.Plan.Ended)
	case aside == nil:
		return t.RemoveRedirect(m.Plan.Name)
	}
	ended := *m.Plan.Before
	ended.State = ledger.Ended // kept for what is held of it
	return t.SaveRedirect(ended)
}

// takeAllBack undoes the placing. What programs were led to once is set aside
// and not deleted (I4): its name is returned.
func (m *merging) takeAllBack(ctx context.Context, wasLive bool) (string, error) {
	aside := m.CopyAside()
	if _, err := m.Into.Stat(aside); err == nil {
		return aside, nil // done before this was stopped
	}
	var err error
	if m.Spool == nil {
		if m.Spool, err = m.SpoolOf(m.Plan.Run); err != nil {
			return "", err
		}
	}
	if m.Part, err = m.partAgain(); err != nil {
		return "", err
	}
	if err := m.unmerge(ctx, m.Spool); err != nil {
		return "", err
	}
	if !wasLive {
		return "", nil
	}
	live, err := m.Live()
	if err != nil {
		return "", err
	}
	defer live.Release()
	next, err := m.rewrite(ctx, live, func(rec *transfer.Record) error {
		if rec.IsDir() && rec.Path != "." { // it may have been tidied away, and made again
			if err := m.Part.SetDir(rec, &m.Plan.Allow); err != nil {
				return handle.IgnoreMissing(err)
			}
		}
		st, err := m.inPart(rec.Path)
		if err != nil || rec.Path == "." {
			return handle.IgnoreMissing(err)
		}
		dir, name, err := m.Part.Dir.Parent(rec.Path)
		if err != nil {
			return err
		}
		defer dir.Release()
		xattrs, err := dir.Xattrs(name)
		rec.Fact.Copy = transfer.SnapOf(&st, xattrs).On(m.Plan.IntoUnstable())
		return err
	})
	if err != nil {
		return "", err
	}
	_ = m.Spool.Close() // only read
	m.Spool = next
	err = handle.InOrder(func() error { return m.Part.Finish(next, &m.Plan.Allow) }, m.Part.Dir.SyncAll)
	if err != nil {
		return "", err
	}
	return aside, m.Act(ctx, "set-aside", aside, func() error {
		return handle.Flushed(m.Into.Rename(naming.Part(m.Plan.Run), m.Into, aside), m.Into)
	}, nil)
}

// setAsideMerged is the copy that was set aside, as a held original.
func (m *merging) setAsideMerged(name string) (*ledger.Held, error) {
	st, err := m.Into.Stat(name)
	if err != nil {
		return nil, err
	}
	h := m.HeldRow()
	h.Path, h.Drive, h.Copy, h.Ino = filepath.Join(m.Plan.Into, name), m.Plan.IntoDrive, true, st.Ino
	if m.Plan.IntoUnstable() {
		h.Ino = 0
	}
	return &h, nil
}

// lostName reports that nothing has happened to a file but that it has fewer
// names: some of them were in the part, and went with it.
func lostName(was, is *transfer.Snap) bool {
	now := *is
	now.Ctime, now.Nlink = was.Ctime, was.Nlink
	return is.Nlink < was.Nlink && now == *was
}

// placedUnchanged wants what was placed to be as it was placed: a
// *RefusedError if somebody worked on it.
func (m *merging) placedUnchanged(ctx context.Context) error {
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	if err := m.Untried(live); err != nil {
		return err
	}
	var changed []string
	for c := transfer.Read(m.Spool); c.Peek() != nil && len(changed) < finding.Listed; c.Next() {
		rec := c.Peek()
		if rec.Fact.Flags&transfer.Merged == 0 || rec.IsDir() {
			continue
		}
		snap, err := m.settledAt(live, rec, true)
		if err != nil {
			return err
		}
		if snap == nil || rec.Fact.Copy.Ctime != snap.Ctime && !lostName(&rec.Fact.Copy, snap) {
			changed = append(changed, filepath.Join(m.Plan.Copy(), rec.Path))
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return m.WorkedOn(changed)
}
