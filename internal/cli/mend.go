package cli

import (
	"sync"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/guide"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/merge"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
)

// askHalves has a person asked about each entry that both halves have.
const askHalves = "ask"

type mendFlags struct {
	preview bool
	halves  string
	accept  []string
	o       mend.Options
}

// mendCommand is `nexlin mend`.
type mendCommand struct{ *app }

func (a *mendCommand) mendCmd() *cobra.Command {
	var f mendFlags
	c := &cobra.Command{
		Use:   "mend [NAME…]",
		Short: "put right what check found: links, the drive's new place, a folder split in two halves",
		Long: "Makes a link that is missing, puts back one that went astray, follows a drive to its new place,\n" +
			"writes a missing drive tag or target note anew. Where a program has made a real folder in the\n" +
			"link's place, the two halves are merged: what is new goes over to the target, verified; what is\n" +
			"equal stays as it is; of what both have, the younger takes the name and the other is kept beside\n" +
			"it. The real folder is held until it is discarded. Without NAME, all redirects are looked at: on a\n" +
			"terminal, one cause after the other, with what can be done about each.\n" +
			"What was detached stays so, unless --attach asks for its link.",
		Example: "  nexlin mend notes --preview\n  nexlin mend notes --halves ask",
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			var err error
			if f.o.Accept, err = codes(f.accept); err != nil {
				return err
			}
			switch f.halves {
			case string(plan.KeepBoth), string(plan.Newer):
				f.o.Halves = plan.Halves(f.halves)
			case askHalves:
				if !a.terminal() || a.AsJSON {
					return screen.Usage("--halves ask needs a terminal to ask on; keep-both and newer do not")
				}
				f.o.Halves = plan.KeepBoth
			default:
				return screen.Usage("--halves takes keep-both, newer or ask")
			}
			if f.o.Seen != "" && len(args) != 1 {
				return screen.Usage("--as-seen goes with one NAME")
			}
			if f.o.Attach && len(args) == 0 {
				return screen.Usage("--attach goes with the NAME of what is detached")
			}
			if f.o.WaitQuiet < 0 {
				return screen.Usage("--wait-quiet takes a time such as 30s or 10m")
			}
			if len(args) == 0 && !f.preview && !a.yes && !a.AsJSON && a.terminal() {
				return a.mendGuided(f)
			}
			if len(args) == 0 {
				if args, err = a.allNames(); err != nil {
					return err
				}
				if len(args) == 0 {
					return a.nothingToMend()
				}
			}
			return a.named(args, !f.preview, "runs",
				func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) { return a.mendOne(e, r, f) })
		}),
	}
	fl := c.Flags()
	fl.StringVar(&f.halves, "halves", string(plan.KeepBoth),
		"what both halves have, with other content: keep-both, newer (the older is held or set aside) or ask (`HOW`)")
	fl.StringVar(&f.o.Seen, "as-seen", "", "of a junction on a Windows drive mounted here: the target, or its "+
		"drive's root, as the running Windows sees it now (`PATH`)")
	fl.BoolVar(&f.o.Attach, "attach", false, "make the link of a detached redirect again")
	fl.BoolVar(&f.o.WhileInUse, "while-in-use", false, "go on although programs write to the folder")
	fl.DurationVar(&f.o.WaitQuiet, "wait-quiet", 0,
		"wait up to this long (`DURATION`, as in 10m) until no program writes to the folder")
	fl.StringArrayVar(&f.accept, "accept", nil, "go on past the finding with this `CODE`")
	a.previewFlag(c, &f.preview)
	return c
}

// mendGuided leads through all that check finds, one cause after the other.
func (a *mendCommand) mendGuided(f mendFlags) error {
	m := guide.Mending{Screen: a.Screen, Look: a.lookAtAll,
		Choose: func(title string, things []string) (int, error) { return a.person().Choose(title, "", things) },
		Mend: func(name string, asked bool) error {
			yes := a.yes
			defer func() { a.yes = yes }()
			a.yes = asked
			return a.named([]string{name}, true, "runs",
				func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) { return a.mendOne(e, r, f) })
		},
		End: func(run string, forward bool) error {
			err := (&recoverCommands{a.app}).endRun(run, forward, false, false)
			a.did = a.did || err == nil
			return err
		},
		Refuse: func(err error) { a.Tell(a.explain(err)) },
	}
	a.toldStopped = true // as a cause, with what can be done
	reports, err := m.Lead()
	a.exit = screen.Gravest(reports) // what is left counts, not what was refused on the way
	return err
}

