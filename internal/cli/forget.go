package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/forget"
	"nexlin/internal/health"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
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
			return a.several(args, "redirects",
				func(arg string) (screen.Doc, error) { return a.forget(e, arg, cwd, preview) })
		}),
	}
	a.previewFlag(c, &preview)
	return c
}

func (a *forgetCommand) forget(e *engine.Engine, arg, cwd string, preview bool) (screen.Doc, error) {
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
	if !a.AsJSON {
		a.ShowForgetting(f)
	}
	var blocked error
	if len(f.Findings) > 0 {
		blocked = &plan.RefusedError{Findings: f.Findings}
	}
	if stop, err := a.goOn(blocked, preview, "forget it?"); stop || err != nil {
		return docIf(err, screen.ForgettingDoc(f, rep, preview)), err
	}
	if err := forget.Forget(e, f); err != nil {
		return nil, err
	}
	if !a.AsJSON {
		a.Print("")
		a.Print("%s  Nexlin knows nothing of %s any more; all of it is where it was", screen.Good.Render("done"),
			screen.Bold.Render(pathtext.Show(f.Name)))
		if r := f.Redirect; r != nil && f.At == forget.AtLink && f.Here {
			a.Print("  takes it in again:   nexlin record %s", pathtext.Quote(r.Link))
		}
	}
	return screen.ForgettingDoc(f, rep, false), nil
}
