package redirect

import (
	"context"
	"errors"
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// switchOver leads programs to the copy: for a move, the copy gets its name,
// the link is made under the held name, and link and folder are exchanged in
// one act (I1).
func (m *mover) switchOver(ctx context.Context) error {
	st, err := m.part.Dir.Self()
	if err != nil {
		return err
	}
	if m.p.Kind == KindMerge {
		if err := m.merge(ctx); err != nil {
			return err
		}
		return m.exchangeAct(ctx)
	}
	data := m.placeData(&st)
	if m.p.Kind == KindBringBack {
		return m.placeBack(ctx, data)
	}
	if err := m.place(ctx, data); err != nil {
		return err
	}
	if m.p.Kind == KindMoveOn {
		return m.act(ctx, "switch", m.p.LinkText, m.relink, nil)
	}
	return m.exchangeAct(ctx)
}

func (m *mover) exchangeAct(ctx context.Context) error {
	return m.act(ctx, "switch", m.p.LinkText, func() error { return m.exchange(ctx) }, nil)
}

func (m *mover) placeBack(ctx context.Context, data placeData) error {
	return m.act(ctx, "place", data, func() error { return m.exchangeBack(ctx) }, nil)
}

// closeGap finishes the switch of a run that was stopped between its two
// renames.
func (m *mover) closeGap(ctx context.Context) error {
	if m.p.Kind != KindBringBack {
		return m.exchangeAct(ctx)
	}
	var data placeData
	if _, err := m.lastData("place", &data); err != nil {
		return err
	}
	return m.placeBack(ctx, data)
}

// place gives the part its final name, never replacing anything. From here
// on it is not ours to delete (I4).
func (m *mover) place(ctx context.Context, data placeData) error {
	if m.p.Empty != nil {
		err := m.act(ctx, "drop-empty", m.p.Empty, func() error {
			err := m.into.Rmdir(m.p.Final)
			if handle.Missing(err) {
				return nil
			}
			return err
		}, nil)
		if err != nil {
			return err
		}
	}
	return m.act(ctx, "place", data, func() error {
		if err := m.rename(m.into, data.Part, m.into, m.p.Final); err != nil {
			return err
		}
		return flushed(m.samePart(), m.into)
	}, nil)
}

// samePart wants the copy at its final place to be the part that was
// verified: whoever may write beside it could have exchanged the two (I6).
func (m *mover) samePart() error {
	is, err := m.into.Stat(m.p.Final)
	if err != nil {
		return err
	}
	was, err := m.part.Dir.Self()
	if err == nil && !was.SameInode(&is) {
		err = &BrokenError{m.p.Copy(), "another directory was put in place of the copy"}
	}
	return err
}

// exchangeAtOnce puts the link where the folder was and the folder under its
// held name, in one act.
func (m *mover) exchangeAtOnce() error {
	held := m.p.Held
	if err := link.Remove(m.heldIn, held, m.p.LinkText); err != nil {
		return err
	}
	if err := link.MakeFor(m.heldIn, held, m.p.LinkText, m.owner()); err != nil {
		return err
	}
	if err := m.heldIn.Sync(); err != nil {
		return err
	}
	if err := link.Exchange(m.linkIn, m.base(), m.heldIn, held); err != nil {
		return errors.Join(err, link.Remove(m.heldIn, held, m.p.LinkText))
	}
	return m.linkIn.Sync()
}

// exchangeAgain takes the exchange back.
func (m *mover) exchangeAgain(ctx context.Context) error {
	held := m.p.Held
	if m.p.Gap {
		return m.folderInPlace(ctx, m.heldIn, held)
	}
	if m.p.Linkless() {
		if _, err := m.linkIn.Stat(m.base()); handle.Missing(err) {
			return flushed(m.heldIn.Rename(held, m.linkIn, m.base()), m.linkIn, m.heldIn)
		}
	}
	if err := link.Exchange(m.linkIn, m.base(), m.heldIn, held); err != nil {
		return err
	}
	if err := m.linkIn.Sync(); err != nil {
		return err
	}
	return flushed(link.Remove(m.heldIn, held, m.p.LinkText), m.heldIn)
}

func (m *mover) exchangeAgainAct(ctx context.Context) error {
	return m.act(ctx, "switch-back", m.p.LinkText, func() error { return m.exchangeAgain(ctx) }, nil)
}

// owner is the account that links are made for.
func (m *mover) owner() link.Owner {
	return link.Owner{UID: m.p.UID, GID: m.p.GID, Scratch: scratchName(m.p.Run)}
}

// relink replaces the old link by the new one in one act; without a link the
// settings lead to the new place afterwards.
func (m *mover) relink() error {
	if m.p.Linkless() {
		return nil
	}
	return m.setLink(m.p.OldText, m.p.LinkText)
}

// setLink has the link say text where it said old. Windows replaces no link to
// a directory by another: there the old one goes first.
func (m *mover) setLink(old, text string) error {
	ours, err := link.Is(m.linkIn, m.base(), old)
	half, e := m.halfLinked(text)
	if e != nil {
		return e
	}
	if half {
		return flushed(m.linkIn.Rename(tempName(m.p.Run), m.linkIn, m.base()), m.linkIn)
	}
	if err == nil && !ours {
		err = &BrokenError{m.p.Link, "the link was changed meanwhile"}
	}
	if err != nil {
		return err
	}
	if link.IsJunction(old) && link.IsJunction(text) {
		return flushed(link.Lead(m.linkIn, m.base(), text), m.linkIn)
	}
	tmp := tempName(m.p.Run)
	if err := m.dropTempLink(); err != nil {
		return err
	}
	if err := link.MakeFor(m.linkIn, tmp, text, m.owner()); err != nil {
		return err
	}
	if handle.Windows {
		if err := link.Remove(m.linkIn, m.base(), old); err != nil {
			return err
		}
		return flushed(m.rename(m.linkIn, tmp, m.linkIn, m.base()), m.linkIn)
	}
	if err := m.linkIn.Replace(tmp, m.linkIn, m.base()); err != nil {
		return errors.Join(err, link.Remove(m.linkIn, tmp, text))
	}
	return m.linkIn.Sync()
}

// halfLinked reports that a stop came between the old link and the new one, which
// has its temporary name still.
func (m *mover) halfLinked(text string) (bool, error) {
	if !handle.Windows {
		return false, nil
	}
	if _, err := m.linkIn.Stat(m.base()); !handle.Missing(err) {
		return false, err
	}
	return link.Is(m.linkIn, tempName(m.p.Run), text)
}

// exchangeBack puts the real folder where the link was: exchanged with it
// in one act, or given the name if the link had been detached.
func (m *mover) exchangeBack(ctx context.Context) error {
	part := partName(m.p.Run)
	if m.p.Gap {
		return m.folderInPlace(ctx, m.into, part)
	}
	if m.unlinked() {
		if _, err := m.linkIn.Stat(m.base()); handle.Missing(err) {
			return flushed(m.into.Rename(part, m.linkIn, m.base()), m.linkIn)
		}
	}
	ours, err := link.Is(m.linkIn, m.base(), m.p.LinkText)
	if err == nil && !ours {
		err = &BrokenError{m.p.Link, "it is not the link that Nexlin made any more"}
	}
	if err != nil {
		return err
	}
	if err := link.Exchange(m.linkIn, m.base(), m.into, part); err != nil {
		return err
	}
	return m.linkIn.Sync()
}

// after does what follows the switch; each step may be done already.
func (m *mover) after(ctx context.Context) error {
	if err := m.reopen(); err != nil {
		return err
	}
	if m.p.Kind == KindBringBack {
		// The exchange left our link under the part's name, or two renames under
		// its temporary one.
		if err := link.Remove(m.linkIn, partName(m.p.Run), m.p.LinkText); err != nil {
			return err
		}
		if err := m.dropTempLink(); err != nil {
			return err
		}
	}
	if !m.p.exchanges() {
		if err := m.changeSettings(ctx); err != nil {
			return err
		}
		if err := m.act(ctx, "hold", m.p.Held, m.hold, nil); err != nil {
			return err
		}
	}
	if m.p.Kind == KindMerge {
		if err := m.settle(ctx); err != nil {
			return err
		}
		if err := m.tidy(ctx); err != nil {
			return err
		}
	}
	if err := m.begin("try", 0, 0); err != nil {
		return err
	}
	if err := m.tryIt(ctx); err != nil {
		return m.tryFailed(ctx, err)
	}
	if err := step(ctx, "tried"); err != nil {
		return err
	}
	if err := m.begin("finish", 0, 0); err != nil {
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
	if err := m.act(ctx, "late-writes", m.p.HeldPath(), func() error { return m.late(ctx) }, nil); err != nil {
		return err
	}
	return m.finish(ctx)
}

// reopen takes the handles of the folder and the spool of a run that was
// switched in another process.
func (m *mover) reopen() error {
	if m.into == nil {
		d, err := m.openReal(m.p.Into)
		if err != nil {
			return err
		}
		m.into = d
	}
	if m.from == nil {
		return &BrokenError{m.p.From, "the folder that was copied is not there"}
	}
	if m.spool == nil {
		var err error
		if m.spool, err = m.spoolOf(m.p.Run); err != nil {
			return err
		}
		for _, n := range transfer.Spools(m.run.Dir()) {
			m.pass = max(m.pass, n)
		}
	}
	return nil
}

// hold gives what was copied its held name, so that nobody works there.
func (m *mover) hold() error {
	name := filepath.Base(m.p.From)
	st, err := m.heldIn.Stat(name)
	if handle.Missing(err) || err == nil && !isDir(&st, m.p.fromID()) {
		held, err := m.heldIn.Stat(m.p.Held)
		if err == nil && isDir(&held, m.p.fromID()) {
			return nil
		}
		return &BrokenError{m.p.From, "the target that was copied is not there"}
	}
	if err != nil {
		return err
	}
	if err := m.rename(m.heldIn, name, m.heldIn, m.p.Held); err != nil {
		return err
	}
	return m.heldIn.Sync()
}

// finish writes what the run came to into the ledger and on the drive.
func (m *mover) finish(ctx context.Context) error {
	err := m.act(ctx, "notes", m.p.Name, func() error {
		if m.p.Kind == KindMerge {
			return m.renewNote(ctx)
		}
		if m.p.Kind != KindBringBack {
			if err := m.describe(NoteHere); err != nil {
				return err
			}
		}
		state := map[string]string{KindMoveOn: NoteMovedOn, KindBringBack: NoteBroughtBack}[m.p.Kind]
		if state == "" {
			return nil
		}
		return m.renote(m.heldIn, m.p.Name, state)
	}, nil)
	if err != nil {
		return err
	}
	if err := m.end(ledger.Done); err != nil {
		return err
	}
	lender, err := m.heldNow(ctx)
	if err != nil {
		return err
	}
	row := m.ledgerRedirect()
	if m.p.Kind == KindMerge {
		if m.p.Mend.After.Settings, err = m.settingRecords(); err != nil {
			return err
		}
		m.p.Mend.After.Drive.Counter = max(m.p.Mend.After.Drive.Counter, row.Drive.Counter)
	} else if row.Settings, err = m.settingRecords(); err != nil {
		return err
	}
	err = m.run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if m.p.Kind == KindMerge {
			if err := m.saveMended(t); err != nil {
				return err
			}
			return t.AddHeld(m.held())
		}
		if err := t.SaveRedirect(row); err != nil {
			return err
		}
		if lender != nil {
			if err := t.ResizeHeld(*lender); err != nil {
				return err
			}
		}
		return t.AddHeld(m.held())
	})
	if err != nil {
		return err
	}
	m.measureAfter()
	return nil
}

