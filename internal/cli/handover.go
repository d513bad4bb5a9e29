package cli

import (
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/handover"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/screen"
)

// moveStore has an engine move one of its registered stores.
func (a *moveCommand) moveStore(e *engine.Engine, name string, f moveFlags, o planning.MoveOptions) error {
	u, err := a.cardFor(e, name)
	if err != nil {
		return err
	}
	if f.store == "" {
		stores, err := handover.Stores(a.ctx, e, u)
		if err != nil {
			return err
		}
		var names []string
		for _, s := range stores {
			if !s.Stays {
				names = append(names, pathtext.Quote(s.Name))
			}
		}
		return screen.Usage("name the store with --store; the engine has " + strings.Join(names, ", "))
	}
	o.Name = f.name
	d, err := (&storeRun{a.app}).handOver(e, f.preview, func() (*plan.Plan, error) {
		return handover.PlanHandover(a.ctx, e, u, f.store, o)
	})
	switch {
	case !a.AsJSON:
		return err
	case err != nil && d != nil:
		return a.failWith(d, err)
	case err != nil:
		return err
	}
	return a.emit(d)
}

// storeRun is how a store of an engine is handed over.
type storeRun struct{ *app }

// handOver offers a handover.
func (a *storeRun) handOver(e *engine.Engine, preview bool, planned func() (*plan.Plan, error)) (screen.Doc, error) {
	return a.offer(e, offer{
		plan: func(func(entries, bytes int64)) (*plan.Plan, error) { return planned() },
		show: a.ShowHandover, question: "have the engine move it?", preview: preview, done: a.ShowHandedOver,
		planned: func(d screen.Doc, p *plan.Plan) { d["stores"] = screen.StoreDocs(p) },
	})
}

// backStore has the engine bring a store back.
func (a *recoverCommands) backStore(e *engine.Engine, r ledger.Redirect, preview bool,
	o planning.BackOptions) (screen.Doc, error) {
	return (&storeRun{a.app}).handOver(e, preview,
		func() (*plan.Plan, error) { return handover.PlanHandoverBack(a.ctx, e, r, o) })
}
