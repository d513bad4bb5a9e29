package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/redirect"
)

func (a *app) checkCmd() *cobra.Command {
	var deep bool
	c := &cobra.Command{
		Use:   "check [NAME…]",
		Short: "every link, target and drive, with a trial through both paths",
		Long: "Looks at every link, target and drive, does the trial through both paths, and looks for late writes\n" +
			"in what is held. With --deep it also reads every file at the targets from the drive and holds it\n" +
			"against the manifest: what people changed is told apart from what went bad by itself.",
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return a.named(args, false, "checks", func(e *redirect.Engine, r ledger.Redirect) (doc, error) {
					return a.checkOne(e, r, deep)
				})
			}
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			return a.checkAll(e, deep)
		}),
	}
	c.Flags().BoolVar(&deep, "deep", false, "read every byte and hold it against the manifest")
	return c
}

// checked looks at one redirect; deep reads all of it.
func (a *app) checked(e *redirect.Engine, r ledger.Redirect, deep bool) (*health.Report, error) {
	if !deep {
		return health.Check(a.ctx, e, r)
	}
	p := a.progress()
	e.Progress = p
	defer p.end()
	return health.CheckDeep(a.ctx, e, r)
}

func (a *app) checkOne(e *redirect.Engine, r ledger.Redirect, deep bool) (doc, error) {
	rep, err := a.checked(e, r, deep)
	if err != nil {
		return nil, err
	}
	a.grave(checkExit(rep))
	if !a.json {
		a.showCheck(rep)
	}
	return doc{"redirects": []redirectDoc{reportDoc(rep, true)}, "findings": findingDocs(rep.Findings)}, nil
}

// checkExit is 4 for anything wrong, 7 if it is only that the drive is away.
func checkExit(r *health.Report) int {
	code := exitDone
	for _, f := range r.Findings {
		away := f.Code == finding.DriveAway || f.Code == finding.DriveSwapped
		switch {
		case f.Severity == finding.Info:
		case !away:
			return exitProblems
		default:
			code = exitAway
		}
	}
	return code
}

func (a *app) showCheck(r *health.Report) {
	line := a.path(r.Redirect.Link) + " ──link──▶ " + a.onDrive(r.Redirect)
	if r.Redirect.State == ledger.Ended {
		line = a.path(r.Redirect.Link) + " is a real folder again"
	}
	a.print("%s  %s  %s", stateWord(r.State), bold.Render(pathtext.Show(r.Redirect.Name)), line)
	if r.Deep != nil {
		a.print("  read  %s, %s, and held against the manifest", plural(r.Deep.Files, "file", "files"), size(r.Deep.Bytes))
	}
	a.findings(a.out, a.untold(r.Findings))
}

// untold leaves out what was said of the same drive before: with many
// redirects on one drive it would drown the rest.
func (a *app) untold(fs []finding.Finding) (out []finding.Finding) {
	for _, f := range fs {
		if f.Code == finding.NotAtStart {
			if a.told[f.Path] {
				continue
			}
			if a.told == nil {
				a.told = map[string]bool{}
			}
			a.told[f.Path] = true
		}
		out = append(out, f)
	}
	return out
}

func (a *app) checkAll(e *redirect.Engine, deep bool) error {
	rows, err := e.Ledger.Redirects(true)
	if err != nil {
		return err
	}
	e = e.AtOnce()
	docs, all := []redirectDoc{}, []finding.Finding{}
	worst := exitDone
	for _, r := range rows {
		rep, err := a.checked(e, r, deep)
		if err != nil {
			return err
		}
		if r.State == ledger.Ended && len(rep.Held) == 0 {
			continue
		}
		// One drive that is away is the single cause of all that lies on it.
		switch c := checkExit(rep); {
		case c == exitProblems, c == exitAway && worst == exitDone:
			worst = c
		}
		docs, all = append(docs, reportDoc(rep, true)), append(all, rep.Findings...)
		if !a.json {
			a.showCheck(rep)
		}
	}
	a.grave(worst)
	if a.json {
		return a.emit(doc{"redirects": docs, "findings": findingDocs(all)})
	}
	if len(docs) == 0 {
		a.print("nothing is redirected, so there is nothing to check")
	}
	return nil
}

func (a *app) tryCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "try NAME",
		Short: "the proof again: a file saved through one path shows up through the other",
		Args:  cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.named(args, false, "trials", func(e *redirect.Engine, r ledger.Redirect) (doc, error) {
				t, err := health.Try(a.ctx, e, r)
				if err != nil {
					return nil, err
				}
				ok := t.Err == nil && t.Report.State == health.Good
				if !ok {
					a.grave(max(checkExit(t.Report), exitProblems))
				}
				d := doc{"redirect": reportDoc(t.Report, true), "passed": ok}
				if t.Err != nil {
					d["message"] = t.Err.Error()
				}
				if !a.json {
					a.showTrial(t)
				}
				return d, nil
			})
		}),
	}
}

func (a *app) showTrial(t *health.Trial) {
	r := t.Redirect
	a.print("%s", arrow(a.path(r.Link), a.onDrive(r)))
	switch {
	case t.Report.State != health.Good:
		a.print("%s  nothing was tried", stateWord(t.Report.State))
		a.findings(a.out, t.Report.Findings)
	case t.Err != nil:
		var trial *redirect.TrialError
		if errors.As(t.Err, &trial) {
			a.print("%s  %s", bad.Render("failed"), pathtext.Show(trial.Error()))
		}
	default:
		a.print("  saved through %s, seen at %s   %s", a.path(r.Link), a.path(r.Target), good.Render("yes"))
		a.print("  saved at %s, seen through %s   %s", a.path(r.Target), a.path(r.Link), good.Render("yes"))
		a.print("  the test files are gone again")
	}
}
