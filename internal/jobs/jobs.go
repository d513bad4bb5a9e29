// Package jobs has the ways in to every kind of run: do, resume and undo. It knows which
// job does which kind, and nothing of how.
package jobs

import (
	"context"
	"errors"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/discard"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handover"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/merge"
	"nexlin/internal/pack"
	"nexlin/internal/plan"
	"nexlin/internal/record"
	"nexlin/internal/redirect"
	"nexlin/internal/restore"
)

// Who carries out which kind of run.
func init() {
	for kind, make := range map[string]func(*execute.Execution) execute.Job{
		plan.KindMove:      redirect.Moving,
		plan.KindMoveOn:    redirect.MovingOn,
		plan.KindBringBack: redirect.BringingBack,
		plan.KindDetach:    redirect.Detaching,
		plan.KindFuture:    redirect.Steering,
		plan.KindMerge:     merge.Merging,
		plan.KindMend:      mend.Mending,
		plan.KindDiscard:   discard.Discarding,
		plan.KindRecord:    record.Recording,
		plan.KindRenew:     record.Renewing,
		plan.KindRestore:   restore.Restoring,
		plan.KindPack:      pack.Packing,
		plan.KindUnpack:    pack.Packing,
		plan.KindHandover:  handover.HandingOver,
	} {
		execute.Register(kind, make)
	}
}

// Do carries out a plan that nothing blocks. The error is a *[plan.RefusedError] before
// anything has changed, a *[plan.StoppedError] afterwards, a *[discard.KeptError] if all is done
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
		var d *discard.Plan
		if d, err = discard.MakePlan(ctx, e, r, discard.Options{Run: p.Run}); err == nil {
			out.Discarded, err = discard.Discard(ctx, e, d)
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
		err = &discard.KeptError{Name: p.Name, Link: p.Link, Err: err}
	}
	return err
}

// Detach takes the link away and leaves the data where it is.
func Detach(ctx context.Context, e *engine.Engine, d *redirect.DetachPlan) (*plan.Outcome, error) {
	if len(finding.Blockers(d.Findings)) > 0 {
		return nil, &plan.RefusedError{Findings: d.Findings}
	}
	now := time.Now()
	r := d.Redirect
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindDetach, Made: now, Name: r.Name, Before: &r,
			UID: r.UID, GID: account.Group(r.UID), Account: r.Account},
		Route: plan.Route{Link: r.Link, Target: r.Target, LinkText: r.LinkText(), FromDrive: r.Drive,
			Methods: r.Methods, Settings: d.Settings},
	}
	return Do(ctx, e, p)
}