// lookAtAll checks every redirect, and every stopped run that belongs to none.
func (a *mendCommand) lookAtAll() ([]*health.Report, error) {
	e, done, err := a.engine(false)
	if err != nil {
		return nil, err
	}
	defer done()
	e = e.AtOnce()
	reports, stopped, err := health.CheckAll(a.ctx, e, false,
		func(r ledger.Redirect) (*health.Report, error) { return health.Check(a.ctx, e, r) })
	return append(reports, stopped...), err
}

// allNames lists the redirects there are, and those brought back of which
// something is held.
func (a *mendCommand) allNames() ([]string, error) {
	e, done, err := a.engine(false)
	if err != nil {
		return nil, err
	}
	defer done()
	rows, err := e.Ledger.Redirects(true)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range rows {
		held, err := e.Ledger.HeldOf(r.Name)
		if err != nil {
			return nil, err
		}
		if r.State != ledger.Ended || len(held) > 0 {
			names = append(names, r.Name)
		}
	}
	return names, nil
}

func (a *mendCommand) nothingToMend() error {
	if a.AsJSON {
		return a.emit(screen.Doc{"runs": []screen.Doc{}})
	}
	a.Print("nothing is redirected, so there is nothing to mend")
	return nil
}

func (a *mendCommand) mendOne(e *engine.Engine, r ledger.Redirect, f mendFlags) (screen.Doc, error) {
	o := f.o
	p := a.progress()
	begin := sync.OnceFunc(func() { p.Phase("inspect", 0, 0) }) // only a merge has much to look at
	o.Progress = func(entries, bytes int64) { begin(); p.Inspected(entries, bytes) }
	planned, err := mend.MakePlan(a.ctx, e, r, o)
	p.End()
	if err != nil {
		return nil, err
	}
	if planned == nil {
		if !a.AsJSON {
			a.Print("%s  %s needs no mending", screen.Good.Render("good"), screen.Bold.Render(r.Name))
			if r.State == ledger.Detached {
				a.Print("  it is detached; makes its link again:   nexlin mend %s --attach", pathtext.Quote(r.Name))
			}
		}
		rep, err := health.Look(e, r)
		if err != nil {
			return nil, err
		}
		return screen.Doc{"redirect": screen.ReportDoc(rep, false), "findings": []screen.Doc{}, "mended": false}, nil
	}
	if err := planned.Blocked(); err != nil {
		return nil, err
	}
	silent := a.silent(f.preview)
	if !silent {
		a.ShowMending(planned)
	}
	var entries []screen.Doc
	if planned.Merges() && (!silent || a.AsJSON || f.halves == askHalves) {
		if entries, err = a.previewMerge(planned, f.preview || a.yes, f.halves == askHalves); err != nil {
			return nil, err
		}
	}
	if f.preview {
		a.SayPreview()
		d := screen.PlanDoc(planned)
		d["plan"].(screen.Doc)["link_text_before"], d["plan"].(screen.Doc)["entries"] = planned.OldText, entries
		return d, nil
	}
	if err := a.confirm("mend it?", true, "--yes"); err != nil {
		return nil, err
	}
	return a.carryOut(e, planned, a.ShowMended, func(d screen.Doc, _ *plan.Outcome) { d["mended"] = true })
}

// previewMerge names the files of the half, all or a few, and what becomes of them, and asks
// about those that both halves have, if that is wanted.
func (a *mendCommand) previewMerge(p *plan.Plan, all, ask bool) ([]screen.Doc, error) {
	out, conflicts, err := a.ShowMerge(all,
		func(visit func(merge.Entry) error) error { return merge.Preview(a.ctx, p, visit) })
	if err != nil || !ask {
		return out, err
	}
	for _, m := range conflicts {
		at, err := a.person().Choose(pathtext.Show(m.Path),
			"the real folder and the target both have it, with other content", []string{
				"keep both; the younger takes the name",
				"the one of the real folder takes the name, the target's is set aside",
				"the target's keeps the name, the one of the real folder stays held"})
		if err != nil {
			return nil, err
		}
		p.Choices = append(p.Choices, plan.Choice{Path: m.Path,
			Keep: []plan.Keep{plan.KeepBothOf, plan.KeepHalf, plan.KeepTarget}[at]})
	}
	return out, nil
}
