package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/jobs"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/restart"
	"nexlin/internal/screen"
)

// named runs f for every NAME, which may also be the path of a link.
func (a *app) named(args []string, write bool, key string,
	f func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error)) error {
	e, cwd, done, err := a.engineHere(write)
	if err != nil {
		return err
	}
	defer done()
	return a.several(args, key, func(arg string) (screen.Doc, error) {
		r, err := e.Lookup(arg, cwd)
		if err != nil {
			return nil, err
		}
		return f(e, r)
	})
}

// chooseRedirect lets a person choose one; without a terminal, none is named.
func (a *app) chooseRedirect(title string) ([]string, error) {
	if a.AsJSON || !a.terminal() {
		return nil, screen.Usage("something is missing: which one", "nexlin "+a.command+" NAME…",
			"nexlin list shows the names")
	}
	e, done, err := a.engine(false)
	if err != nil {
		return nil, err
	}
	defer done()
	all, err := e.Ledger.Redirects(false)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, screen.Usage("nothing is redirected", "nexlin survey shows what could be moved")
	}
	var options []string
	for _, r := range all {
		options = append(options, a.Path(r.Link)+screen.LedArrow(r.Methods)+a.OnDrive(r))
	}
	at, err := a.person().Choose(title, "", options)
	return []string{all[at].Name}, err
}

// recoverCommands are bring-back, detach, resume and undo.
type recoverCommands struct{ *app }

func (a *recoverCommands) bringBackCmd() *cobra.Command {
	var preview bool
	var accept []string
	var o planning.BackOptions
	c := &cobra.Command{
		Use:   "bring-back NAME…",
		Short: "bring the data back: a real folder stands where the link was",
		Long: "Copies the target, as it is now, back to where the link stands, verified like a move, and puts\n" +
			"the real folder in the link's place in one act. The target is held on its drive until it is discarded.\n" +
			"Files that are the same in the original held at the old place are copied from there.",
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			args, err := byFile(a.app, args)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if args, err = a.chooseRedirect("Which one comes back?"); err != nil {
					return err
				}
			}
			if o.Accept, err = codes(accept); err != nil {
				return err
			}
			if o.WaitQuiet < 0 {
				return screen.Usage("--wait-quiet takes a time such as 30s or 10m")
			}
			if len(args) == 1 && strings.HasPrefix(args[0], engine.CardPrefix) {
				return a.backCard(strings.TrimPrefix(args[0], engine.CardPrefix), preview, o)
			}
			if len(args) == 1 {
				if done, err := a.backByCard(args[0], preview, o); done || err != nil {
					return err
				}
			}
			return a.named(args, !preview, "runs", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
				if plan.Owned(r) && r.State != ledger.Ended {
					return a.backStore(e, r, preview, o)
				}
				return a.offer(e, offer{
					plan: func(progress func(entries, bytes int64)) (*plan.Plan, error) {
						o := o
						o.Progress = progress
						return redirect.PlanBringBack(a.ctx, e, r, o)
					},
					inspects: true, show: a.ShowPlan, question: "bring it back?", preview: preview,
					done: a.ShowBroughtBack,
				})
			})
		}),
	}
	c.Flags().BoolVar(&o.WhileInUse, "while-in-use", false, "go on although programs write to the folder")
	c.Flags().DurationVar(&o.WaitQuiet, "wait-quiet", 0,
		"wait up to this long (`DURATION`, as in 10m) until no program writes to the folder")
	c.Flags().BoolVar(&o.UseHeld, "use-held", false,
		"where the old place lacks room: take files that are equal out of the held original instead of copying them")
	c.Flags().StringArrayVar(&accept, "accept", nil, "go on past the finding with this `CODE`")
	cardFlag(a.app, c)
	a.previewFlag(c, &preview)
	return c
}

func (a *recoverCommands) detachCmd() *cobra.Command {
	var preview bool
	c := &cobra.Command{
		Use:   "detach NAME…",
		Short: "take the link away, leave the data on the drive",
		Args:  cobra.MinimumNArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.named(args, !preview, "runs", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
				planned, err := redirect.PlanDetach(e, r)
				if err != nil {
					return nil, err
				}
				if !a.AsJSON {
					what := "the link goes"
					if plan.Linkless(r.Methods) {
						what = "the setting says again what it said before"
					}
					a.Print("%s   %s, the data stays at %s", screen.Bold.Render(a.Path(r.Link)), what, a.Path(r.Target))
					a.Findings(a.Out, planned.Findings)
				}
				if preview {
					a.SayPreview()
					return screen.Doc{"preview": true, "plan": screen.Doc{"kind": plan.KindDetach, "name": r.Name,
						"link": r.Link}, "findings": screen.FindingDocs(planned.Findings)}, nil
				}
				if err := a.confirm("take the link away?", true, "--yes"); err != nil {
					return nil, err
				}
				out, err := jobs.Do(a.ctx, e, planned.ToRun())
				if err != nil {
					return nil, err
				}
				if !a.AsJSON {
					a.Print("%s  %s is no link any more; nothing stands there now", screen.Good.Render("done"),
						a.Path(r.Link))
					a.Print("  the data is at          %s", a.Path(r.Target))
					a.Print("  puts the link back:     nexlin undo %s", out.Run)
					a.Print("  brings the data back:   nexlin bring-back %s", pathtext.Quote(r.Name))
				}
				return a.OutcomeDoc(e, out), nil
			})
		}),
	}
	a.previewFlag(c, &preview)
	return c
}

