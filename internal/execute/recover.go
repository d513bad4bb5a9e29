package execute

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
)

// Stopped finds the run that resume or undo is about: the named one, the newest of the
// redirect of that name, or the only one that is stopped. The error is a
// *[plan.NothingStoppedError] where none is, and none is named.
func Stopped(e *engine.Engine, name string) (ledger.RunRow, error) {
	if name != "" {
		row, err := e.Ledger.Run(name)
		if errors.Is(err, ledger.ErrNotFound) {
			row, err = newestOf(e, name)
		}
		if err != nil {
			return row, err
		}
		return plan.Whole(e.Ledger, row)
	}
	rows, err := plan.Open(e.Ledger)
	switch {
	case err != nil:
		return ledger.RunRow{}, err
	case len(rows) == 0:
		last, err := last(e)
		return ledger.RunRow{}, cmp.Or(err, error(&plan.NothingStoppedError{Last: last}))
	case len(rows) > 1:
		return ledger.RunRow{}, plan.ErrSeveralStopped
	}
	return rows[0], nil
}

// newestOf is the run of a redirect that is meant by its name: one that was stopped, or the
// newest that can be taken back; the newest of all, if none can.
func newestOf(e *engine.Engine, redirect string) (ledger.RunRow, error) {
	all, err := e.Ledger.Runs()
	if err != nil {
		return ledger.RunRow{}, err
	}
	rows := slices.DeleteFunc(slices.Clone(all), func(r ledger.RunRow) bool { return r.Redirect != redirect })
	for _, row := range rows {
		if row.State == ledger.Stopped || Undoable(e.Ledger, row) == nil {
			return row, nil
		}
	}
	if len(rows) > 0 {
		return rows[0], nil
	}
	none := &plan.NoRunError{Name: redirect}
	for _, row := range all {
		if name := strings.TrimPrefix(row.Redirect, "-"); naming.Near(redirect, row.ID) {
			none.Near = append(none.Near, row.ID)
		} else if naming.Near(redirect, name) && !slices.Contains(none.Near, name) {
			none.Near = append(none.Near, name)
		}
	}
	return ledger.RunRow{}, none
}

// last is the newest run, if it can be taken back; else one without an id.
func last(e *engine.Engine) (ledger.RunRow, error) {
	rows, err := e.Ledger.Runs()
	if err != nil || len(rows) == 0 {
		return ledger.RunRow{}, err
	}
	row, err := plan.Whole(e.Ledger, rows[0])
	if err != nil || Undoable(e.Ledger, row) != nil {
		return ledger.RunRow{}, nil
	}
	return row, nil
}

// A Recovery is what resume or undo would do, told before it is done.
type Recovery struct {
	Run      ledger.RunRow
	Plan     *plan.Plan
	Switched bool   // programs are led to the new place already
	Aside    string // where the folder is while neither it nor a link stands at the link path; empty otherwise
}

// Recoverable looks at a run and at the disks and changes nothing.
func Recoverable(e *engine.Engine, row ledger.RunRow) (*Recovery, error) {
	p, err := plan.Of(row)
	if err != nil {
		return nil, err
	}
	r := &Recovery{Run: row, Plan: p}
	if p.Small() {
		return r, nil
	}
	m := New(e, p)
	m.looksOnly = true
	if only, err := m.onlyCopied(); only || err != nil {
		return r, err
	}
	defer m.Close()
	if err := m.OpenAny(); err != nil {
		return nil, err
	}
	at, err := m.StandsAt()
	r.Switched = at == plan.Switched
	if at == plan.Between && !p.MovesOn() {
		r.Aside = p.FolderAway()
	}
	return r, err
}

// onlyCopied says of a run that copies a folder that it has never begun to
// switch: then nothing but its copy is to be taken back, and that needs neither
// the link nor the folder.
func (m *undoer) onlyCopied() (bool, error) {
	if k := m.Plan.Traits(); m.Plan.Small() || !k.First && !k.Onward && !k.Back {
		return false, nil
	}
	begun, err := m.Begun("switch")
	return !begun && err == nil, err
}

