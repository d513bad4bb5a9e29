package redirect

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"syscall"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// backward takes the run back from wherever it stands.
func (m *undoer) backward(ctx context.Context) error {
	at, err := m.standsAt()
	if err != nil {
		return err
	}
	var setAside string
	if at == plan.Switched {
		m.switched = true
		if err := m.copyUnchanged(ctx); err != nil {
			return err
		}
		if err := m.heldUnchanged(ctx); err != nil {
			return err
		}
		if err := m.showHeld(); err != nil {
			return err
		}
		if err := m.switchBack(ctx); err != nil {
			return err
		}
		m.switched = false
		at = plan.Placed
	}
	if at == plan.Between {
		if at, err = m.backFromGap(ctx); err != nil {
			return err
		}
	}
	if err := m.settingsBack(ctx); err != nil {
		return err
	}
	if m.plan.Traits().First {
		// Killed between making the link under the held name and the exchange.
		if err := link.Remove(m.heldIn, m.plan.Held, m.plan.LinkText); err != nil {
			return err
		}
	}
	if err := m.dropOwn(m.linkIn, m.heldIn); err != nil {
		return err
	}
	setAside, err = m.setAside(ctx, at)
	if err != nil {
		return err
	}
	if err := m.giveBack(ctx); err != nil {
		return err
	}
	if setAside == "" {
		if err := m.removePart(ctx); err != nil {
			return err
		}
	}
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	if setAside != "" {
		m.out.SetAside = filepath.Join(m.plan.Into, setAside)
	}
	return m.undone(ctx, setAside)
}

// heldUnchanged holds what is to take its old place again against its snapshot:
// a *RefusedError if something of it is gone. What was written there late comes
// Back with it, if that is since the run was stopped; after one that was done,
// it is somebody's work in the wrong place.
func (m *undoer) heldUnchanged(ctx context.Context) error {
	if m.plan.Bare {
		return m.neverCopiedUnchanged(ctx)
	}
	live, err := m.into.Beneath(m.plan.Final)
	if err != nil {
		return err
	}
	defer live.Release()
	l := &late.Writes{Held: m.from, Live: live, LivePath: m.plan.Copy(), Spool: m.spool, LookOnly: true, Fuse: m.plan.FromFuse}
	if err := l.Walk(ctx); err != nil {
		return err
	}
	bad, what := l.Gone, "is gone from"
	if len(bad) == 0 && m.wasDone {
		bad, what = append(l.Brought, l.Conflicts...), "was changed in"
	}
	if len(bad) == 0 {
		return nil
	}
	return m.heldRefused(bad, what)
}

// neverCopiedUnchanged is [undoer.heldUnchanged] for what was never copied.
func (m *undoer) neverCopiedUnchanged(ctx context.Context) error {
	since, err := sinceNeverCopied(ctx, m.Engine, m.plan.Run, m.from, m.plan.FromFuse)
	if err != nil || since == nil || since.nGone == 0 {
		return err // what was written there since comes back with it
	}
	return m.heldRefused(since.gone, "is gone from")
}

func (m *undoer) heldRefused(bad []string, what string) error {
	held := m.plan.HeldPath()
	f := finding.New(finding.HeldChanged, filepath.Join(held, bad[0]), "%s %s the held original at %s: the folder "+
		"would not come back as it was", bad[0], what, held).Named(m.plan.Name).OfRun(m.plan.Run)
	switch {
	case m.plan.Traits().Back:
		f = f.Instead("the folder is real again: `nexlin move` moves it, as it is now")
	case !m.wasDone:
		f = f.Instead("`nexlin resume " + m.plan.Run + "` finishes the run; then `nexlin bring-back " +
			pathtext.Quote(m.plan.Name) + "` brings the data back")
	}
	return plan.Refused(f.Listing(len(bad), late.PathsUnder(held, bad)))
}

// switchBack leads programs to the folder again.
func (m *switcher) switchBack(ctx context.Context) error {
	if !m.plan.Exchanges() {
		if err := m.Act(ctx, "unhold", m.plan.Held, m.unhold, nil); err != nil {
			return err
		}
	}
	return m.leadBack(ctx)
}

// leadBack has folder and link stand as they did before the switch.
func (m *switcher) leadBack(ctx context.Context) error {
	switch k := m.plan.Traits(); {
	case k.Back:
		return m.switchBackAct(ctx, m.toLink)
	case !k.Onward:
		return m.switchBackAct(ctx, m.toFolder)
	}
	// The link of a move on says again what it said.
	return m.Act(ctx, "switch-back", m.plan.OldText, func() error {
		if m.plan.Linkless() {
			return nil
		}
		return m.linkPlace().Lead(m.plan.LinkText, m.plan.OldText)
	}, nil)
}

