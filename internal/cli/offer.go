package cli

import (
	"errors"

	"nexlin/internal/redirect"
)

// An offer is a run that is planned, shown, asked about, carried out and told: what all
// commands have in common that change something.
type offer struct {
	plan     func(progress func(entries, bytes int64)) (*redirect.Plan, error)
	inspects bool                       // planning walks a folder, so that it shows how far it is
	look     func(*redirect.Plan) error // looks at more before it is shown; may be nil
	show     func(*redirect.Plan)
	question string
	preview  bool
	planned  func(doc, *redirect.Plan) // adds to the document of a plan; may be nil
	done     func(*redirect.Outcome)
	told     func(doc, *redirect.Outcome) // adds to the document of what was done; may be nil
}

// offer makes an offer and does what the answer says. The document is that of the plan,
// if it comes to nothing more; nil if the plan is refused.
func (a *app) offer(e *redirect.Engine, o offer) (doc, error) {
	p := a.progress()
	if o.inspects {
		p.Phase("inspect", 0, 0)
	}
	plan, err := o.plan(p.inspected)
	p.end()
	if err != nil {
		return nil, err
	}
	if o.look != nil {
		if err := o.look(plan); err != nil {
			return nil, err
		}
	}
	if !a.json {
		o.show(plan)
	}
	if stop, err := a.goOn(plan.Blocked(), o.preview, o.question); err != nil {
		return nil, err
	} else if stop {
		d := planDoc(plan)
		if o.planned != nil {
			o.planned(d, plan)
		}
		return d, nil
	}
	return a.carryOut(e, plan, o.done, o.told)
}

// carryOut runs a plan with progress and shows what it came to; told, which may be nil,
// adds to the document of that.
func (a *app) carryOut(e *redirect.Engine, plan *redirect.Plan, show func(*redirect.Outcome),
	told func(doc, *redirect.Outcome)) (doc, error) {
	d, out, err := a.carried(e, show, func() (*redirect.Outcome, error) { return redirect.Do(a.ctx, e, plan) })
	if err == nil && told != nil {
		told(d, out)
	}
	return d, err
}

// carried does a run with progress and shows what it came to.
func (a *app) carried(e *redirect.Engine, show func(*redirect.Outcome),
	run func() (*redirect.Outcome, error)) (doc, *redirect.Outcome, error) {
	p := a.progress()
	e.Progress = p
	out, err := run()
	p.end()
	if kept := (*redirect.KeptError)(nil); errors.As(err, &kept) && !a.json {
		show(out)
	}
	if err != nil {
		if out != nil {
			return a.outcomeDoc(e, out), out, err
		}
		return nil, nil, err
	}
	if !a.json {
		show(out)
	}
	return a.outcomeDoc(e, out), out, nil
}
