package execute

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"syscall"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/note"
	"nexlin/internal/swap"
)

// OpenMended takes the handles of a mend, that of the link's directory if it is
// needed, and wants the drive to be the one of the plan (I5).
func (m *opener) OpenMended(withLink bool) error {
	if m.Plan.Into == "" {
		return nil // only records of what is held change
	}
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	var err error
	if withLink {
		if m.LinkIn, err = m.OpenReal(filepath.Dir(m.Plan.Link)); err != nil {
			return err
		}
	}
	m.Into, err = m.OpenReal(m.Plan.Into)
	return err
}

// LeadLink makes the link, or has the one lead elsewhere that stands there as it was seen. It
// may be done already. A *[swap.BrokenError] if something else came to stand there.
func (m *opener) LeadLink() error {
	done, err := m.LinkPlace().Says(m.Plan.LinkText)
	if err != nil {
		return err
	}
	if done {
		return m.DropOwn(m.LinkIn)
	}
	if m.Plan.OldText != "" {
		return m.LinkPlace().Lead(m.Plan.OldText, m.Plan.LinkText)
	}
	err = m.LinkPlace().Make(m.Plan.LinkText)
	if errors.Is(err, syscall.EEXIST) {
		err = swap.Broken(m.Plan.Link, "something stands there by now")
	}
	return err
}

// TryMended does the trial through link and target. What a trial that was
// stopped left, and the times it had changed, are put right first.
func (m *switcher) TryMended(ctx context.Context) error {
	target, err := m.Live()
	if err != nil {
		return err
	}
	defer target.Release()
	if err := m.Untried(target); err != nil {
		return err
	}
	st, err := target.Self()
	if err != nil {
		return err
	}
	t := trialData{probeNames(), st.Mtime}
	via := m.Plan.Target
	if !m.Plan.StaysDetached() && !m.Plan.Linkless() {
		if via, m.Plan.ByBytes, err = way(m.LinkIn, m.base(), m.Plan.LinkText, target); err != nil {
			return fmt.Errorf("the trial failed: %w", err)
		}
	}
	err = m.Act(ctx, "trial", t, func() error { return try(via, target, t.Names) }, nil)
	if trial := (*TrialError)(nil); errors.As(err, &trial) {
		return fmt.Errorf("the trial failed: %w", err)
	}
	return err
}

type trialData struct {
	Names [2]string   `json:"names"`
	Mtime handle.Time `json:"mtime"`
}

// Untried takes away what the last trial of this run left, if it was stopped.
func (m *switcher) Untried(target *handle.Dir) error {
	var t trialData
	known, err := m.Last("trial", &t)
	if err != nil || !known {
		return err
	}
	left := false
	for _, n := range t.Names {
		_, err := target.Stat(n)
		if left = left || err == nil; err == nil {
			err = dropProbe(target, n)
		}
		if handle.IgnoreMissing(err) != nil {
			return err
		}
	}
	done, err := m.Finished("trial")
	if err != nil || !left && done {
		return err
	}
	st, err := target.Self()
	if err != nil {
		return err
	}
	return handle.IgnorePermission(target.SetTimes(st.Atime, t.Mtime))
}

// RenewNote writes the note and the manifest beside the target again, from
// the record of the run that describes it.
func (m *describer) RenewNote(ctx context.Context) error {
	if !m.Plan.Mend.Note {
		return nil
	}
	return m.Act(ctx, "notes", m.Plan.Name, func() error {
		return m.WriteNotesFrom(m.Ledger.RunDir(m.Plan.Before.Run), m.NoteOf(m.Plan.Before))
	}, nil)
}

// NoteOf is the note of a redirect as the ledger has it.
func (m *describer) NoteOf(r *ledger.Redirect) note.Note {
	return note.Note{
		Name: r.Name, Link: r.Link, Target: m.Plan.Final, Account: r.Account, State: note.Here,
		Run: r.Run, Bytes: r.Bytes, Files: r.Files, Created: r.Created,
	}
}

func (m *describer) SaveMended(t *ledger.Tx) error {
	for _, h := range m.Plan.Mend.Held {
		on := h.Drive
		on.Mount = h.Mount
		if err := t.MoveHeld(h.ID, h.Path, on); err != nil {
			return err
		}
	}
	after := m.Plan.Mend.After
	after.LinkDrive = m.linkDriveNow()
	return t.SaveRedirect(after)
}
