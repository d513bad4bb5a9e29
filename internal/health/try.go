package health

import (
	"context"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
)

// A Trial is the proof through both paths, told step by step.
type Trial struct {
	Redirect ledger.Redirect
	Report   *Report
	ByBytes  bool  // the link is a junction that this system can't follow: only what it says was compared
	Err      error // a *redirect.TrialError; nil if the proof holds
}

// Try does the proof again: a file saved through the link shows up at the
// target, and the other way round. If the drive or the link is not as it
// must be, Report says so and nothing is tried.
func Try(ctx context.Context, e *engine.Engine, r ledger.Redirect) (*Trial, error) {
	t := &Trial{Redirect: r}
	var err error
	if t.Report, err = Look(e, r); err != nil {
		return nil, err
	}
	if t.Report.State != Good {
		return t, ctx.Err()
	}
	target, err := handle.OpenReal(r.Target)
	if err != nil {
		t.Err = &execute.TrialError{Path: r.Target, What: "the target can't be opened", Err: err}
		return t, nil
	}
	defer target.Release()
	t.ByBytes, t.Err = execute.Try(r, target)
	return t, nil
}
