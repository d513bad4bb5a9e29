package cli

import (
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/judge"
	"nexlin/internal/ledger"
	"nexlin/internal/metrics"
	"nexlin/internal/pathtext"
	"nexlin/internal/record"
	"nexlin/internal/screen"
)

type checkFlags struct {
	deep, update bool
	problems     bool
	rate         string
	metrics      string
	o            judge.DeepOptions
}

// checkCommand is `nexlin check`.
type checkCommand struct{ *app }

func (a *checkCommand) checkCmd() *cobra.Command {
	var f checkFlags
	c := &cobra.Command{
		Use:   "check [NAME…]",
		Short: "every link, target and drive, with a trial through both paths",
		Long: "Looks at every link, target and drive, does the trial through both paths, and looks for late writes\n" +
			"in what is held. With --deep it also reads every file at the targets from the drive and holds it\n" +
			"against the manifest: what people changed is told apart from what went bad by itself. A deep check\n" +
			"that was stopped goes on where it was.",
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			if len(args) > 0 && f.metrics != "" {
				return screen.Usage("--metrics-file is about all redirects; name none")
			}
			if len(args) > 0 {
				return a.named(args, f.update, "checks", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
					return a.checkOne(e, r, &f)
				})
			}
			a.toldStopped = true // with what was found
			e, done, err := a.engine(f.update)
			if err != nil {
				return err
			}
			defer done()
			return a.checkAll(e, &f)
		}),
	}
	fl := c.Flags()
	fl.IntVar(&a.copyDays, "copy-within", 0,
		"find targets that are the only copy and were not packed in the last `DAYS`")
	fl.BoolVar(&f.deep, "deep", false, "read every byte and hold it against the manifest")
	fl.StringVar(&f.rate, "rate", "", "with --deep: read no more than this in a second (`SIZE`, as in 20MiB)")
	fl.BoolVar(&f.o.FromStart, "from-start", false, "with --deep: do not go on where an earlier check was stopped")
	fl.BoolVar(&f.update, "update-manifest", false,
		"with --deep: take what people changed into the manifest; what went bad is never taken in")
	fl.BoolVar(&f.problems, "problems", false, "print only what is wrong, and nothing if nothing is, as for cron")
	fl.StringVar(&f.metrics, "metrics-file", "",
		"write what was found to `FILE` in numbers, for a gatherer of text files")
	return c
}

// check refuses options that do not go together.
func (f *checkFlags) check() error {
	if !f.deep && (f.rate != "" || f.o.FromStart || f.update) {
		return screen.Usage("--rate, --from-start and --update-manifest go with --deep")
	}
	if f.rate != "" {
		n, err := humanize.ParseBytes(f.rate)
		if err != nil || n == 0 || n > 1<<50 {
			return screen.Usage("--rate takes a size such as 20MiB")
		}
		f.o.Rate = int64(n)
	}
	f.o.FromStart = f.o.FromStart || f.update
	return nil
}

// checked looks at one redirect; with deep it reads all of it.
func (a *checkCommand) checked(e *engine.Engine, r ledger.Redirect, f *checkFlags) (*health.Report, error) {
	if !f.deep {
		return health.Check(a.ctx, e, r)
	}
	p := a.progress()
	defer p.End()
	e.Progress = p
	rep, err := health.CheckDeep(a.ctx, e, r, f.o)
	if err != nil || !f.update || rep.Deep == nil || !rep.Deep.Whole() {
		return rep, err
	}
	_, err = record.UpdateManifest(a.ctx, e, r, rep.Deep)
	return rep, err
}

func (a *checkCommand) checkOne(e *engine.Engine, r ledger.Redirect, f *checkFlags) (screen.Doc, error) {
	rep, err := a.checked(e, r, f)
	if err != nil {
		return nil, err
	}
	a.grave(screen.CheckExit(rep))
	if a.shows(rep, f) {
		a.ShowChecked([]*health.Report{rep}, a.terse(f))
	}
	return screen.Doc{"redirects": []screen.RedirectDoc{screen.ReportDoc(rep, true)},
		"findings": screen.FindingDocs(rep.Findings)}, nil
}

// terse says that only what is wrong is printed.
func (a *checkCommand) terse(f *checkFlags) bool { return a.Quiet || f.problems }

// shows says that a report is printed.
func (a *checkCommand) shows(r *health.Report, f *checkFlags) bool {
	return !a.AsJSON && (!a.terse(f) || screen.CheckExit(r) != screen.ExitDone)
}

func (a *checkCommand) checkAll(e *engine.Engine, f *checkFlags) error {
	e = e.AtOnce()
	reports, stopped, err := health.CheckAll(a.ctx, e, f.deep, // each shows how far it is then
		func(r ledger.Redirect) (*health.Report, error) { return a.checked(e, r, f) })
	if err != nil {
		return err
	}
	var shown []*health.Report
	docs, all := []screen.RedirectDoc{}, []finding.Finding{}
	for _, rep := range reports {
		docs, all = append(docs, screen.ReportDoc(rep, true)), append(all, rep.Findings...)
		if a.shows(rep, f) {
			shown = append(shown, rep)
		}
	}
	a.ShowChecked(shown, a.terse(f))
	for _, rep := range stopped {
		all = append(all, rep.Findings...)
		if !a.AsJSON {
			a.Print("%s  %s", screen.StateWord(rep.State), screen.Bold.Render(pathtext.Show(rep.Redirect.Name)))
			a.Findings(a.Out, rep.Findings)
		}
	}
	managed, err := a.managed(e)
	if err != nil {
		return err
	}
	worst := screen.Gravest(slices.Concat(reports, stopped, managed))
	a.grave(worst)
	if f.metrics != "" {
		var c metrics.Collector
		if err := measured(e, &c, reports, f.metrics); err != nil {
			return err
		}
	}
	if a.AsJSON {
		return a.emit(withManaged(screen.Doc{"redirects": docs, "findings": screen.FindingDocs(all)}, managed))
	}
	if !a.terse(f) || worst != screen.ExitDone {
		a.showRest(managed, len(docs)+len(stopped) == 0)
	}
	return nil
}

// showRest shows what an administrator has redirected for this account; without any, that
// nothing is redirected, if so.
func (a *checkCommand) showRest(managed []*health.Report, nothing bool) {
	switch {
	case len(managed) > 0:
		a.ShowManaged(managed)
	case nothing:
		a.Print("nothing is redirected, so there is nothing to check")
	}
}

// withManaged adds to a document what an administrator has redirected for this account.
func withManaged(d screen.Doc, managed []*health.Report) screen.Doc {
	if len(managed) > 0 {
		d["by_administrator"] = screen.ReportDocs(managed)
	}
	return d
}
