package execute

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/shell"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// switchOver leads programs to the copy: for a move, the copy gets its name,
// the link is made under the held name, and link and folder are exchanged in
// one act (I1).
func (m *switcher) switchOver(ctx context.Context) error {
	st, err := m.Part.Dir.Self()
	if err != nil {
		return err
	}
	return m.Job.(copyJob).Place(ctx, m.placementOf(&st))
}

// placeCopy gives the part its final name, and leads programs to it.
func (m *switcher) placeCopy(ctx context.Context, data Placement) error {
	if m.Plan.Traits().Back {
		return m.placeBack(ctx, data)
	}
	if err := m.place(ctx, data); err != nil {
		return err
	}
	return m.SwitchAct(ctx)
}

// SwitchAct leads programs to the copy at its final place.
func (m *switcher) SwitchAct(ctx context.Context) error {
	if m.Plan.SettingsFirst() {
		if err := m.ChangeSettings(ctx); err != nil {
			return err
		}
	}
	err := m.Act(ctx, "switch", m.Plan.LinkText, func() error {
		if m.Plan.Traits().Onward {
			return m.relink()
		}
		return m.ToLink(ctx)
	}, nil)
	if err != nil && m.Plan.SettingsFirst() {
		// The folder kept its name: programs are led there again, if it is not known that they may not.
		if at, e := m.StandsAt(); e == nil && at == plan.Led {
			err = errors.Join(err, m.SettingsBack(context.WithoutCancel(ctx)))
		}
	}
	return err
}

func (m *switcher) placeBack(ctx context.Context, data Placement) error {
	return m.Act(ctx, "place", data, func() error { return m.ToFolder(ctx) }, nil)
}

// CloseGap finishes the switch of a run that was stopped between its two
// renames.
func (m *switcher) CloseGap(ctx context.Context) error {
	if !m.Plan.Traits().Back {
		return m.SwitchAct(ctx)
	}
	var data Placement
	if _, err := m.Last("place", &data); err != nil {
		return err
	}
	return m.placeBack(ctx, data)
}

// place gives the part its final name, never replacing anything. From here
// on it is not ours to delete (I4).
func (m *switcher) place(ctx context.Context, data Placement) error {
	if m.Plan.Empty != nil {
		err := m.Act(ctx, "drop-empty", m.Plan.Empty, func() error {
			err := m.Into.Rmdir(m.Plan.Final)
			if handle.Missing(err) {
				return nil
			}
			return err
		}, nil)
		if err != nil {
			return err
		}
	}
	return m.Act(ctx, "place", data, func() error {
		if err := swap.Rename(m.Into, data.Part, m.Into, m.Plan.Final); err != nil {
			return err
		}
		return handle.Flushed(m.samePart(), m.Into)
	}, nil)
}

// samePart wants the copy at its final place to be the part that was
// verified: whoever may write beside it could have exchanged the two (I6).
func (m *switcher) samePart() error {
	is, err := m.Into.Stat(m.Plan.Final)
	if err != nil {
		return err
	}
	was, err := m.Part.Dir.Self()
	if err == nil && !was.SameInode(&is) {
		err = swap.Broken(m.Plan.Copy(), "another directory was put in place of the copy")
	}
	return err
}

// LinkPlace is the link path of the run.
func (m *opener) LinkPlace() *swap.Place { return m.PlaceIn(m.LinkIn) }

func (m *opener) PlaceIn(dir *handle.Dir) *swap.Place {
	return &swap.Place{Dir: dir, Base: m.base(), Temp: naming.TempLink(m.Plan.Run), TwoActs: handle.Windows,
		Owner: link.Owner{UID: m.Plan.UID, GID: m.Plan.GID, Scratch: naming.Scratch(m.Plan.Run)}}
}

