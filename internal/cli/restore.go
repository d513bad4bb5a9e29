package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/health"
	"nexlin/internal/jobs"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/merge"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/restore"
	"nexlin/internal/screen"
)

type restoreFlags struct {
	preview  bool
	accounts []string
	folders  string
	accept   []string
	halves   string
	mend     mend.Options
}

// restoreCommand is `nexlin restore-links`.
type restoreCommand struct{ *app }

func (a *restoreCommand) restoreCmd() *cobra.Command {
	var f restoreFlags
	c := &cobra.Command{
		Use:   "restore-links DRIVE[:/DIR]",
		Short: "make the links again that a drive tells of: on a fresh system, or another machine",
		Long: "Reads the target notes on DRIVE, or only those below a directory on it, and makes\n" +
			"the link of each target again, for the account it belongs to. An account that has another name here is " +
			"named with --account OLD=NEW. A real folder that\n" +
			"stands where a link belongs is merged into the target and held, or only held. A link is made only\n" +
			"in the home of its account, unless that is accepted. Afterwards the records know what they knew.",
		Example: "  nexlin restore-links BASALT --preview\n  nexlin restore-links BASALT --account ines=inesk",
		Args:    cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			o, err := f.options()
			if err != nil {
				return err
			}
			e, done, err := a.engine(!f.preview)
			if err != nil {
				return err
			}
			defer done()
			d, below, err := a.onDriveArg(e, args[0])
			if err != nil {
				return err
			}
			o.Below = below
			if os.Geteuid() != 0 || a.standins != "" { // an administrator's is the system's, whatever HOME says
				o.Home = a.Home
			}
			return a.restore(e, &d, o, f)
		}),
	}
	fl := c.Flags()
	fl.StringArrayVar(&f.accounts, "account", nil, "the account OLD on the drive is NEW here (`OLD=NEW`)")
	fl.StringVar(&f.folders, "folders", "merge", "real folders that stand where a link belongs: merge or hold (`HOW`)")
	fl.StringVar(&f.halves, "halves", string(plan.KeepBoth),
		"what folder and target both have, with other content: keep-both or newer (`HOW`)")
	fl.StringArrayVar(&f.accept, "accept", nil, "go on past the finding with this `CODE`")
	a.previewFlag(c, &f.preview)
	return c
}

// onDriveArg takes the name of a drive, or a directory on one. below is empty
// for all of a drive.
func (a *restoreCommand) onDriveArg(e *engine.Engine, arg string) (d drive.Drive, below string, err error) {
	d, err = e.Drives.Find(arg)
	_, rest, named := drive.SplitRef(arg)
	if err == nil && (!named || rest == "") {
		return d, "", nil
	}
	if !named && !strings.ContainsFunc(arg, func(r rune) bool { return r < 0x80 && os.IsPathSeparator(uint8(r)) }) {
		return d, "", err
	}
	cwd, err := a.cwd()
	if err != nil {
		return d, "", err
	}
	if below, err = e.Drives.Place(arg, cwd); err != nil {
		return d, "", err
	}
	if below, err = handle.Real(below); err != nil {
		return d, "", err
	}
	d, err = e.Drives.Of(below)
	return d, below, err
}

func (f *restoreFlags) options() (o restore.Options, err error) {
	o.Accounts = map[string]string{}
	for _, s := range f.accounts {
		was, is, ok := strings.Cut(s, "=")
		if !ok || was == "" || is == "" {
			return o, screen.Usage("--account takes OLD=NEW, two names of accounts")
		}
		o.Accounts[was] = is
	}
	switch {
	case f.folders == "hold":
		f.mend.Halves = plan.HoldAll
	case f.folders != "merge":
		return o, screen.Usage("--folders takes merge or hold")
	case f.halves == string(plan.KeepBoth), f.halves == string(plan.Newer):
		f.mend.Halves = plan.Halves(f.halves)
	default:
		return o, screen.Usage("--halves takes keep-both or newer")
	}
	o.Accept, err = codes(f.accept)
	f.mend.Accept = o.Accept
	return o, err
}

