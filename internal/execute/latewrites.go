package execute

import (
	"context"

	"nexlin/internal/engine"
	"nexlin/internal/inventory"
	"nexlin/internal/late"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// BringLate is the walk for late writes after the switch.
func (m *Execution) BringLate(ctx context.Context) error {
	if err := m.openRenamed(); err != nil {
		return err
	}
	if m.Plan.Bare {
		return m.recordNeverCopied(ctx) // it was not copied, so nothing of it is late
	}
	target, err := m.Live()
	if err != nil {
		return err
	}
	defer target.Release()
	job, err := LateJob(m.Engine, m.Plan, transfer.Source)
	if err != nil {
		return err
	}
	l := &late.Writes{Held: m.From, Live: target, LivePath: m.Plan.Copy(), Spool: m.Spool, Job: job,
		Scratch: naming.Late(m.Plan.Run), Unstable: m.Plan.FromUnstable}
	if err := l.Walk(ctx); err != nil {
		return err
	}
	m.Out.Findings = append(m.Out.Findings, l.Findings(m.Plan.Name, m.Plan.HeldPath(), true)...)
	if l.Seen == 0 && len(l.Changes) == 0 {
		return nil
	}
	next, err := m.AmendRecords(ctx, m.Plan.Run, m.Plan.Digest, target, m.Spool, l.Changes)
	if err != nil {
		return err
	}
	_ = m.Spool.Close() // only read from here on
	m.Spool = next
	return nil
}

// LateJob is how entries are brought over that were written late to a held
// original, which is the given side of the run's records.
func LateJob(e *engine.Engine, p *plan.Plan, held transfer.Side) (*transfer.Job, error) {
	acts, err := e.Ledger.Acts(p.Run)
	if err != nil {
		return nil, err
	}
	s, err := stepsOf(acts)
	if held == transfer.Copy {
		return &transfer.Job{Digest: p.Digest, TimeStep: s.Into}, err // home to where everything was kept
	}
	return &transfer.Job{
		Digest: p.Digest, Allow: p.Allow, Fuse: p.IntoFuse, Unstable: p.IntoUnstable(), TimeStep: s.From,
		Rewrite: func(e *inventory.Entry) (string, string) { return Rewritten(p, e.Path, e.Link) },
	}, err
}