// swap is how link and folder change places in this run: a folder that leaves gets
// its held name, and one that comes back had the part's.
func (m *switcher) swap() (*swap.Swap, error) {
	s := &swap.Swap{Place: *m.LinkPlace(), Text: m.Plan.LinkText, Away: m.HeldIn, Name: m.Plan.Held,
		Ino:     m.Plan.FromID(),
		MayLack: m.Plan.Linkless(), Gap: m.Plan.Gap, Spare: m.spareName, SetAside: m.gapFilled,
		Journal: func(ctx context.Context, name string, data any, do func() error) error {
			return m.Act(ctx, name, data, do, nil)
		}}
	if m.Plan.Traits().Back {
		var d Placement
		_, err := m.Last("place", &d)
		s.Away, s.Name, s.Ino, s.MayLack = m.Into, naming.Part(m.Plan.Run), d.Ino, m.Plan.Unlinked()
		return s, err
	}
	if s.Gap && s.MayLack {
		s.Text = "" // no link can keep the place meanwhile
	}
	return s, nil
}

// ToLink leads programs to the copy: the link takes the folder's place and the
// folder its other name, in one act where that can be done (I1).
func (m *switcher) ToLink(ctx context.Context) error {
	s, err := m.swap()
	if err != nil {
		return err
	}
	if m.Plan.Traits().Back && m.Plan.Unlinked() {
		s.Text = "" // there was none
	}
	return s.ToLink(ctx)
}

// ToFolder is the other way round.
func (m *switcher) ToFolder(ctx context.Context) error {
	s, err := m.swap()
	if err != nil {
		return err
	}
	return s.ToFolder(ctx)
}

func (m *switcher) switchBackAct(ctx context.Context, do func(context.Context) error) error {
	return m.Act(ctx, "switch-back", m.Plan.LinkText, func() error { return do(ctx) }, nil)
}

// relink replaces the old link by the new one in one act; without a link the
// settings lead to the new place afterwards.
func (m *switcher) relink() error {
	if m.Plan.Linkless() {
		return nil
	}
	return m.LinkPlace().Lead(m.Plan.OldText, m.Plan.LinkText)
}

// after does what follows the switch; each step may be done already.
func (m *Execution) after(ctx context.Context) error {
	if err := m.Reopen(); err != nil {
		return err
	}
	if m.Plan.Traits().Back {
		s, err := m.swap()
		if err != nil {
			return err
		}
		if err := s.Tidy(); err != nil { // a stop may have left our link under another name
			return err
		}
	}
	if !m.Plan.Exchanges() {
		if err := m.ChangeSettings(ctx); err != nil {
			return err
		}
		if err := m.Act(ctx, "hold", m.Plan.Held, m.hold, nil); err != nil {
			return err
		}
	}
	if err := m.Job.(copyJob).Settle(ctx); err != nil {
		return err
	}
	if err := m.Begin("try", 0, 0); err != nil {
		return err
	}
	if err := m.tryIt(ctx); err != nil {
		return m.tryFailed(ctx, err)
	}
	if err := run.Point(ctx, "tried"); err != nil {
		return err
	}
	if err := m.Begin("finish", 0, 0); err != nil {
		return err
	}
	if err := m.ChangeSettings(ctx); err != nil {
		return err
	}
	if err := m.linkAway(ctx); err != nil {
		return err
	}
	if err := m.hideHeld(ctx); err != nil {
		return err
	}
	if err := m.Act(ctx, "late-writes", m.Plan.HeldPath(), func() error { return m.BringLate(ctx) }, nil); err != nil {
		return err
	}
	return m.finish(ctx)
}

// Reopen takes the handles of the folder and the spool of a run that was
// switched in another process.
func (m *opener) Reopen() error {
	if m.Into == nil {
		d, err := m.OpenReal(m.Plan.Into)
		if err != nil {
			return err
		}
		m.Into = d
	}
	if m.From == nil {
		return swap.Broken(m.Plan.From, "the folder that was copied is not there")
	}
	if m.Spool == nil {
		var err error
		if m.Spool, err = m.SpoolOf(m.Plan.Run); err != nil {
			return err
		}
		for _, n := range transfer.Spools(m.Run.Dir()) {
			m.pass = max(m.pass, n)
		}
		m.Count()
	}
	return nil
}

