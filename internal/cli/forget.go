package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/forget"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// forgetCommand is `nexlin forget`.
type forgetCommand struct{ *app }

func (a *forgetCommand) forgetCmd() *cobra.Command {
	var preview bool
	c := &cobra.Command{
		Use:   "forget NAME…",
		Short: "take a redirect out of Nexlin's records; nothing else is touched",
		Long: "Takes a redirect and its runs out of the records, after saying what lies where. No link, folder,\n" +
			"copy or drive is touched. It is for what can't be ended otherwise: a drive that is lost, a redirect\n" +
			"that another machine has brought back. Its runs can't be undone any more, and what was held of it\n" +
			"is an ordinary folder from then on.",
		Args: cobra.MinimumNArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, cwd, done, err := a.engineHere(!preview)
			if err != nil {
				return err
			}
			defer done()
			return a.several(args, "redirects", func(arg string) (doc, error) { return a.forget(e, arg, cwd, preview) })
		}),
	}
	a.previewFlag(c, &preview)
	return c
}

func (a *forgetCommand) forget(e *engine.Engine, arg, cwd string, preview bool) (doc, error) {
	f, err := forget.MakePlan(e, arg, cwd)
	if err != nil {
		return nil, err
	}
	var rep *health.Report
	if f.Redirect != nil {
		if rep, err = health.Look(e, *f.Redirect); err != nil {
			return nil, err
		}
	}
	if !a.json {
		a.showForgetting(f)
	}
	var blocked error
	if len(f.Findings) > 0 {
		blocked = &plan.RefusedError{Findings: f.Findings}
	}
	if stop, err := a.goOn(blocked, preview, "forget it?"); stop || err != nil {
		return docIf(err, forgettingDoc(f, rep, preview)), err
	}
	if err := forget.Forget(e, f); err != nil {
		return nil, err
	}
	if !a.json {
		a.print("")
		a.print("%s  Nexlin knows nothing of %s any more; all of it is where it was", good.Render("done"),
			bold.Render(pathtext.Show(f.Name)))
		if r := f.Redirect; r != nil && f.At == forget.AtLink && f.Here {
			a.print("  takes it in again:   nexlin record %s", pathtext.Quote(r.Link))
		}
	}
	return forgettingDoc(f, rep, false), nil
}

func (a *screen) showForgetting(f *forget.Forgetting) {
	a.print("%s   goes out of Nexlin's records; nothing else is touched", bold.Render(pathtext.Show(f.Name)))
	var rows [][]string
	r := f.Redirect
	if f.Link != "" {
		rows = append(rows, []string{"link path", a.path(f.Link), map[string]string{
			forget.AtLink: "the link stays", forget.AtFolder: "a real folder, which stays",
			forget.AtNone: "nothing stands there", forget.AtOther: "something else than its link, which stays",
		}[f.At]})
	}
	if r != nil && r.State != ledger.Ended {
		stays := "stays there"
		if !f.Here {
			stays = pathtext.Show(r.Drive.Label) + " is not here; what is on it stays"
		}
		rows = append(rows, []string{"data", a.path(r.Target), stays})
	}
	for _, h := range f.Held {
		rows = append(rows, []string{"held", a.path(h.Path), "stays; it is yours to look at and to delete"})
	}
	for _, p := range f.Parts {
		rows = append(rows, []string{"unfinished copy", a.path(p), "stays; it is yours to delete"})
	}
	if n := len(f.Runs); n > 0 {
		rows = append(rows, []string{"runs", plural(int64(n), "run", "runs"), "can't be undone any more"})
	}
	a.columns(a.out, nil, rows)
	a.findings(a.out, f.Findings)
}

func forgettingDoc(f *forget.Forgetting, rep *health.Report, preview bool) doc {
	d := doc{"name": f.Name, "link": f.Link, "at_link": f.At, "parts": append([]string{}, f.Parts...),
		"findings": findingDocs(f.Findings)}
	if preview {
		d["preview"] = true
	}
	if rep != nil {
		d["redirect"] = reportDoc(rep, false)
	}
	runs := []runDoc{}
	for _, r := range f.Runs {
		runs = append(runs, runDoc{r.ID, r.Kind, r.State, []phaseDoc{}})
	}
	d["runs"] = runs
	return d
}