func (m *mover) held() ledger.Held {
	return ledger.Held{
		Redirect: m.p.Name, Run: m.p.Run, Path: m.p.HeldPath(), Ino: m.p.fromID(),
		Bytes: m.p.Allocated, Files: m.p.Files, Drive: m.p.FromDrive, Since: m.p.Made,
	}
}

// measureAfter looks at both drives again; a drive that can't be measured
// is left out of the numbers.
func (m *mover) measureAfter() {
	for _, d := range []*drive.Drive{&m.p.FromNow, &m.p.IntoNow} {
		if d.Mount == "" {
			continue
		}
		was := d.Free
		if m.Drives.Refresh(d) == nil {
			m.out.Space = append(m.out.Space, Space{d.Name(), was, d.Free})
		}
	}
}

// unplace takes the final name off a copy that nobody was led to yet, so
// that the run can catch up with the folder. Only an unchanged copy is taken.
func (m *mover) unplace(ctx context.Context) error {
	if err := m.copyUnchanged(ctx); err != nil {
		return err
	}
	return m.act(ctx, "unplace", m.p.Final, func() error {
		if err := m.rename(m.into, m.p.Final, m.into, partName(m.p.Run)); err != nil {
			return err
		}
		return m.into.Sync()
	}, nil)
}

// copyUnchanged holds the copy at its final place against the spool: a
// *RefusedError if somebody worked there.
func (m *mover) copyUnchanged(ctx context.Context) error {
	if err := m.reopen(); err != nil {
		return err
	}
	d, err := m.into.Beneath(m.p.Final)
	if err != nil {
		return err
	}
	defer d.Release()
	if err := m.dropProbes(d); err != nil {
		return err
	}
	var changed []string
	err = transfer.Differences(ctx, d, transfer.Copy, m.spool, func(x transfer.Difference) error {
		if x.Path == "." && x.Now != nil && x.Was != nil {
			return nil // its times change with the trial and with renames
		}
		changed = append(changed, filepath.Join(m.p.Copy(), x.Path))
		if len(changed) >= firstListed {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	return m.workedOn(changed)
}

// workedOn refuses to take back what people have changed since.
func (m *mover) workedOn(changed []string) error {
	if len(changed) == 0 {
		return nil
	}
	f := finding.New(finding.ChangedSince, changed[0], "somebody has worked in %s since it was made: %s", m.p.Copy(), changed[0]).Named(m.p.Name)
	f.Severity, f.Remedy = finding.Blocker, "`nexlin bring-back "+pathtext.Quote(m.p.Name)+"` brings the data back as it is now"
	if m.p.Kind == KindBringBack {
		f.Remedy = "the folder is real again: `nexlin move` moves it, as it is now"
	}
	return &RefusedError{[]finding.Finding{f.Listing(len(changed), changed)}}
}

var errEnough = errors.New("enough differences seen")