// hold gives what was copied its held name, so that nobody works there.
func (m *switcher) hold() error {
	name := filepath.Base(m.Plan.From)
	st, err := m.HeldIn.Stat(name)
	if handle.Missing(err) || err == nil && !plan.IsFolder(&st, m.Plan.FromID()) {
		held, err := m.HeldIn.Stat(m.Plan.Held)
		if err == nil && plan.IsFolder(&held, m.Plan.FromID()) {
			return nil
		}
		return swap.Broken(m.Plan.From, "the target that was copied is not there")
	}
	if err != nil {
		return err
	}
	if err := swap.Rename(m.HeldIn, name, m.HeldIn, m.Plan.Held); err != nil {
		return err
	}
	return m.HeldIn.Sync()
}

// finish writes what the run came to into the ledger and on the drive.
func (m *Execution) finish(ctx context.Context) error {
	kind := m.Job.(copyJob)
	if err := m.Act(ctx, "notes", m.Plan.Name, func() error { return kind.Describe(ctx) }, nil); err != nil {
		return err
	}
	if err := m.End(ledger.Done); err != nil {
		return err
	}
	save, err := kind.Save(ctx)
	if err != nil {
		return err
	}
	err = m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if err := save(t); err != nil {
			return err
		}
		return t.AddHeld(m.HeldRow())
	})
	if err != nil {
		return err
	}
	m.MeasureAfter()
	return nil
}

// describePlace writes the note of the target, and into that of the place the data was
// at before where it went.
func (m *describer) describePlace() error {
	if !m.Plan.Traits().Back {
		if err := m.WriteNotes(note.Here); err != nil {
			return err
		}
	}
	switch k := m.Plan.Traits(); {
	case k.Onward:
		return m.Renote(m.HeldIn, m.Plan.Name, note.MovedOn)
	case k.Back:
		return m.Renote(m.HeldIn, m.Plan.Name, note.BroughtBack)
	}
	return nil
}

// saveRedirect gives what puts the redirect into the ledger, and what was taken from a
// held original that lent.
func (m *settler) saveRedirect(ctx context.Context) (func(*ledger.Tx) error, error) {
	lender, err := m.heldNow(ctx)
	if err != nil {
		return nil, err
	}
	row := m.LedgerRedirect()
	if row.Settings, err = m.SettingRecords(); err != nil {
		return nil, err
	}
	return func(t *ledger.Tx) error {
		if err := t.SaveRedirect(row); err != nil || lender == nil {
			return err
		}
		return t.ResizeHeld(*lender)
	}, nil
}

func (m *describer) HeldRow() ledger.Held {
	return ledger.Held{
		Redirect: m.Plan.Name, Run: m.Plan.Run, Path: m.Plan.HeldPath(), Ino: m.Plan.FromID(),
		Bytes: m.Plan.Allocated, Files: m.Out.Contents.Files, Drive: m.Plan.FromDrive, Since: m.Plan.Made,
	}
}

// MeasureAfter looks at both drives again; a drive that can't be measured
// is left out of the numbers.
func (m *describer) MeasureAfter() {
	for _, d := range []*drive.Drive{&m.Plan.FromNow, &m.Plan.IntoNow} {
		if d.Mount == "" {
			continue
		}
		was := d.Free
		if m.Drives.Refresh(d) == nil {
			m.Out.Space = append(m.Out.Space, plan.Space{Drive: d.Name(), FreeBefore: was, FreeAfter: d.Free,
				Size: d.Size})
		}
	}
}

// unplace takes the final name off a copy that nobody was led to yet, so
// that the run can catch up with the folder. Only an unchanged copy is taken.
func (m *copier) unplace(ctx context.Context) error {
	if err := m.CopyUnchanged(ctx); err != nil {
		return err
	}
	return m.Act(ctx, "unplace", m.Plan.Final, func() error {
		if err := swap.Rename(m.Into, m.Plan.Final, m.Into, naming.Part(m.Plan.Run)); err != nil {
			return err
		}
		return m.Into.Sync()
	}, nil)
}

