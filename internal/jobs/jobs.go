// Package jobs has the ways in to every kind of run: do, resume and undo. It knows which
// job does which kind, and nothing of how.
package jobs

import (
	"context"
	"errors"

	"nexlin/internal/ahead"
	"nexlin/internal/discard"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/group"
	"nexlin/internal/handle"
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
		plan.KindAhead:     ahead.Making,

		plan.KindMoveTogether: group.Together,
		plan.KindBackTogether: group.Together,
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
	handle.StandAside()
	out, err := execute.New(e, p).Conduct(ctx)
	if err == nil && p.DiscardOld {
		err = discardAfter(ctx, e, out)
	}
	return out, err
}

// Resume finishes a run that was stopped. Its errors are those of
// [Do].
func Resume(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	handle.StandAside()
	out, err := execute.ResumeRun(ctx, e, row)
	if out != nil {
		out.Resumed = true
	}
	if err == nil && out.Plan.DiscardOld {
		err = discardAfter(ctx, e, out)
	}
	return out, err
}

// Undo takes a run back: one that was stopped, or the last one that was done to a redirect.
// What other people wrote meanwhile is never deleted: if the copy was worked in, it is a
// *[plan.RefusedError].
func Undo(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.Outcome, error) {
	handle.StandAside()
	return execute.Undo(ctx, e, row)
}

// discardAfter discards the original of a move that is done.
func discardAfter(ctx context.Context, e *engine.Engine, out *plan.Outcome) error {
	p := out.Plan
	r, err := e.Ledger.Redirect(p.Name)
	if err == nil {
		var d *discard.Plan
		if d, err = discard.MakePlan(ctx, e, r, discard.Options{Run: p.Run}); err == nil {
			out.Discarded, err = Do(ctx, e, d.ToRun())
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
