package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/discard"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/jobs"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
)

// discardCommand is `nexlin discard-original`.
type discardCommand struct{ *app }

func (a *discardCommand) discardCmd() *cobra.Command {
	var preview, onlyEqual bool
	var accept []string
	c := &cobra.Command{
		Use:   "discard-original NAME…",
		Short: "delete the held original, after proving the copy once more",
		Long: "Reads every file of the folder in use and holds it against the record frozen at the switch. What is\n" +
			"proven to be there may be deleted from the held original. What you changed or deleted since is\n" +
			"listed and asked about by itself; --yes does not answer that, --accept CODE does.",
		Args: cobra.MinimumNArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			ok, err := codes(accept)
			if err != nil {
				return err
			}
			return a.named(args, !preview, "runs", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
				return a.discardOne(e, r, ok, onlyEqual, preview)
			})
		}),
	}
	c.Flags().BoolVar(&onlyEqual, "only-equal", false, "delete only what is proven equal, keep the rest held")
	c.Flags().StringArrayVar(&accept, "accept", nil,
		"go on past the finding with this `CODE`: changed-since, gone-at-target, never-copied, metadata-differs")
	a.previewFlag(c, &preview)
	return c
}

func (a *discardCommand) discardOne(e *engine.Engine, r ledger.Redirect, accept []finding.Code, onlyEqual,
	preview bool) (screen.Doc, error) {
	o := discard.Options{Accept: accept, OnlyEqual: onlyEqual}
	planned, err := a.compare(e, r, o)
	if err != nil {
		return nil, err
	}
	if !a.AsJSON {
		a.ShowDiscard(planned)
	}
	if consents := planned.Consents(); len(consents) > 0 && !preview && !a.AsJSON && a.terminal() {
		// What was changed or deleted since is asked about by itself.
		if err := a.confirm("delete the last copies of these too?", false, screen.AcceptFlags(consents)); err != nil {
			return nil, err
		}
		o.Accept = append(o.Accept, consents...)
		if planned, err = a.compare(e, r, o); err != nil {
			return nil, err
		}
	}
	if blockers := finding.Blockers(planned.Findings); len(blockers) > 0 {
		return nil, &plan.RefusedError{Findings: planned.Findings}
	}
	if preview {
		a.SayPreview()
		return screen.Doc{"preview": true,
			"plan":     screen.Doc{"kind": plan.KindDiscard, "name": r.Name, "frees": planned.Frees()},
			"findings": screen.FindingDocs(planned.Findings)}, nil
	}
	if err := a.confirm("delete what is held?", true, "--yes"); err != nil {
		return nil, err
	}
	out, err := jobs.Do(a.ctx, e, planned.ToRun())
	if err != nil {
		if out != nil && out.State != ledger.Refused {
			return a.OutcomeDoc(e, out), err
		}
		return nil, err
	}
	if !a.AsJSON {
		a.Print("")
		a.ShowDiscarded(out)
		a.Spaces(out)
	}
	return a.OutcomeDoc(e, out), nil
}

func (a *discardCommand) compare(e *engine.Engine, r ledger.Redirect,
	o discard.Options) (*discard.Plan, error) {
	p := a.progress()
	e.Progress = p
	planned, err := discard.MakePlan(a.ctx, e, r, o)
	p.End()
	return planned, err
}