func (a *restoreCommand) restore(e *engine.Engine, d *drive.Drive, o restore.Options, f restoreFlags) error {
	all, hidden, err := restore.MakePlan(a.ctx, e, d, o)
	if err != nil {
		return err
	}
	for _, path := range hidden {
		a.Note("not readable, so passed over: %s", a.Path(path))
	}
	docs, todo := []screen.Doc{}, 0
	for _, r := range all {
		if r.Makes() {
			todo++
		}
		if !a.AsJSON {
			a.ShowRestore(d, r)
		}
		one := screen.RestoreDoc(r)
		entries, _, err := a.ShowMerge(f.preview || a.yes, func(visit func(merge.Entry) error) error {
			return restore.PreviewFolder(a.ctx, r, f.mend.Halves, visit)
		})
		if err != nil {
			return err
		}
		if len(entries) > 0 {
			one["entries"] = entries
		}
		docs = append(docs, one)
	}
	switch {
	case len(all) == 0:
		a.Say("%s tells of no target", pathtext.Show(d.Name()))
	case f.preview:
		a.SayPreview()
	case todo > 0:
		if err := a.confirm("make "+pathtext.Plural(int64(todo), "link", "links")+"?", true, "--yes"); err != nil {
			return err
		}
		if docs, err = a.restoreAll(e, all, f); err != nil {
			return err
		}
	}
	for _, r := range all {
		if r.Blocked() {
			a.grave(screen.Refusal(&plan.RefusedError{Findings: r.Findings}))
		}
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"preview": f.preview,
			"drive":    screen.Doc{"id": d.Identity(), "label": d.Label, "mount": d.Mount},
			"restored": docs})
	}
	return nil
}

// restoreAll takes in one after the other and makes its link.
func (a *restoreCommand) restoreAll(e *engine.Engine, all []*restore.Restore, f restoreFlags) ([]screen.Doc, error) {
	docs := []screen.Doc{}
	for _, r := range all {
		d := screen.RestoreDoc(r)
		if r.Makes() {
			if err := a.restoreOne(e, r, f, d); err != nil {
				if a.ctx.Err() != nil || !a.AsJSON && len(all) == 1 {
					return docs, err
				}
				fault := a.explain(err)
				a.grave(fault.Exit)
				d["error"] = screen.FaultDoc(fault)
				if !a.AsJSON {
					a.Tell(fault)
				}
			}
		}
		docs = append(docs, d)
	}
	return docs, nil
}

func (a *restoreCommand) restoreOne(e *engine.Engine, r *restore.Restore, f restoreFlags, d screen.Doc) error {
	var out *plan.Outcome
	if !r.Known {
		p := a.progress()
		e.Progress = p
		var err error
		out, err = jobs.Do(a.ctx, e, r.ToRun())
		p.End()
		if err != nil {
			return err
		}
		if known := len(r.Findings); !a.AsJSON && len(out.Findings) > known {
			a.Findings(a.Out, out.Findings[known:])
		}
	}
	row, err := e.Ledger.Redirect(r.Name)
	if err != nil {
		return err
	}
	err = a.linkAgain(e, row, f, d)
	if err == nil || out == nil {
		return err
	}
	return errors.Join(err, restore.Unlink(a.ctx, e, out.Run, err))
}

// linkAgain makes the link of a redirect that was taken in.
func (a *restoreCommand) linkAgain(e *engine.Engine, row ledger.Redirect, f restoreFlags, d screen.Doc) error {
	o := f.mend
	o.Attach = true
	planned, err := mend.MakePlan(a.ctx, e, row, o)
	if err != nil {
		return err
	}
	if planned != nil {
		if err := planned.Blocked(); err != nil {
			return err
		}
		p := a.progress()
		e.Progress = p
		out, err := jobs.Do(a.ctx, e, planned)
		p.End()
		if err != nil {
			return err
		}
		if !a.AsJSON {
			a.ShowMended(out)
			a.Print("")
		}
	}
	// What it came to is done; that it can't be shown is no failure of it.
	if row, err := e.Ledger.Redirect(row.Name); err == nil {
		if rep, err := health.Look(e, row); err == nil {
			d["redirect"] = screen.ReportDoc(rep, false)
		}
	}
	return nil
}