// openToUndo opens what taking the run back works on.
func (m *undoer) openToUndo() (err error) {
	if m.copied, err = m.onlyCopied(); err != nil {
		return err
	}
	if m.copied {
		return m.openCopy()
	}
	return m.OpenAny()
}

// openCopy opens where the copy lies, and what has lent to it.
func (m *undoer) openCopy() (err error) {
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	if m.LinkIn, err = m.OpenReal(filepath.Dir(m.Plan.Link)); handle.IgnoreMissing(err) != nil {
		return err
	}
	if m.LinkIn != nil { // its place may be gone: the copy is taken back all the same
		if err := m.untryFolder(); err != nil {
			return err
		}
	}
	if m.Into, err = m.OpenReal(m.Plan.Into); handle.Missing(err) {
		return nil // it was not made yet, or is gone with all in it
	}
	if err != nil || m.Plan.Base == nil || !m.Plan.Base.Take {
		return err
	}
	return m.openLender()
}

// DropTrials takes away what trials that were killed have left around the link and
// on the way to the target, as far as this account may.
func (m *undoer) DropTrials() error {
	for _, at := range []string{filepath.Dir(m.Plan.Link), m.Plan.Into} {
		if m.Plan.Link == "" || at == "" {
			continue
		}
		if there, err := drive.Existing(at); err == nil {
			at = there
		}
		d, err := m.OpenReal(at)
		if err != nil {
			continue // nothing was tried there
		}
		err = drive.DropTrials(d)
		d.Release()
		if handle.IgnorePermission(err) != nil {
			return err
		}
	}
	return nil
}

// uncopied takes back a run that has only copied.
func (m *undoer) uncopied(ctx context.Context) error {
	if m.LinkIn != nil {
		if err := m.DropOwn(m.LinkIn); err != nil {
			return err
		}
	}
	if m.Into != nil {
		setAside, err := m.setAside(ctx, plan.AsBefore)
		if err == nil && setAside != "" {
			err = swap.Broken(m.Plan.Copy(), "the copy has its final name, and the journal does not say so")
		}
		if err == nil {
			err = m.giveBack(ctx)
		}
		if err == nil {
			err = m.RemovePart(ctx)
		}
		if err != nil {
			return err
		}
	}
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	return m.undone(ctx, "")
}

// Take takes up a run that was stopped, or, for undo, one that is done. open
// opens what is needed for that.
func Take(e *engine.Engine, row ledger.RunRow, open func(*Execution) error) (*Execution, error) {
	if err := e.Ledger.UseSpare(); err != nil {
		return nil, err
	}
	taken, err := e.Ledger.Take(row.ID)
	if err != nil {
		return nil, err
	}
	p, err := plan.Of(taken.RunRow)
	if err != nil {
		taken.Release()
		return nil, err
	}
	m := New(e, p)
	m.Run, m.Again, m.patience = taken, true, patience{p.WaitQuiet}
	if err := open(m); err != nil {
		m.Close()
		taken.Release()
		return nil, err
	}
	m.dropLeavings()
	for _, d := range []struct {
		at  string
		now *drive.Drive
	}{{p.HeldIn, &p.FromNow}, {p.Into, &p.IntoNow}} {
		if now, err := e.Drives.Of(d.at); err == nil {
			*d.now = now
		}
	}
	return m, nil
}

func ResumeRun(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	if err := Resumable(row); err != nil {
		return nil, err
	}
	m, err := Take(e, row, (*Execution).OpenAny)
	if err != nil {
		return nil, err
	}
	defer m.Run.Release()
	defer m.Close()
	if err := m.Run.Set(ledger.Going, "", nil); err != nil {
		return nil, err
	}
	return m.Out, m.carryOn(ctx)
}

// Undo takes a run back: one that was stopped, or the last one that was
// done to a redirect. What other people wrote meanwhile is never deleted: if
// the copy was worked in, it is a *RefusedError.
func Undo(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	if err := Undoable(e.Ledger, row); err != nil {
		return nil, err
	}
	return UndoRun(ctx, e, row)
}

