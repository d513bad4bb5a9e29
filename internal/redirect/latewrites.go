package redirect

import (
	"context"

	"nexlin/internal/engine"
	"nexlin/internal/inventory"
	"nexlin/internal/late"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// bringLate is the walk for late writes after the switch.
func (m *execution) bringLate(ctx context.Context) error {
	if err := m.openRenamed(); err != nil {
		return err
	}
	if m.plan.Bare {
		return m.recordNeverCopied(ctx) // it was not copied, so nothing of it is late
	}
	target, err := m.into.Beneath(m.plan.Final)
	if err != nil {
		return err
	}
	defer target.Release()
	job, err := lateJob(m.Engine, m.plan, transfer.Source)
	if err != nil {
		return err
	}
	l := &late.Writes{Held: m.from, Live: target, LivePath: m.plan.Copy(), Spool: m.spool, Job: job,
		Scratch: naming.Late(m.plan.Run), Fuse: m.plan.FromFuse}
	if err := l.Walk(ctx); err != nil {
		return err
	}
	m.out.Findings = append(m.out.Findings, l.Findings(m.plan.Name, m.plan.HeldPath(), true)...)
	if l.Seen == 0 && len(l.Changes) == 0 {
		return nil
	}
	next, err := m.amendRecords(ctx, m.plan.Run, m.plan.Digest, target, m.spool, l.Changes)
	if err != nil {
		return err
	}
	_ = m.spool.Close() // only read from here on
	m.spool = next
	return nil
}

// lateJob is how entries are brought over that were written late to a held
// original, which is the given side of the run's records.
func lateJob(e *engine.Engine, p *plan.Plan, held transfer.Side) (*transfer.Job, error) {
	acts, err := e.Ledger.Acts(p.Run)
	if err != nil {
		return nil, err
	}
	s, err := stepsOf(acts)
	if held == transfer.Copy {
		return &transfer.Job{Digest: p.Digest, TimeStep: s.Into}, err // home to where everything was kept
	}
	return &transfer.Job{
		Digest: p.Digest, Allow: p.Allow, Fuse: p.IntoFuse, TimeStep: s.From,
		Rewrite: func(e *inventory.Entry) (string, string) { return rewritten(p, e.Path, e.Link) },
	}, err
}