func runArg(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

func (a *recoverCommands) resumeCmd() *cobra.Command {
	return a.recoverCmd("resume", "finish a run that was stopped", true)
}

func (a *recoverCommands) undoCmd() *cobra.Command {
	c := a.recoverCmd("undo", "take back a run that was stopped, or the last one of a redirect", false)
	c.Long = "Takes a run back: one that was stopped, or the last one that was done to a redirect. The folder\n" +
		"stands at its old place again. A copy that had its final name already is not deleted: it is set aside\n" +
		"on its drive until discard-original. If somebody has worked in the copy, undo refuses, and\n" +
		"bring-back is the way."
	return c
}

func (a *recoverCommands) recoverCmd(use, short string, forward bool) *cobra.Command {
	var preview, later bool
	c := &cobra.Command{
		Use:   use + " [RUN]",
		Short: short,
		Args:  cobra.MaximumNArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.endRun(runArg(args), forward, preview, later)
		}),
	}
	if forward && restart.Continues {
		c.Flags().BoolVar(&later, "after-restart", false,
			"not now: have the run go on by itself once when the machine was restarted")
	}
	a.previewFlag(c, &preview)
	return c
}

// endRun finishes a run, or takes it back; later: not now, but after the machine was
// restarted. run is its id, the name of its redirect, or empty for the one that was stopped.
func (a *recoverCommands) endRun(run string, forward, preview, later bool) error {
	e, done, err := a.engine(!preview)
	if err != nil {
		return err
	}
	defer done()
	row, err := execute.Stopped(e, run)
	none := (*plan.NothingStoppedError)(nil)
	if errors.As(err, &none) && none.Last.ID != "" && !forward && !a.yes && !a.AsJSON && a.terminal() {
		row, err = none.Last, nil // it is asked about before anything is done
		a.Note("no run is stopped; the last one was %s of %s", row.Kind, strings.TrimPrefix(row.Redirect, "-"))
	}
	if err != nil {
		return err
	}
	err = execute.Undoable(e.Ledger, row)
	if forward {
		err = execute.Resumable(row)
	}
	if err != nil {
		return err
	}
	rec, err := execute.Recoverable(e, row)
	if err != nil {
		return err
	}
	switch {
	case a.AsJSON:
	case rec.Plan.Group != nil:
		a.ShowTogetherRecovery(e, rec)
	default:
		a.ShowRecovery(rec, forward)
	}
	if preview {
		a.SayPreview()
		if a.AsJSON {
			return a.emit(screen.Doc{"preview": true, "plan": screen.Doc{"kind": row.Kind, "name": row.Redirect,
				"run": row.ID, "switched": rec.Switched}, "findings": []screen.Doc{}})
		}
		return nil
	}
	if later {
		return a.afterRestart(e, row)
	}
	question := map[bool]string{true: "finish it?", false: "take it back?"}[forward]
	if err := a.confirm(question, true, "--yes"); err != nil {
		return err
	}
	return a.recoverRun(e, row, forward)
}

// afterRestart has a run go on by itself after the next start of the machine.
func (a *recoverCommands) afterRestart(e *engine.Engine, row ledger.RunRow) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	c := restart.Continuation{Run: row.ID, Program: exe, StateDir: e.Ledger.Dir(), Home: a.Home,
		System: os.Geteuid() == 0}
	file, err := c.Install()
	if err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"run": screen.RunDoc{ID: row.ID, Kind: row.Kind, State: row.State,
			Phases: []screen.PhaseDoc{}}, "unit": file, "findings": []screen.Doc{}})
	}
	a.Print("%s  run %s goes on when the machine was restarted", screen.Good.Render("done"), row.ID)
	a.Print("  the unit      %s; it takes itself away", a.Path(file))
	return nil
}

func (a *recoverCommands) recoverRun(e *engine.Engine, row ledger.RunRow, forward bool) error {
	p := a.progress()
	e.Progress = p
	act := jobs.Undo
	if forward {
		act = jobs.Resume
	}
	out, err := act(a.ctx, e, row)
	p.End()
	if err != nil {
		if a.AsJSON && out != nil {
			return a.failWith(a.OutcomeDoc(e, out), err)
		}
		return err
	}
	if a.AsJSON {
		return a.emit(a.OutcomeDoc(e, out))
	}
	if out.Plan.Group != nil {
		a.ShowTogetherDone(out)
		return nil
	}
	if !forward {
		a.ShowUndone(out)
		return nil
	}
	if show := map[string]func(*plan.Outcome){
		plan.KindHandover: a.ShowHandedOver,
		plan.KindMove:     a.ShowMoved, plan.KindMoveOn: a.ShowMoved,
		plan.KindBringBack: a.ShowBroughtBack,
		plan.KindMend:      a.ShowMended, plan.KindMerge: a.ShowMended,
		plan.KindRecord: a.ShowRecorded,
		plan.KindPack:   a.ShowArchived, plan.KindUnpack: a.ShowArchived,
	}[row.Kind]; show != nil {
		show(out)
		return nil
	}
	a.Print("%s  run %s is finished", screen.Good.Render("done"), row.ID)
	return nil
}
