package cli

import (
	"nexlin/internal/engine"
	"nexlin/internal/plan"
)

// offerTogether offers a run of several folders.
func (a *app) offerTogether(e *engine.Engine, preview bool, question string,
	make func(progress func(entries, bytes int64)) (*plan.Plan, error)) error {
	d, err := a.offer(e, offer{plan: make, inspects: true, show: a.ShowTogether, question: question, preview: preview,
		done: a.ShowTogetherDone})
	if err != nil && d != nil && a.AsJSON {
		return a.failWith(d, err)
	}
	return a.emitIf(err, d)
}
