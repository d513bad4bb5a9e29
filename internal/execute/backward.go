package execute

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"syscall"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
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
	at, err := m.StandsAt()
	if err != nil {
		return err
	}
	var setAside string
	if at == plan.Switched {
		m.Switched = true
		if err := m.CopyUnchanged(ctx); err != nil {
			return err
		}
		if err := m.HeldUnchanged(ctx); err != nil {
			return err
		}
		if err := m.ShowHeld(); err != nil {
			return err
		}
		if err := m.switchBack(ctx); err != nil {
			return err
		}
		m.Switched = false
		at = plan.Placed
	}
	if at, err = m.backFromHalf(ctx, at); err != nil {
		return err
	}
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	if m.Plan.Traits().First {
		// Killed between making the link under the held name and the exchange.
		if err := link.Remove(m.HeldIn, m.Plan.Held, m.Plan.LinkText); err != nil {
			return err
		}
	}
	if err := m.DropOwn(m.LinkIn, m.HeldIn); err != nil {
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
		if err := m.RemovePart(ctx); err != nil {
			return err
		}
	}
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	if setAside != "" {
		m.Out.SetAside = filepath.Join(m.Plan.Into, setAside)
	}
	return m.undone(ctx, setAside)
}

// backFromHalf takes back a switch that was stopped in the middle.
func (m *undoer) backFromHalf(ctx context.Context, at plan.Position) (plan.Position, error) {
	switch at {
	case plan.Led: // somebody may have worked in the copy already
		return plan.Placed, m.CopyUnchanged(ctx)
	case plan.Between:
		return m.BackFromGap(ctx)
	}
	return at, nil
}

