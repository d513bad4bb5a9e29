package cli

import (
	"nexlin/internal/engine"
	"nexlin/internal/group"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
)

// severalRun is how a run of several folders is shown and carried out.
type severalRun struct{ *app }

// togetherRun plans a run of several, shows it, asks, and carries it out.
func (a *severalRun) togetherRun(e *engine.Engine, preview bool, question string,
	make func(progress func(entries, bytes int64)) (*plan.Group, error)) error {
	p := a.progress()
	p.Phase("inspect", 0, 0)
	t, err := make(p.Inspected)
	p.End()
	if err != nil {
		return err
	}
	if !a.AsJSON {
		(&severalRun{a.app}).ShowTogether(t)
	}
	if stop, err := a.goOn(t.Blocked(), preview, question); err != nil || stop {
		return a.emitIf(err, screen.TogetherPlanDoc(t))
	}
	return (&severalRun{a.app}).togetherCarried(e,
		func() (*plan.GroupOutcome, error) { return group.Do(a.ctx, e, t) })
}

func (a *severalRun) togetherCarried(e *engine.Engine, run func() (*plan.GroupOutcome, error)) error {
	p := a.progress()
	e.Progress = p
	out, err := run()
	p.End()
	if err != nil {
		if out != nil && a.AsJSON {
			return a.failWith(a.TogetherDoc(e, out), err)
		}
		return err
	}
	if a.AsJSON {
		return a.emit(a.TogetherDoc(e, out))
	}
	a.ShowTogetherDone(out)
	return nil
}

func (a *severalRun) recoverTogether(e *engine.Engine, row ledger.RunRow, forward bool) error {
	return (&severalRun{a.app}).togetherCarried(e, func() (*plan.GroupOutcome, error) {
		if forward {
			return group.Resume(a.ctx, e, row)
		}
		return group.Undo(a.ctx, e, row)
	})
}
