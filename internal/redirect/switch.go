package redirect

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
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// switchOver leads programs to the copy: for a move, the copy gets its name,
// the link is made under the held name, and link and folder are exchanged in
// one act (I1).
func (m *switcher) switchOver(ctx context.Context) error {
	st, err := m.part.Dir.Self()
	if err != nil {
		return err
	}
	return m.job.(copyJob).Place(ctx, m.placementOf(&st))
}

// placeCopy gives the part its final name, and leads programs to it.
func (m *switcher) placeCopy(ctx context.Context, data Placement) error {
	if m.plan.Traits().Back {
		return m.placeBack(ctx, data)
	}
	if err := m.place(ctx, data); err != nil {
		return err
	}
	return m.switchAct(ctx)
}

func (m *switcher) switchAct(ctx context.Context) error {
	return m.Act(ctx, "switch", m.plan.LinkText, func() error {
		if m.plan.Traits().Onward {
			return m.relink()
		}
		return m.toLink(ctx)
	}, nil)
}

func (m *switcher) placeBack(ctx context.Context, data Placement) error {
	return m.Act(ctx, "place", data, func() error { return m.toFolder(ctx) }, nil)
}

// closeGap finishes the switch of a run that was stopped between its two
// renames.
func (m *switcher) closeGap(ctx context.Context) error {
	if !m.plan.Traits().Back {
		return m.switchAct(ctx)
	}
	var data Placement
	if _, err := m.Last("place", &data); err != nil {
		return err
	}
	return m.placeBack(ctx, data)
}