// unaside has a copy that an undo had set aside, before it was stopped, be the part
// again. What the undo had given back by then is missing in it. If somebody has worked
// in it since it is a *RefusedError.
func (m *copier) unaside(ctx context.Context) error {
	aside := m.CopyAside()
	begun, err := m.Last("set-aside", new(string))
	if err != nil || !begun || m.Into == nil || m.Plan.Traits().Merges {
		return err
	}
	var d Placement
	if _, err := m.Last("place", &d); err != nil {
		return err
	}
	st, err := m.Into.Stat(aside)
	if err != nil || !plan.IsFolder(&st, d.Ino) {
		return handle.IgnoreMissing(err)
	}
	changed, err := m.workedInAside(ctx, aside)
	if err != nil {
		return err
	}
	if len(changed) > 0 {
		path := m.Into.Join(aside)
		f := finding.New(finding.ChangedSince, changed[0], "somebody has worked in the copy that was set aside: %s",
			changed[0]).Named(m.Plan.Name).OfRun(m.Plan.Run).As(finding.Blocker)
		return plan.Refused(f.Instead(fmt.Sprintf("give it a name of its own: `%s`; then `nexlin resume %s` goes on",
			shell.Here.Rename(path, path+".mine"), m.Plan.Run)).Listing(len(changed), changed))
	}
	return m.Act(ctx, "unset-aside", aside, func() error {
		if err := swap.Rename(m.Into, aside, m.Into, naming.Part(m.Plan.Run)); err != nil {
			return err
		}
		return m.Into.Sync()
	}, nil)
}

// workedInAside lists what is there and is not as the run made it. What an undo had given
// back is not, and a directory's times change with that.
func (m *copier) workedInAside(ctx context.Context, aside string) ([]string, error) {
	if err := m.Reopen(); err != nil {
		return nil, err
	}
	d, err := m.Into.Beneath(aside)
	if err != nil {
		return nil, err
	}
	defer d.Release()
	return m.changedIn(ctx, d, func(x *transfer.Difference) bool {
		return x.Now == nil || x.Was != nil && x.Was.IsDir() && x.Now.Stat.IsDir()
	})
}

// changedIn lists the first paths in a copy that are not as the run made them, those left
// out that expected says.
func (m *copier) changedIn(ctx context.Context, copied *handle.Dir,
	expected func(*transfer.Difference) bool) (changed []string, err error) {
	err = transfer.Differences(ctx, copied, transfer.Copy, m.Spool, func(x transfer.Difference) error {
		if expected(&x) {
			return nil
		}
		if changed = append(changed, copied.Join(x.Path)); len(changed) >= finding.Listed {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return changed, err
}

// CopyUnchanged holds the copy at its final place against the spool: a
// *RefusedError if somebody worked there.
func (m *copier) CopyUnchanged(ctx context.Context) error {
	if err := m.Reopen(); err != nil {
		return err
	}
	d, err := m.Live()
	if err != nil {
		return err
	}
	defer d.Release()
	if err := dropProbes(m.Journal, d); err != nil {
		return err
	}
	changed, err := m.changedIn(ctx, d, func(x *transfer.Difference) bool {
		return x.Path == "." && x.Now != nil && x.Was != nil // its times change with the trial and with renames
	})
	if err != nil {
		return err
	}
	return m.WorkedOn(changed)
}

// WorkedOn refuses to take back what people have changed since.
func (m *opener) WorkedOn(changed []string) error {
	if len(changed) == 0 {
		return nil
	}
	f := finding.New(finding.ChangedSince, changed[0], "somebody has worked in %s since it was made: %s", m.Plan.Copy(),
		changed[0]).Named(m.Plan.Name)
	f.Severity, f.Remedy = finding.Blocker, "`nexlin bring-back "+pathtext.Quote(m.Plan.Name)+
		"` brings the data back as it is now"
	if m.Plan.Traits().Back {
		f.Remedy = "the folder is real again: `nexlin move` moves it, as it is now"
	}
	return plan.Refused(f.Listing(len(changed), changed))
}

var errEnough = errors.New("enough differences seen")
