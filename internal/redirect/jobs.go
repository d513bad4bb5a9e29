package redirect

import (
	"context"
	"errors"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/merge"
	"nexlin/internal/plan"
)

func init() {
	execute.Register(plan.KindMove, func(m *execute.Execution) execute.Job { return &moving{execute.CopyingOf(m)} })
	execute.Register(plan.KindMoveOn, func(m *execute.Execution) execute.Job { return &movingOn{execute.CopyingOf(m)} })
	execute.Register(plan.KindBringBack, func(m *execute.Execution) execute.Job { return &bringingBack{execute.CopyingOf(m)} })
	execute.Register(plan.KindMerge, func(m *execute.Execution) execute.Job { return &merge.Merging{execute.CopyingOf(m)} })
	execute.Register(plan.KindDetach, func(m *execute.Execution) execute.Job { return &detaching{execute.Basics{Execution: m}} })
	execute.Register(plan.KindDiscard, func(m *execute.Execution) execute.Job { return discardingOf(m) })
	execute.Register(plan.KindMend, func(m *execute.Execution) execute.Job { return &mending{execute.Basics{Execution: m}} })
	execute.Register(plan.KindRecord, func(m *execute.Execution) execute.Job { return &recording{execute.Basics{Execution: m}} })
	execute.Register(plan.KindRestore, func(m *execute.Execution) execute.Job { return &restoring{execute.Basics{Execution: m}} })
	execute.Register(plan.KindRenew, func(m *execute.Execution) execute.Job { return &renewing{Basics: execute.Basics{Execution: m}} })
	execute.Register(plan.KindFuture, func(m *execute.Execution) execute.Job { return &steering{execute.Basics{Execution: m}} })
	execute.Register(plan.KindPack, func(m *execute.Execution) execute.Job { return &packing{Basics: execute.Basics{Execution: m}} })
	execute.Register(plan.KindUnpack, func(m *execute.Execution) execute.Job { return &packing{Basics: execute.Basics{Execution: m}} })
	execute.Register(plan.KindHandover, func(m *execute.Execution) execute.Job { return &handingOver{execute.Basics{Execution: m}} })
}

// Do carries out a plan that nothing blocks. The error is a *[RefusedError] before
// anything has changed, a *[StoppedError] afterwards, a *[KeptError] if all is done
// but discarding the original.
func Do(ctx context.Context, e *engine.Engine, p *plan.Plan) (*plan.Outcome, error) {
	if err := p.Blocked(); err != nil {
		return nil, err
	}
	out, err := execute.New(e, p).Conduct(ctx)
	if err == nil && p.DiscardOld {
		err = discardAfter(ctx, e, out)
	}
	return out, err
}

// Resume finishes a run that was stopped. Its errors are those of
// [Do].
func Resume(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	out, err := execute.ResumeRun(ctx, e, row)
	if err == nil && out.Plan.DiscardOld {
		err = discardAfter(ctx, e, out)
	}
	return out, err
}

// discardAfter discards the original of a move that is done.
func discardAfter(ctx context.Context, e *engine.Engine, out *plan.Outcome) error {
	p := out.Plan
	r, err := e.Ledger.Redirect(p.Name)
	if err == nil {
		var d *DiscardPlan
		if d, err = PlanDiscard(ctx, e, r, DiscardOptions{Run: p.Run}); err == nil {
			out.Discarded, err = Discard(ctx, e, d)
		}
	}
	if out.Discarded != nil {
		for _, now := range out.Discarded.Space {
			for i := range out.Space {
				if out.Space[i].Drive == now.Drive {
					out.Space[i].FreeAfter = now.FreeAfter
				}
			}
		}
	}
	var stopped *plan.StoppedError
	if err != nil && !errors.As(err, &stopped) {
		err = &KeptError{p.Name, p.Link, err}
	}
	return err
}

// Detach takes the link away and leaves the data where it is.
func Detach(ctx context.Context, e *engine.Engine, d *DetachPlan) (*plan.Outcome, error) {
	if len(finding.Blockers(d.Findings)) > 0 {
		return nil, &plan.RefusedError{Findings: d.Findings}
	}
	now := time.Now()
	r := d.Redirect
	p := &plan.Plan{
		Run: ledger.NewRunID(now), Kind: plan.KindDetach, Made: now, Name: r.Name, Before: &r,
		Link: r.Link, Target: r.Target, LinkText: r.LinkText(), FromDrive: r.Drive,
		UID: r.UID, GID: account.Group(r.UID), Account: r.Account, Methods: r.Methods, Settings: d.Settings,
	}
	return Do(ctx, e, p)
}