// place gives the part its final name, never replacing anything. From here
// Onward it is not ours to delete (I4).
func (m *switcher) place(ctx context.Context, data Placement) error {
	if m.plan.Empty != nil {
		err := m.Act(ctx, "drop-empty", m.plan.Empty, func() error {
			err := m.into.Rmdir(m.plan.Final)
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
		if err := swap.Rename(m.into, data.Part, m.into, m.plan.Final); err != nil {
			return err
		}
		return handle.Flushed(m.samePart(), m.into)
	}, nil)
}

// samePart wants the copy at its final place to be the part that was
// verified: whoever may write beside it could have exchanged the two (I6).
func (m *switcher) samePart() error {
	is, err := m.into.Stat(m.plan.Final)
	if err != nil {
		return err
	}
	was, err := m.part.Dir.Self()
	if err == nil && !was.SameInode(&is) {
		err = swap.Broken(m.plan.Copy(), "another directory was put in place of the copy")
	}
	return err
}

// linkPlace is the link path of the run.
func (m *opener) linkPlace() *swap.Place { return m.placeIn(m.linkIn) }

func (m *opener) placeIn(dir *handle.Dir) *swap.Place {
	return &swap.Place{Dir: dir, Base: m.base(), Temp: naming.TempLink(m.plan.Run), TwoActs: handle.Windows,
		Owner: link.Owner{UID: m.plan.UID, GID: m.plan.GID, Scratch: naming.Scratch(m.plan.Run)}}
}

// swap is how link and folder change places in this run: a folder that leaves gets
// its held name, and one that comes back had the part's.
func (m *switcher) swap() (*swap.Swap, error) {
	s := &swap.Swap{Place: *m.linkPlace(), Text: m.plan.LinkText, Away: m.heldIn, Name: m.plan.Held, Ino: m.plan.FromID(),
		MayLack: m.plan.Linkless(), Gap: m.plan.Gap, Spare: m.spareName, SetAside: m.gapFilled,
		Journal: func(ctx context.Context, name string, data any, do func() error) error {
			return m.Act(ctx, name, data, do, nil)
		}}
	if m.plan.Traits().Back {
		var d Placement
		_, err := m.Last("place", &d)
		s.Away, s.Name, s.Ino, s.MayLack = m.into, naming.Part(m.plan.Run), d.Ino, m.plan.Unlinked()
		return s, err
	}
	if s.Gap && s.MayLack {
		s.Text = "" // no link can keep the place meanwhile
	}
	return s, nil
}

// toLink leads programs to the copy: the link takes the folder's place and the
// folder its other name, in one act where that can be done (I1).
func (m *switcher) toLink(ctx context.Context) error {
	s, err := m.swap()
	if err != nil {
		return err
	}
	if m.plan.Traits().Back && m.plan.Unlinked() {
		s.Text = "" // there was none
	}
	return s.ToLink(ctx)
}

// toFolder is the other way round.
func (m *switcher) toFolder(ctx context.Context) error {
	s, err := m.swap()
	if err != nil {
		return err
	}
	return s.ToFolder(ctx)
}

func (m *switcher) switchBackAct(ctx context.Context, do func(context.Context) error) error {
	return m.Act(ctx, "switch-back", m.plan.LinkText, func() error { return do(ctx) }, nil)
}

// relink replaces the old link by the new one in one act; without a link the
// settings lead to the new place afterwards.
func (m *switcher) relink() error {
	if m.plan.Linkless() {
		return nil
	}
	return m.linkPlace().Lead(m.plan.OldText, m.plan.LinkText)
}

// after does what follows the switch; each step may be done already.
func (m *execution) after(ctx context.Context) error {
	if err := m.reopen(); err != nil {
		return err
	}
	if m.plan.Traits().Back {
		s, err := m.swap()
		if err != nil {
			return err
		}
		if err := s.Tidy(); err != nil { // a stop may have left our link under another name
			return err
		}
	}
	if !m.plan.Exchanges() {
		if err := m.changeSettings(ctx); err != nil {
			return err
		}
		if err := m.Act(ctx, "hold", m.plan.Held, m.hold, nil); err != nil {
			return err
		}
	}
	if err := m.job.(copyJob).Settle(ctx); err != nil {
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
	if err := m.changeSettings(ctx); err != nil {
		return err
	}
	if err := m.linkAway(ctx); err != nil {
		return err
	}
	if err := m.hideHeld(ctx); err != nil {
		return err
	}
	if err := m.Act(ctx, "late-writes", m.plan.HeldPath(), func() error { return m.bringLate(ctx) }, nil); err != nil {
		return err
	}
	return m.finish(ctx)
}

// reopen takes the handles of the folder and the spool of a run that was
// Switched in another process.
func (m *opener) reopen() error {
	if m.into == nil {
		d, err := m.openReal(m.plan.Into)
		if err != nil {
			return err
		}
		m.into = d
	}
	if m.from == nil {
		return swap.Broken(m.plan.From, "the folder that was copied is not there")
	}
	if m.spool == nil {
		var err error
		if m.spool, err = m.SpoolOf(m.plan.Run); err != nil {
			return err
		}
		for _, n := range transfer.Spools(m.Run.Dir()) {
			m.pass = max(m.pass, n)
		}
	}
	return nil
}

// hold gives what was copied its held name, so that nobody works there.
func (m *switcher) hold() error {
	name := filepath.Base(m.plan.From)
	st, err := m.heldIn.Stat(name)
	if handle.Missing(err) || err == nil && !plan.IsFolder(&st, m.plan.FromID()) {
		held, err := m.heldIn.Stat(m.plan.Held)
		if err == nil && plan.IsFolder(&held, m.plan.FromID()) {
			return nil
		}
		return swap.Broken(m.plan.From, "the target that was copied is not there")
	}
	if err != nil {
		return err
	}
	if err := swap.Rename(m.heldIn, name, m.heldIn, m.plan.Held); err != nil {
		return err
	}
	return m.heldIn.Sync()
}

// finish writes what the run came to into the ledger and on the drive.
func (m *execution) finish(ctx context.Context) error {
	kind := m.job.(copyJob)
	if err := m.Act(ctx, "notes", m.plan.Name, func() error { return kind.Describe(ctx) }, nil); err != nil {
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
		return t.AddHeld(m.heldRow())
	})
	if err != nil {
		return err
	}
	m.measureAfter()
	return nil
}

// describePlace writes the note of the target, and into that of the place the data was
// at before where it went.
func (m *describer) describePlace() error {
	if !m.plan.Traits().Back {
		if err := m.writeNotes(note.Here); err != nil {
			return err
		}
	}
	state := map[string]string{plan.KindMoveOn: note.MovedOn, plan.KindBringBack: note.BroughtBack}[m.plan.Kind]
	if state == "" {
		return nil
	}
	return m.renote(m.heldIn, m.plan.Name, state)
}

// saveRedirect gives what puts the redirect into the ledger, and what was taken from a
// heldRow original that lent.
func (m *settler) saveRedirect(ctx context.Context) (func(*ledger.Tx) error, error) {
	lender, err := m.heldNow(ctx)
	if err != nil {
		return nil, err
	}
	row := m.ledgerRedirect()
	if row.Settings, err = m.settingRecords(); err != nil {
		return nil, err
	}
	return func(t *ledger.Tx) error {
		if err := t.SaveRedirect(row); err != nil || lender == nil {
			return err
		}
		return t.ResizeHeld(*lender)
	}, nil
}

func (m *describer) heldRow() ledger.Held {
	return ledger.Held{
		Redirect: m.plan.Name, Run: m.plan.Run, Path: m.plan.HeldPath(), Ino: m.plan.FromID(),
		Bytes: m.plan.Allocated, Files: m.plan.Files, Drive: m.plan.FromDrive, Since: m.plan.Made,
	}
}

// measureAfter looks at both drives again; a drive that can't be measured
// is left out of the numbers.
func (m *describer) measureAfter() {
	for _, d := range []*drive.Drive{&m.plan.FromNow, &m.plan.IntoNow} {
		if d.Mount == "" {
			continue
		}
		was := d.Free
		if m.Drives.Refresh(d) == nil {
			m.out.Space = append(m.out.Space, plan.Space{Drive: d.Name(), FreeBefore: was, FreeAfter: d.Free})
		}
	}
}

// unplace takes the final name off a copy that nobody was led to yet, so
// that the run can catch up with the folder. Only an unchanged copy is taken.
func (m *copier) unplace(ctx context.Context) error {
	if err := m.copyUnchanged(ctx); err != nil {
		return err
	}
	return m.Act(ctx, "unplace", m.plan.Final, func() error {
		if err := swap.Rename(m.into, m.plan.Final, m.into, naming.Part(m.plan.Run)); err != nil {
			return err
		}
		return m.into.Sync()
	}, nil)
}

// unaside has a copy that an undo had set aside, before it was stopped, be the part
// again. What the undo had given back by then is missing in it. If somebody has worked
// in it since it is a *RefusedError.
func (m *copier) unaside(ctx context.Context) error {
	aside := m.copyAside()
	begun, err := m.Last("set-aside", new(string))
	if err != nil || !begun || m.into == nil || m.plan.Traits().Merges {
		return err
	}
	var d Placement
	if _, err := m.Last("place", &d); err != nil {
		return err
	}
	st, err := m.into.Stat(aside)
	if err != nil || !plan.IsFolder(&st, d.Ino) {
		return handle.IgnoreMissing(err)
	}
	changed, err := m.workedInAside(ctx, aside)
	if err != nil {
		return err
	}
	if len(changed) > 0 {
		path := m.into.Join(aside)
		f := finding.New(finding.ChangedSince, changed[0], "somebody has worked in the copy that was set aside: %s",
			changed[0]).Named(m.plan.Name).OfRun(m.plan.Run).As(finding.Blocker)
		return plan.Refused(f.Instead(fmt.Sprintf("give it a name of its own: `mv -nT -- %s %s`; "+
			"then `nexlin resume %s` goes on", pathtext.Quote(path), pathtext.Quote(path+".mine"),
			m.plan.Run)).Listing(len(changed), changed))
	}
	return m.Act(ctx, "unset-aside", aside, func() error {
		if err := swap.Rename(m.into, aside, m.into, naming.Part(m.plan.Run)); err != nil {
			return err
		}
		return m.into.Sync()
	}, nil)
}

// workedInAside lists what is there and is not as the run made it. What an undo had given
// Back is not, and a directory's times change with that.
func (m *copier) workedInAside(ctx context.Context, aside string) ([]string, error) {
	if err := m.reopen(); err != nil {
		return nil, err
	}
	d, err := m.into.Beneath(aside)
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
	err = transfer.Differences(ctx, copied, transfer.Copy, m.spool, func(x transfer.Difference) error {
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

// copyUnchanged holds the copy at its final place against the spool: a
// *RefusedError if somebody worked there.
func (m *copier) copyUnchanged(ctx context.Context) error {
	if err := m.reopen(); err != nil {
		return err
	}
	d, err := m.into.Beneath(m.plan.Final)
	if err != nil {
		return err
	}
	defer d.Release()
	if err := m.dropProbes(d); err != nil {
		return err
	}
	changed, err := m.changedIn(ctx, d, func(x *transfer.Difference) bool {
		return x.Path == "." && x.Now != nil && x.Was != nil // its times change with the trial and with renames
	})
	if err != nil {
		return err
	}
	return m.workedOn(changed)
}

// workedOn refuses to take back what people have changed since.
func (m *opener) workedOn(changed []string) error {
	if len(changed) == 0 {
		return nil
	}
	f := finding.New(finding.ChangedSince, changed[0], "somebody has worked in %s since it was made: %s", m.plan.Copy(),
		changed[0]).Named(m.plan.Name)
	f.Severity, f.Remedy = finding.Blocker, "`nexlin bring-back "+pathtext.Quote(m.plan.Name)+
		"` brings the data back as it is now"
	if m.plan.Traits().Back {
		f.Remedy = "the folder is real again: `nexlin move` moves it, as it is now"
	}
	return plan.Refused(f.Listing(len(changed), changed))
}

var errEnough = errors.New("enough differences seen")