func UndoRun(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	m, err := Take(e, row, (*Execution).openToUndo)
	if err != nil {
		return nil, err
	}
	defer m.Run.Release()
	defer m.Close()
	if err := m.DropTrials(); err != nil {
		return nil, err
	}
	wasDone := row.State == ledger.Done
	m.wasDone = wasDone
	if wasDone { // a stop from here on leaves a run that can be gone on with
		if err := m.Run.Set(ledger.Going, "", nil); err != nil {
			return nil, err
		}
		if err := run.Point(ctx, "undo-begun"); err != nil {
			return nil, errors.Join(err, m.Run.Restore(row))
		}
	}
	if err := m.Job.TryBack(ctx); err != nil {
		return nil, errors.Join(err, m.Run.Restore(row))
	}
	err = m.Job.Back(ctx)
	if refused := (*plan.RefusedError)(nil); errors.As(err, &refused) {
		return nil, errors.Join(refused, m.Run.Restore(row))
	}
	if stopped := (*plan.StoppedError)(nil); errors.As(err, &stopped) {
		return m.Out, err // the job has said so in the ledger
	}
	if err != nil && wasDone {
		// A run that was done counts as stopped only once it is half undone.
		return m.Out, errors.Join(&plan.StoppedError{Run: row.ID, Kind: row.Kind, Phase: "undo", Link: m.Plan.Link,
			Switched: true, Err: err},
			m.Run.Set(ledger.Stopped, plan.WhyStopped(err), nil))
	}
	if err = m.SetStopped(err); err == nil {
		m.Out.State = ledger.Undone
	}
	return m.Out, err
}

// Undoable says by the ledger alone that a run can be taken back; else why
// not.
func Undoable(l *ledger.Ledger, row ledger.RunRow) error {
	if row.State == ledger.Undone {
		return fmt.Errorf("run %s was taken back already: %w", row.ID, plan.ErrNotUndoable)
	}
	if plan.OfArchive(row.Kind) && row.State == ledger.Done {
		return fmt.Errorf("run %s (%s) is done, and what it made is yours to delete: %w", row.ID, row.Kind,
			plan.ErrNotUndoable)
	}
	final := plan.TraitsOf(row.Kind).Final
	if final && row.State == ledger.Stopped {
		return nil // it is ended: what was deleted stays deleted
	}
	if row.State == ledger.Refused || final {
		return fmt.Errorf("run %s (%s): %w", row.ID, row.Kind, plan.ErrNotUndoable)
	}
	if plan.TraitsOf(row.Kind).Several {
		return checkAllKnown(l, row) // each of its folders is asked by itself
	}
	return checkLast(l, row)
}

// checkAllKnown refuses to take back a run of several, which is done, of whose folders one was
// forgotten: an older build left the run of all then. Of one that was stopped some have not begun.
func checkAllKnown(l *ledger.Ledger, row ledger.RunRow) error {
	if row.State != ledger.Done {
		return nil
	}
	unknown, err := plan.AllOf(l, row)
	if err != nil || len(unknown) == 0 {
		return err
	}
	return fmt.Errorf("%s was forgotten since, so the folders of run %s are taken back one by one: %w",
		unknown[0].Name, row.ID, plan.ErrNotUndoable)
}

// Resumable says by the ledger alone that a run can be finished; else why not.
func Resumable(row ledger.RunRow) error {
	switch row.State {
	case ledger.Stopped:
		return nil
	case ledger.Going:
		return ledger.ErrBusy
	}
	return fmt.Errorf("run %s is %s: %w", row.ID, row.State, plan.ErrFinished)
}

// checkLast refuses to take back a run that others were built on.
func checkLast(l *ledger.Ledger, row ledger.RunRow) error {
	rows, err := l.Runs()
	if err != nil {
		return err
	}
	for _, r := range rows {
		if r.ID == row.ID {
			return nil
		}
		if plan.OfArchive(r.Kind) {
			continue // it has changed nothing about the redirect
		}
		if r.Redirect == row.Redirect && r.State != ledger.Undone && r.State != ledger.Refused {
			return fmt.Errorf("run %s (%s) came after it and has to be taken back first: %w", r.ID, r.Kind,
				plan.ErrNotUndoable)
		}
	}
	return nil
}
