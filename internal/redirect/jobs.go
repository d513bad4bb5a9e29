package redirect

import (
	"context"
	"errors"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
)

func init() {
	register(plan.KindMove, func(m *execution) job { return &moving{copyingOf(m)} })
	register(plan.KindMoveOn, func(m *execution) job { return &movingOn{copyingOf(m)} })
	register(plan.KindBringBack, func(m *execution) job { return &bringingBack{copyingOf(m)} })
	register(plan.KindMerge, func(m *execution) job { return &merging{copyingOf(m)} })
	register(plan.KindDetach, func(m *execution) job { return &detaching{basics{m}} })
	register(plan.KindDiscard, func(m *execution) job { return discardingOf(m) })
	register(plan.KindMend, func(m *execution) job { return &mending{basics{m}} })
	register(plan.KindRecord, func(m *execution) job { return &recording{basics{m}} })
	register(plan.KindRestore, func(m *execution) job { return &restoring{basics{m}} })
	register(plan.KindRenew, func(m *execution) job { return &renewing{basics: basics{m}} })
	register(plan.KindFuture, func(m *execution) job { return &steering{basics{m}} })
	register(plan.KindPack, func(m *execution) job { return &packing{basics: basics{m}} })
	register(plan.KindUnpack, func(m *execution) job { return &packing{basics: basics{m}} })
	register(plan.KindHandover, func(m *execution) job { return &handingOver{basics{m}} })
}

// Do carries out a plan that nothing blocks. The error is a *[RefusedError] before
// anything has changed, a *[StoppedError] afterwards, a *[KeptError] if all is done
// but discarding the original.
func Do(ctx context.Context, e *engine.Engine, p *plan.Plan) (*plan.Outcome, error) {
	if err := p.Blocked(); err != nil {
		return nil, err
	}
	out, err := New(e, p).conduct(ctx)
	if err == nil && p.DiscardOld {
		err = discardAfter(ctx, e, out)
	}
	return out, err
}

// Resume finishes a run that was stopped. Its errors are those of
// [Do].
func Resume(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	out, err := resumeRun(ctx, e, row)
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
