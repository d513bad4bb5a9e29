package execute

import (
	"cmp"
	"context"
	"errors"

	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// FindLender opens what a plan's copy may be made from; nil if it is gone or its
// record can't be read: then all of it is copied from the target.
func FindLender(e *engine.Engine, p *plan.Plan) (*transfer.Lender, func(), error) {
	if p.Base == nil {
		return nil, nil, nil
	}
	acts, err := e.Ledger.Acts(p.Base.Run)
	if err != nil {
		return nil, nil, err
	}
	s, err := stepsOf(acts)
	if err != nil {
		return nil, nil, err
	}
	l := &transfer.Lender{Take: p.Base.Take, Digest: p.Digest}
	for _, a := range acts {
		if a.Name == "place" { // of several the first: nobody worked in the copy before
			t := a.Intent.Add(-max(s.Into, transfer.LeastStep))
			l.Before = handle.Time{Sec: t.Unix(), Nsec: uint32(t.Nanosecond())}
			break
		}
	}
	if made, err := plan.OfRun(e.Ledger, p.Base.Run); err == nil {
		l.Digest = made.Digest
	}
	if l.Held, err = handle.OpenReal(p.Base.Path); err != nil {
		return nil, nil, handle.IgnoreMissing(err)
	}
	st, err := l.Held.Self()
	if err == nil && !plan.IsFolder(&st, p.Base.Ino) {
		err = swap.Broken(p.Base.Path, "another directory than the held original stands there")
	}
	if err == nil {
		l.Spool, err = e.SpoolOf(p.Base.Run)
	}
	if err != nil {
		l.Held.Release()
		if engine.RecordBroken(err) && !p.Base.Take {
			err = nil
		}
		return nil, nil, err
	}
	return l, func() {
		l.Held.Release()
		_ = l.Spool.Close() // only read
	}, nil
}

// openLender opens it for a run, and locks it.
func (m *opener) openLender() (err error) {
	if m.lender, m.lenderDone, err = FindLender(m.Engine, m.Plan); err != nil || m.lender == nil {
		return err
	}
	if err := m.lender.Held.Lock(true); err != nil {
		if handle.IsLocked(err) {
			return RefuseBusy(m.Plan.Name, m.Plan.Base.Path)
		}
		return err
	}
	return nil
}

// taking reports that files of the part may be the held original's own.
func (m *opener) taking() bool { return m.lender != nil && m.lender.Take }

// giveBack puts what was taken from the held original back there, wherever
// the copy stands by now.
func (m *copier) giveBack(ctx context.Context) error {
	if !m.taking() || m.Into == nil {
		return nil
	}
	dirs, err := takenDirs(m.Journal)
	if err != nil {
		return err
	}
	return m.Act(ctx, "give-back", m.Plan.Base.Path, func() error {
		for _, name := range []string{m.CopyAside(), naming.Part(m.Plan.Run)} {
			if err := m.lender.GiveBack(m.Into, name, dirs); err != nil {
				return err
			}
		}
		return nil
	}, nil)
}

// A lentDirs is what is journaled of directories that are taken as they are.
type lentDirs struct {
	Dirs  []transfer.LentDir `json:"dirs"`
	Files int64              `json:"files"` // in them
	Pass  int                `json:"pass"`  // whose spool lists them
}

// takeDirs takes the directories in which nothing has changed out of the held original, each
// by one rename: the pass that follows finds them made. A run that goes on takes again what
// an undo had given back; one that gave them up for good goes on file by file.
func (m *copier) takeDirs(ctx context.Context) error {
	if !m.taking() {
		return nil
	}
	var d lentDirs
	known, err := m.Last("list-dirs", &d)
	if err != nil {
		return err
	}
	gaveUp, err := m.Last("give-up-dirs", new(lentDirs))
	if err != nil {
		return err
	}
	if gaveUp {
		return m.giveUpDirs(ctx)
	}
	listed, err := m.Finished("list-dirs")
	switch {
	case err != nil:
		return err
	case known && !listed:
		return transfer.RemoveSpool(m.Run.Dir(), d.Pass) // nothing was taken yet
	case !known && (m.Again || len(m.Plan.Loan.Dirs) == 0 ||
		cmp.Or(m.lender.Digest, transfer.SHA256) != cmp.Or(m.Plan.Digest, transfer.SHA256)):
		return nil
	case !known:
		if d, err = m.listDirs(ctx); err != nil {
			return err
		}
	}
	m.lent = true
	m.Out.Lent = d.Files
	err = m.Act(ctx, "take-dirs", d.Files, func() error { return m.lender.TakeDirs(m.Part, d.Dirs) }, nil)
	if errors.Is(err, transfer.ErrNotAsLent) {
		err = m.giveUpDirs(ctx)
	}
	return err
}

// listDirs has the records say what is taken before it is.
func (m *copier) listDirs(ctx context.Context) (lentDirs, error) {
	m.pass++
	d := lentDirs{Dirs: m.Plan.Loan.Dirs, Pass: m.pass}
	s, err := transfer.CreateSpool(m.Run.Dir(), m.pass)
	if err != nil {
		return d, err
	}
	d.Files, err = m.lender.RecordDirs(d.Dirs, s)
	if err = errors.Join(err, s.Close()); err != nil {
		return d, err
	}
	return d, m.Act(ctx, "list-dirs", d, func() error { return nil }, nil)
}

// giveUpDirs gives back what was taken as it is, since something in it is not as the folder
// any more: all is looked at file by file from here on.
func (m *copier) giveUpDirs(ctx context.Context) error {
	m.lent, m.doubt = false, true
	m.Out.Lent = 0
	dirs, err := takenDirs(m.Journal)
	if err != nil {
		return err
	}
	return m.Once(ctx, "give-up-dirs", lentDirs{}, func() error {
		return m.lender.GiveBack(m.Into, naming.Part(m.Plan.Run), dirs)
	})
}

// takenDirs are the directories that were taken as they are and not given up.
func takenDirs(j *run.Journal) ([]transfer.LentDir, error) {
	var d lentDirs
	if _, err := j.Last("list-dirs", &d); err != nil {
		return nil, err
	}
	if gaveUp, err := j.Finished("give-up-dirs"); gaveUp || err != nil {
		return nil, err
	}
	return d.Dirs, nil
}

// MeasureHeld takes into the row of a held original what it takes by now, read through its
// directory.
func MeasureHeld(ctx context.Context, r *ledger.Run, held *handle.Dir, h *ledger.Held) error {
	facts, err := inventory.Measure(ctx, held, inventory.Options{Scratch: r.Dir()})
	h.Bytes, h.Files = facts.Allocated, facts.Files
	return err
}

// heldNow is the record of the held original with the room that it takes now
// that files were taken from it, or given back; nil if none were.
func (m *describer) heldNow(ctx context.Context) (*ledger.Held, error) {
	if !m.taking() {
		return nil, nil
	}
	all, err := m.Ledger.HeldOf(m.Plan.Name)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		if h.Path != m.Plan.Base.Path {
			continue
		}
		return &h, MeasureHeld(ctx, m.Run, m.lender.Held, &h)
	}
	return nil, nil
}