// unhold gives what was held its own name again.
func (m *switcher) unhold() error {
	st, err := m.heldIn.Stat(m.plan.Held)
	if handle.Missing(err) || err == nil && !plan.IsFolder(&st, m.plan.FromID()) {
		return nil // it was not renamed yet
	}
	if err != nil {
		return err
	}
	if err := swap.Rename(m.heldIn, m.plan.Held, m.heldIn, filepath.Base(m.plan.From)); err != nil {
		return err
	}
	return m.heldIn.Sync()
}

// setAside gives a copy that had its final name a held name: it is not
// ours to delete any more (I4). Empty if there is none.
func (m *undoer) setAside(ctx context.Context, at plan.Position) (string, error) {
	aside := m.copyAside()
	var d Placement
	known, err := m.Last("place", &d)
	if err != nil || !known || m.into == nil {
		return "", err
	}
	// A copy that programs were led to once stays theirs under any name.
	wasLive, err := m.Last("switch-back", new(json.RawMessage))
	if err != nil {
		return "", err
	}
	for _, name := range []string{m.plan.Final, naming.Part(m.plan.Run)} {
		st, err := m.into.Stat(name)
		if err != nil && !handle.Missing(err) {
			return "", err
		}
		if err != nil || !plan.IsFolder(&st, d.Ino) || at == plan.AsBefore && !wasLive {
			continue
		}
		return aside, m.Act(ctx, "set-aside", aside, func() error {
			copied, err := m.into.Beneath(name)
			if err != nil {
				return err
			}
			defer copied.Release()
			if err := m.dropProbes(copied); err != nil {
				return err
			}
			if err := swap.Rename(m.into, name, m.into, m.copyAside()); err != nil {
				return err
			}
			return m.into.Sync()
		}, nil)
	}
	st, err := m.into.Stat(m.copyAside())
	if err == nil && plan.IsFolder(&st, d.Ino) {
		return aside, nil
	}
	return "", handle.IgnoreMissing(err)
}

// copyAside is what the copy is called once it is set aside.
func (m *opener) copyAside() string { return naming.Held(m.plan.Final, m.plan.Run) }

// removePart takes away what the run made before it gave it a name.
func (m *undoer) removePart(ctx context.Context) error {
	if m.into == nil {
		return nil
	}
	spools := m.oldSpools()
	left, err := transfer.Discard(m.into, naming.Part(m.plan.Run), spools...)
	for _, s := range spools {
		_ = s.Close() // only read
	}
	if err != nil {
		return err
	}
	if left {
		path := m.into.Join(naming.Part(m.plan.Run))
		m.out.Findings = append(m.out.Findings, finding.New(finding.Stranger, path,
			"entries that Nexlin did not make are left in %s", path).Named(m.plan.Name))
	}
	if err := run.Point(ctx, "part-removed"); err != nil {
		return err
	}
	if m.plan.Traits().Back {
		return m.into.Sync()
	}
	return handle.InOrder(m.emptyAgain, m.forgetRun)
}

// emptyAgain puts back the empty directory that stood at the target.
func (m *undoer) emptyAgain() error {
	var a plan.DirAttrs
	known, err := m.Last("drop-empty", &a)
	if err != nil || !known {
		return err
	}
	d, err := m.into.MkdirFor(m.plan.Final, a.Mode, a.UID, a.GID, naming.Scratch(m.plan.Run), m.plan.Allow.Owners)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Release()
	if err := handle.IgnorePermission(d.Chmod(a.Mode)); err != nil {
		return err
	}
	return handle.IgnorePermission(d.SetTimes(a.Mtime, a.Mtime))
}

// dropOwn removes what the run made for itself beside the link and in the
// directories: its temporary link, and what giving something away left.
func (m *opener) dropOwn(dirs ...*handle.Dir) error {
	if err := m.linkPlace().DropTemp(m.plan.LinkText, m.plan.OldText); err != nil {
		return err
	}
	for _, d := range dirs {
		if err := m.dropScratch(d); err != nil {
			return err
		}
	}
	return nil
}

// dropScratch removes what giving a directory away left in dir.
func (m *opener) dropScratch(dir *handle.Dir) error {
	name := naming.Scratch(m.plan.Run)
	if _, err := dir.Stat(name); handle.Missing(err) {
		return nil
	}
	p, err := dir.Private(name, m.plan.Allow.Owners)
	if err != nil {
		return err
	}
	defer p.Release()
	return dir.DropPrivate(name, p)
}

// LetGo takes back what the run put around the copy: its note, the tag if
// it was new, and the directories it made. What is not empty stays.
func (m *undoer) forgetRun() error {
	if err := m.dropNote(); err != nil {
		return err
	}
	var parents parentsData
	madeParents, err := m.Last("parents", &parents)
	if err != nil {
		return err
	}
	if m.plan.NewTag {
		if err := m.dropTag(); err != nil {
			return err
		}
	}
	if err := m.dropScratch(m.into); err != nil {
		return err
	}
	if !madeParents {
		return nil
	}
	return m.dropDirs(parents)
}

