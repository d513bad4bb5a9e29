package redirect

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/note"
)

// openMended takes the handles of a mend, that of the link's directory if it is
// needed, and wants the drive to be the one of
// the plan (I5).
func (m *opener) openMended(withLink bool) error {
	if m.plan.Into == "" {
		return nil // only records of what is held change
	}
	if err := m.checkDrive(m.plan.Into, m.plan.IntoDrive); err != nil {
		return err
	}
	var err error
	if withLink {
		if m.linkIn, err = m.openReal(filepath.Dir(m.plan.Link)); err != nil {
			return err
		}
	}
	m.into, err = m.openReal(m.plan.Into)
	return err
}

// tryMended does the trial through link and target. What a trial that was
// setStopped left, and the times it had changed, are put right first.
func (m *switcher) tryMended(ctx context.Context) error {
	target, err := m.into.Beneath(m.plan.Final)
	if err != nil {
		return err
	}
	defer target.Release()
	if err := m.untried(target); err != nil {
		return err
	}
	st, err := target.Self()
	if err != nil {
		return err
	}
	t := trialData{probeNames(), st.Mtime}
	via := m.plan.Target
	if !m.plan.StaysDetached() && !m.plan.Linkless() {
		if via, m.plan.ByBytes, err = way(m.linkIn, m.base(), m.plan.LinkText, target); err != nil {
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

// untried takes away what the last trial of this run left, if it was stopped.
func (m *switcher) untried(target *handle.Dir) error {
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

// renewNote writes the note and the manifest beside the target again, from
// the record of the run that describes it.
func (m *describer) renewNote(ctx context.Context) error {
	if !m.plan.Mend.Note {
		return nil
	}
	return m.Act(ctx, "notes", m.plan.Name, func() error {
		return m.writeNotesFrom(m.Ledger.RunDir(m.plan.Before.Run), m.noteOf(m.plan.Before))
	}, nil)
}

// noteOf is the note of a redirect as the ledger has it.
func (m *describer) noteOf(r *ledger.Redirect) note.Note {
	return note.Note{
		Name: r.Name, Link: r.Link, Target: m.plan.Final, Account: r.Account, State: note.Here,
		Run: r.Run, Bytes: r.Bytes, Files: r.Files, Created: r.Created,
	}
}

func (m *describer) saveMended(t *ledger.Tx) error {
	for _, h := range m.plan.Mend.Held {
		on := h.Drive
		on.Mount = h.Mount
		if err := t.MoveHeld(h.ID, h.Path, on); err != nil {
			return err
		}
	}
	after := m.plan.Mend.After
	after.LinkDrive = m.linkDriveNow()
	return t.SaveRedirect(after)
}