// HeldUnchanged holds what is to take its old place again against its snapshot:
// a *RefusedError if something of it is gone. What was written there late comes
// back with it, if that is since the run was stopped; after one that was done,
// it is somebody's work in the wrong place.
func (m *undoer) HeldUnchanged(ctx context.Context) error {
	if m.Plan.Bare {
		return m.neverCopiedUnchanged(ctx)
	}
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	l := &late.Writes{Held: m.From, Live: live, LivePath: m.Plan.Copy(), Spool: m.Spool, LookOnly: true,
		Unstable: m.Plan.FromUnstable}
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

// neverCopiedUnchanged is [undoer.HeldUnchanged] for what was never copied.
func (m *undoer) neverCopiedUnchanged(ctx context.Context) error {
	since, err := SinceNeverCopied(ctx, m.Engine, m.Plan.Run, m.From, m.Plan.FromUnstable)
	if err != nil || since == nil || since.nGone == 0 {
		return err // what was written there since comes back with it
	}
	return m.heldRefused(since.gone, "is gone from")
}

func (m *undoer) heldRefused(bad []string, what string) error {
	held := m.Plan.HeldPath()
	f := finding.New(finding.HeldChanged, filepath.Join(held, bad[0]), "%s %s the held original at %s: the folder "+
		"would not come back as it was", bad[0], what, held).Named(m.Plan.Name).OfRun(m.Plan.Run)
	switch {
	case m.Plan.Traits().Back:
		f = f.Instead("the folder is real again: `nexlin move` moves it, as it is now")
	case !m.wasDone:
		f = f.Instead("`nexlin resume " + m.Plan.Run + "` finishes the run; then `nexlin bring-back " +
			pathtext.Quote(m.Plan.Name) + "` brings the data back")
	}
	return plan.Refused(f.Listing(len(bad), late.PathsUnder(held, bad)))
}

// switchBack leads programs to the folder again.
func (m *switcher) switchBack(ctx context.Context) error {
	if !m.Plan.Exchanges() {
		if err := m.Act(ctx, "unhold", m.Plan.Held, m.unhold, nil); err != nil {
			return err
		}
	}
	return m.LeadBack(ctx)
}

// LeadBack has folder and link stand as they did before the switch.
func (m *switcher) LeadBack(ctx context.Context) error {
	switch k := m.Plan.Traits(); {
	case k.Back:
		return m.switchBackAct(ctx, m.ToLink)
	case !k.Onward:
		return m.switchBackAct(ctx, m.ToFolder)
	}
	// The link of a move on says again what it said.
	return m.Act(ctx, "switch-back", m.Plan.OldText, func() error {
		if m.Plan.Linkless() {
			return nil
		}
		return m.LinkPlace().Lead(m.Plan.LinkText, m.Plan.OldText)
	}, nil)
}

// unhold gives what was held its own name again.
func (m *switcher) unhold() error {
	st, err := m.HeldIn.Stat(m.Plan.Held)
	if handle.Missing(err) || err == nil && !plan.IsFolder(&st, m.Plan.FromID()) {
		return nil // it was not renamed yet
	}
	if err != nil {
		return err
	}
	if err := swap.Rename(m.HeldIn, m.Plan.Held, m.HeldIn, filepath.Base(m.Plan.From)); err != nil {
		return err
	}
	return m.HeldIn.Sync()
}

// setAside gives a copy that had its final name a held name: it is not
// ours to delete any more (I4). Empty if there is none.
func (m *undoer) setAside(ctx context.Context, at plan.Position) (string, error) {
	aside := m.CopyAside()
	var d Placement
	known, err := m.Last("place", &d)
	if err != nil || !known || m.Into == nil {
		return "", err
	}
	// A copy that programs were led to once stays theirs under any name.
	wasLive, err := m.Last("switch-back", new(json.RawMessage))
	if err != nil {
		return "", err
	}
	for _, name := range []string{m.Plan.Final, naming.Part(m.Plan.Run)} {
		st, err := m.Into.Stat(name)
		if err != nil && !handle.Missing(err) {
			return "", err
		}
		if err != nil || !plan.IsFolder(&st, d.Ino) || at == plan.AsBefore && !wasLive {
			continue
		}
		return aside, m.Act(ctx, "set-aside", aside, func() error {
			copied, err := m.Trusted(m.Into.Beneath(name))
			if err != nil {
				return err
			}
			defer copied.Release()
			if err := dropProbes(m.Journal, copied); err != nil {
				return err
			}
			if err := swap.Rename(m.Into, name, m.Into, m.CopyAside()); err != nil {
				return err
			}
			return m.Into.Sync()
		}, nil)
	}
	st, err := m.Into.Stat(m.CopyAside())
	if err == nil && plan.IsFolder(&st, d.Ino) {
		return aside, nil
	}
	return "", handle.IgnoreMissing(err)
}

// CopyAside is what the copy is called once it is set aside.
func (m *opener) CopyAside() string { return naming.Held(m.Plan.Final, m.Plan.Run) }

// RemovePart takes away what the run made before it gave it a name.
func (m *undoer) RemovePart(ctx context.Context) error {
	if m.Into == nil {
		return nil
	}
	spools := m.oldSpools()
	left, err := transfer.Discard(m.Into, naming.Part(m.Plan.Run), spools...)
	for _, s := range spools {
		_ = s.Close() // only read
	}
	if err != nil {
		return err
	}
	if left {
		path := m.Into.Join(naming.Part(m.Plan.Run))
		m.Out.Findings = append(m.Out.Findings, finding.New(finding.Stranger, path,
			"entries that Nexlin did not make are left in %s", path).Named(m.Plan.Name))
	}
	if err := run.Point(ctx, "part-removed"); err != nil {
		return err
	}
	if m.Plan.Traits().Back {
		return m.Into.Sync()
	}
	return handle.InOrder(m.emptyAgain, func() error { return m.ForgetRun(ctx) })
}

// emptyAgain puts back the empty directory that stood at the target.
func (m *undoer) emptyAgain() error {
	var a plan.DirAttrs
	known, err := m.Last("drop-empty", &a)
	if err != nil || !known {
		return err
	}
	d, err := m.Into.MkdirFor(m.Plan.Final, a.Mode, a.UID, a.GID, naming.Scratch(m.Plan.Run), m.Plan.Allow.Owners)
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

// DropOwn removes what the run made for itself beside the link and in the
// directories: its temporary link, and what giving something away left.
func (m *opener) DropOwn(dirs ...*handle.Dir) error {
	if err := m.LinkPlace().DropTemp(m.Plan.LinkText, m.Plan.OldText); err != nil {
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
	name := naming.Scratch(m.Plan.Run)
	if _, err := dir.Stat(name); handle.Missing(err) {
		return nil
	}
	p, err := dir.Private(name, m.Plan.Allow.Owners)
	if err != nil {
		return err
	}
	defer p.Release()
	return dir.DropPrivate(name, p)
}

// ForgetRun takes back what the run put around the copy: its note, the tag if
// it was new, and the directories it made. What is not empty stays.
func (m *undoer) ForgetRun(ctx context.Context) error {
	if err := m.dropNote(ctx); err != nil {
		return err
	}
	var parents ParentsData
	madeParents, err := m.Last("parents", &parents)
	if err != nil {
		return err
	}
	if m.Plan.NewTag {
		if err := m.dropTag(); err != nil {
			return err
		}
	}
	if !madeParents {
		return nil
	}
	return m.DropDirs(parents)
}

// dropNote removes the note of this run, and the record directory if
// nothing else is in it.
func (m *undoer) dropNote(ctx context.Context) error {
	rec, err := m.Into.Beneath(drive.RecordDir)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer rec.Release()
	said, listed := m.Plan.Name+".json", m.Plan.Name+".mtree"
	n, err := note.Read(rec, m.Plan.Name)
	ours := err == nil && n.Run == m.Plan.Run
	if handle.Missing(err) { // a stop may have come between the two
		if ours, err = m.isFrozen(ctx, rec, listed); err != nil {
			return err
		}
	}
	if ours { // the note last: it says whose the manifest is
		for _, name := range []string{listed, said} {
			if err := handle.IgnoreMissing(rec.Unlink(name)); err != nil {
				return err
			}
		}
	}
	return RmdirIfEmpty(m.Into, drive.RecordDir)
}

// isFrozen reports whether a manifest beside the target is the one that this run froze.
func (m *undoer) isFrozen(ctx context.Context, rec *handle.Dir, name string) (bool, error) {
	own, err := handle.Open(m.Run.Dir())
	if err != nil {
		return false, err
	}
	defer own.Release()
	there, err := rec.Stat(name)
	if err != nil {
		return false, handle.IgnoreMissing(err)
	}
	frozen, err := own.Stat(engine.FrozenName)
	if err != nil || !there.IsRegular() || there.Size != frozen.Size {
		return false, handle.IgnoreMissing(err)
	}
	return late.SameContent(ctx, rec, name, own, engine.FrozenName, frozen.Size)
}

// dropLeavings takes away what a stop in the middle of writing has left around the link
// and on the drives, as far as they are here and can be written: it hinders nobody, so
// that an error of it is none of the run's.
func (m *describer) dropLeavings() {
	p := m.Plan
	for _, at := range []struct {
		path string
		on   ledger.DriveRef
	}{{p.Into, p.IntoDrive}, {p.HeldIn, p.FromDrive}, {p.TagIn, p.IntoDrive}} {
		d, err := m.OpenOn(at.path, at.on)
		if err != nil {
			continue
		}
		_ = m.dropScratch(d)
		if rec, err := d.Beneath(drive.RecordDir); err == nil {
			_ = drive.DropTempRecords(rec, p.Name+".json", p.Name+".mtree", drive.TagFile)
			rec.Release()
		}
		d.Release()
	}
}

// dropTag removes a drive tag that this run made and no other has used.
func (m *undoer) dropTag() error {
	id := m.Plan.IntoDrive.ID
	d, err := m.OpenOn(m.Plan.TagIn, m.Plan.IntoDrive)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Release()
	t, err := drive.ReadTagIn(d)
	if handle.Missing(err) { // a stop may have come before it
		return RmdirIfEmpty(d, drive.RecordDir)
	}
	if err == nil && (t.ID != id || t.Counter > 1) {
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
	names, err := rec.Names()
	if err != nil || len(names) > 1 {
		return err // notes of others lie beside it: the tag serves them
	}
	if err := rec.Unlink(drive.TagFile); err != nil {
		return err
	}
	return RmdirIfEmpty(d, drive.RecordDir)
}

func RmdirIfEmpty(d *handle.Dir, name string) error {
	err := d.Rmdir(name)
	if handle.Missing(err) || errors.Is(err, syscall.ENOTEMPTY) || errors.Is(err, syscall.EEXIST) {
		return nil
	}
	return err
}

// undone writes the result of an undo into the ledger.
func (m *undoer) undone(ctx context.Context, setAside string) error {
	if setAside != "" && !m.Plan.Traits().Back {
		if err := m.Renote(m.Into, m.Plan.Name, note.SetAside); err != nil {
			return err
		}
	}
	if !m.Plan.Traits().First && m.HeldIn != nil {
		if err := m.Renote(m.HeldIn, m.Plan.Name, note.Here); err != nil {
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
		if err := t.HeldGone(m.Plan.Run, m.Plan.HeldPath()); err != nil {
			return err
		}
		if lender != nil {
			if err := t.ResizeHeld(*lender); err != nil {
				return err
			}
		}
		switch {
		case m.Plan.Before != nil:
			if err := t.SaveRedirect(*m.Plan.Before); err != nil {
				return err
			}
		case setAside == "" && m.Plan.Ended != nil:
			return t.SaveRedirect(*m.Plan.Ended)
		case setAside == "":
			return t.RemoveRedirect(m.Plan.Name)
		default:
			r := m.LedgerRedirect()
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
	h := m.HeldRow()
	h.Path = filepath.Join(m.Plan.Into, m.CopyAside())
	h.Drive, h.Copy = m.Plan.IntoDrive, true
	var d Placement
	if known, err := m.Last("place", &d); err == nil && known {
		h.Ino = d.Ino
	}
	return h
}

// DropDirs removes directories that a run has made, the innermost first; what
// is not empty stays.
func (m *undoer) DropDirs(made ParentsData) error {
	at := made.Anchor
	dirs := []string{}
	for _, n := range made.Names {
		dirs = append(dirs, at)
		at = filepath.Join(at, n)
	}
	for i, up := range slices.Backward(dirs) {
		d, err := m.OpenReal(up)
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
