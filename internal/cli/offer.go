package cli

import (
	"errors"

	"nexlin/internal/discard"
	"nexlin/internal/engine"
	"nexlin/internal/jobs"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
)

// An offer is a run that is planned, shown, asked about, carried out and told: what all
// commands have in common that change something.
type offer struct {
	plan     func(progress func(entries, bytes int64)) (*plan.Plan, error)
	inspects bool                   // planning walks a folder, so that it shows how far it is
	look     func(*plan.Plan) error // looks at more before it is shown; may be nil
	show     func(*plan.Plan)
	question string
	preview  bool
	planned  func(screen.Doc, *plan.Plan) // adds to the document of a plan; may be nil
	done     func(*plan.Outcome)
	told     func(screen.Doc, *plan.Outcome) // adds to the document of what was done; may be nil
}

// offer makes an offer and does what the answer says. The document is that of the plan,
// if it comes to nothing more; nil if the plan is refused.
func (a *app) offer(e *engine.Engine, o offer) (screen.Doc, error) {
	p := a.progress()
	if o.inspects {
		p.Phase("inspect", 0, 0)
	}
	planned, err := o.plan(p.Inspected)
	p.End()
	if err != nil {
		return nil, err
	}
	if o.look != nil {
		if err := o.look(planned); err != nil {
			return nil, err
		}
	}
	// Of what is refused, the reasons say enough.
	if !a.silent(o.preview) && (planned.Blocked() == nil || a.Verbose) {
		o.show(planned)
	}
	if stop, err := a.goOn(planned.Blocked(), o.preview, o.question); err != nil {
		return nil, err
	} else if stop {
		d := screen.PlanDoc(planned)
		if o.planned != nil {
			o.planned(d, planned)
		}
		return d, nil
	}
	return a.carryOut(e, planned, o.done, o.told)
}

// carryOut runs a plan with progress and shows what it came to; told, which may be nil,
// adds to the document of that.
func (a *app) carryOut(e *engine.Engine, planned *plan.Plan, show func(*plan.Outcome),
	told func(screen.Doc, *plan.Outcome)) (screen.Doc, error) {
	d, out, err := a.carried(e, show, func() (*plan.Outcome, error) { return jobs.Do(a.ctx, e, planned) })
	if err == nil && told != nil {
		told(d, out)
	}
	return d, err
}

// carried does a run with progress and shows what it came to.
func (a *app) carried(e *engine.Engine, show func(*plan.Outcome),
	run func() (*plan.Outcome, error)) (screen.Doc, *plan.Outcome, error) {
	p := a.progress()
	e.Progress = p
	out, err := run()
	p.End()
	if kept := (*discard.KeptError)(nil); errors.As(err, &kept) && !a.AsJSON {
		show(out)
	}
	if err != nil {
		if out != nil {
			return a.OutcomeDoc(e, out), out, err
		}
		return nil, nil, err
	}
	if !a.AsJSON {
		show(out)
	}
	return a.OutcomeDoc(e, out), out, nil
}

// silent says that a plan is not shown: where nothing is asked, -q is for what was done.
func (a *app) silent(preview bool) bool { return a.AsJSON || a.Quiet && a.yes && !preview }