// dropNote removes the note of this run, and the record directory if
// nothing else is in it.
func (m *undoer) dropNote() error {
	rec, err := m.into.Beneath(drive.RecordDir)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer rec.Release()
	n, err := note.Read(rec, m.plan.Name)
	if err == nil && n.Run == m.plan.Run {
		for _, name := range []string{m.plan.Name + ".json", m.plan.Name + ".mtree"} {
			if err := rec.Unlink(name); err != nil && !handle.Missing(err) {
				return err
			}
		}
	}
	if err := m.dropTempRecords(rec); err != nil {
		return err
	}
	return rmdirIfEmpty(m.into, drive.RecordDir)
}

// dropTempRecords removes what a stop left of writing the run's records.
func (m *copier) dropTempRecords(rec *handle.Dir) error {
	for _, name := range []string{m.plan.Name + ".json", m.plan.Name + ".mtree", drive.TagFile} {
		if err := rec.Unlink(drive.TempRecord(name)); err != nil && !handle.Missing(err) {
			return handle.IgnorePermission(err)
		}
	}
	return nil
}

// dropTag removes a drive tag that this run made and no other has used.
func (m *undoer) dropTag() error {
	id := m.plan.IntoDrive.ID
	d, err := m.openOn(m.plan.TagIn, m.plan.IntoDrive)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Release()
	if err := m.dropScratch(d); err != nil {
		return err
	}
	t, err := drive.ReadTagIn(d)
	if handle.Missing(err) || err == nil && (t.ID != id || t.Counter > 1) {
		return nil
	}
	if err != nil {
		return err
	}
	rec, err := d.Beneath(drive.RecordDir)
	if err != nil {
		return err
	}
	defer rec.Release()
	if err := m.dropTempRecords(rec); err != nil {
		return err
	}
	names, err := rec.Names()
	if err != nil || len(names) > 1 {
		return err // notes of others lie beside it: the tag serves them
	}
	if err := rec.Unlink(drive.TagFile); err != nil {
		return err
	}
	return rmdirIfEmpty(d, drive.RecordDir)
}

func rmdirIfEmpty(d *handle.Dir, name string) error {
	err := d.Rmdir(name)
	if handle.Missing(err) || errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, syscall.EEXIST) {
		return nil
	}
	return err
}

// undone writes the result of an undo into the ledger.
func (m *undoer) undone(ctx context.Context, setAside string) error {
	if setAside != "" && !m.plan.Traits().Back {
		if err := m.renote(m.into, m.plan.Name, note.SetAside); err != nil {
			return err
		}
	}
	if !m.plan.Traits().First && m.heldIn != nil {
		if err := m.renote(m.heldIn, m.plan.Name, note.Here); err != nil {
			return err
		}
	}
	var aside ledger.Held
	if setAside != "" {
		aside = m.setAsideHeld() // reads the journal, which a transaction would keep it from
	}
	lender, err := m.heldNow(ctx)
	if err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		if err := t.HeldGone(m.plan.Run, m.plan.HeldPath()); err != nil {
			return err
		}
		if lender != nil {
			if err := t.ResizeHeld(*lender); err != nil {
				return err
			}
		}
		switch {
		case m.plan.Before != nil:
			if err := t.SaveRedirect(*m.plan.Before); err != nil {
				return err
			}
		case setAside == "" && m.plan.Ended != nil:
			return t.SaveRedirect(*m.plan.Ended)
		case setAside == "":
			return t.RemoveRedirect(m.plan.Name)
		default:
			r := m.ledgerRedirect()
			r.State = ledger.Ended
			if err := t.SaveRedirect(r); err != nil {
				return err
			}
		}
		if setAside == "" {
			return nil
		}
		return t.AddHeld(aside)
	})
}

// setAsideHeld is the set-aside copy as a held original: discard-original
// deletes it by the same rules.
func (m *describer) setAsideHeld() ledger.Held {
	h := m.heldRow()
	h.Path = filepath.Join(m.plan.Into, m.copyAside())
	h.Drive, h.Copy = m.plan.IntoDrive, true
	var d Placement
	if known, err := m.Last("place", &d); err == nil && known {
		h.Ino = d.Ino
	}
	return h
}

// dropDirs removes directories that a run has made, the innermost first; what
// is not empty stays.
func (m *undoer) dropDirs(made parentsData) error {
	at := made.Anchor
	dirs := []string{}
	for _, n := range made.Names {
		dirs = append(dirs, at)
		at = filepath.Join(at, n)
	}
	for i, up := range slices.Backward(dirs) {
		d, err := m.openReal(up)
		if err != nil {
			continue
		}
		if made.Names[i] != "" {
			err = d.Rmdir(made.Names[i])
		}
		if e := m.dropScratch(d); err == nil {
			err = e
		}
		d.Release()
		if err != nil && !handle.Missing(err) && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EEXIST) {
			return err
		}
	}
	return nil
}
