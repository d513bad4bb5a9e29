package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/group"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/screen"
	"nexlin/internal/transfer"
)

type moveFlags struct {
	into, as, name string
	preview        bool
	whileInUse     bool
	waitQuiet      time.Duration
	discard        bool
	accept         []string
	digest, links  string
	workers        int
	by             string
	profile        []string
	perAccount     bool
	futureOnly     bool
	packFirst      string
	empty, merge   bool
	store          string
	together       bool
	makeRoom       string
	form, seen     string
}

// moveCommand is `nexlin move`, whatever is moved.
type moveCommand struct{ *app }

func (a *moveCommand) moveCmd() *cobra.Command {
	var f moveFlags
	c := &cobra.Command{
		Use:   "move FOLDER… --into DIR",
		Short: "move folders to another drive and leave a link behind",
		Long: "Moves each FOLDER into DIR on another drive: looks at everything first, copies, reads the copy\n" +
			"back from the drive, catches up with changes, puts the link in place (in one act where the file\n" +
			"system can do that), and tries it. The original is held, never deleted. FOLDER may be the name of\n" +
			"a redirect: its data then moves on to DIR. DIR may begin with a drive's label, LABEL:/path, or\n" +
			"UUID=…:/path. Without arguments, on a terminal, it leads through the choices.",
		Example: "  nexlin move ~/Pictures --into BASALT:/ines --preview\n  nexlin move ~/Pictures --into BASALT:/ines",
		RunE:    a.runner(func(cmd *cobra.Command, args []string) error { return a.move(args, f, given(cmd)) }),
	}
	fl := c.Flags()
	fl.StringVar(&f.into, "into", "", "the `DIR` on the other drive that the folder goes into")
	fl.StringVar(&f.as, "as", "", "its name there (`DIRNAME`), if not its own")
	fl.StringVar(&f.name, "name", "", "the `NAME` of the redirect")
	fl.BoolVar(&f.whileInUse, "while-in-use", false, "go on although programs write to the folder")
	fl.DurationVar(&f.waitQuiet, "wait-quiet", 0,
		"wait up to this long (`DURATION`, as in 10m) until no program writes to the folder")
	fl.BoolVar(&f.discard, "discard-original", false,
		"delete the original at the end, as discard-original does: after proving the copy once more")
	fl.StringArrayVar(&f.accept, "accept", nil, "go on past the finding with this `CODE`")
	fl.StringVar(&f.links, "inner-links", string(plan.RewriteLinks),
		"relative links that lead out of the folder: rewrite, keep or refuse (`HOW`)")
	fl.StringVar(&f.digest, "digest", string(transfer.Auto),
		"the `DIGEST` of every file in the manifest: sha256, blake3, or auto, the one that is faster on this machine")
	fl.IntVar(&f.workers, "workers", 0, "how many files are copied at once (`N`); 0 follows the drives")
	fl.StringVar(&f.by, "by", "", "how programs are led to the new place (`METHOD`): symlink, junction (NTFS), "+
		"setting, or setting+ and one of the first two; symlink unless a card says else")
	fl.StringVar(&f.form, "target-form", "",
		"how a junction names the drive (`FORM`): letter, or volume, which stays when the letter changes")
	fl.StringVar(&f.seen, "as-seen", "", "of a Windows drive mounted here: the target, or its drive's root, as the "+
		"running Windows will see it (`PATH`), such as 'D:\\'")
	fl.StringSliceVar(&f.profile, "profile", nil, "move profile folders, all or none of them: all, or some of "+
		"documents, pictures, music, videos, downloads, desktop… (`KINDS`)")
	fl.BoolVar(&f.perAccount, "per-account", false, "put the folders into a directory of the account's name in DIR")
	fl.BoolVar(&f.futureOnly, "future-only", false,
		"change only where new things go: the location setting leads to the new place, nothing is moved")
	fl.StringVar(&f.packFirst, "pack-first", "",
		"before anything else, make a whole copy of the folder in `FILE`, as pack does")
	fl.BoolVar(&f.empty, "start-empty", false,
		"begin with an empty target: what is in the folder is held where it is, and not copied")
	fl.BoolVar(&f.merge, "merge", false,
		"the directory at the target may have entries: the folder's are brought over beside them, replacing nothing")
	fl.BoolVar(&f.together, "together", false, "move all of the folders as one, or none of them")
	fl.StringVar(&f.makeRoom, "make-room", "",
		"move the fewest folders of the home that free `SIZE` (as in 20GiB), each to a drive that has room")
	fl.StringVar(&f.store, "store", "", "of a card whose engine has registered stores: the one that it moves (`NAME`)")
	cardFlag(a.app, c)
	a.previewFlag(c, &f.preview)
	return c
}

// move does what a command line says, the options of which are flags.
func (a *moveCommand) move(args []string, f moveFlags, flags string) error {
	args, err := byFile(a.app, args)
	if err != nil {
		return err
	}
	if f.makeRoom != "" {
		return a.makeRoom(args, f)
	}
	if f.into == "" && len(f.profile) == 0 && (len(args) == 0 || len(args) == 1 && a.terminal() && !a.AsJSON) {
		return a.moveGuided(f, flags, args)
	}
	if n := len(args) - 1; f.into == "" && n > 0 && len(f.profile) == 0 {
		return screen.Usage("the directory that it goes into is named with --into", "did you mean nexlin move "+
			pathtext.QuoteAll(args[:n])+" --into "+pathtext.Quote(args[n])+"?")
	}
	if f.into == "" || (len(args) == 0) == (len(f.profile) == 0) {
		return screen.Usage("name the folder, or some with --profile, and, with --into, the directory it " +
			"goes into")
	}
	if len(args) > 1 && (f.as != "" || f.name != "" || f.packFirst != "") {
		return screen.Usage("--as, --name and --pack-first go with one folder")
	}
	return a.moveAll(args, f)
}

// methods reads --by.
func (f *moveFlags) methods() []string {
	if f.by == "" {
		return nil
	}
	out := strings.Split(f.by, "+")
	slices.Sort(out) // setting before symlink, as it is shown
	return out
}

// A wrongUse is a use of options, and what is said of it if it is one.
type wrongUse struct {
	is   bool
	says string
}

// check refuses values that no move takes.
func (f *moveFlags) check() error {
	for _, c := range append(f.wrongLead(), f.wrongRest()...) {
		if c.is {
			return screen.Usage(c.says)
		}
	}
	return checkNames(*f)
}

// one says that one folder is moved.
func (f *moveFlags) one() bool { return len(f.profile) == 0 && !f.futureOnly }

// wrongLead is about how programs are to be led to the target.
func (f *moveFlags) wrongLead() []wrongUse {
	ways := []string{"symlink", "junction", "setting", "setting+symlink", "junction+setting"}
	return []wrongUse{
		{f.by != "" && !slices.Contains(ways, strings.Join(f.methods(), "+")),
			"--by takes symlink, junction, setting, setting+symlink or setting+junction"},
		{(f.form != "" || f.seen != "") && !slices.Contains(f.methods(), plan.ByJunction),
			"--target-form and --as-seen go with --by junction"},
		{f.form != "" && f.form != string(planning.ByLetter) && f.form != string(planning.ByVolume),
			"--target-form takes letter or volume"},
		{f.form != "" && f.seen != "", "--as-seen says itself how the target is named; leave out --target-form"},
		{f.seen != "" && !f.one(), "--as-seen goes with one folder"},
	}
}

// wrongRest is about what is moved, and how it is copied.
func (f *moveFlags) wrongRest() []wrongUse {
	return []wrongUse{
		{f.store != "" && (f.empty || f.merge || f.packFirst != "" || f.discard || f.by != ""),
			"--store has the engine move its store: no other way goes with it"},
		{f.empty && f.merge, "--start-empty and --merge exclude each other"},
		{f.empty && f.discard, "--start-empty copies nothing, so there is nothing to discard the original by"},
		{f.packFirst != "" && !f.one(), "--pack-first goes with one folder"},
		{len(f.profile) > 0 && (f.as != "" || f.name != "" || f.discard),
			"--as, --name and --discard-original go with one folder"},
		{!slices.Contains(values["inner-links"], f.links),
			"--inner-links takes rewrite, keep or refuse"},
		{!slices.Contains(values["digest"], f.digest), "--digest takes auto, sha256 or blake3"},
		{f.waitQuiet < 0, "--wait-quiet takes a time such as 30s or 10m"},
		{f.workers < 0 || f.workers > 64, "--workers takes a number from 1 to 64, or 0"},
	}
}

// previewFlag adds --preview with its other spellings.
func (a *app) previewFlag(c *cobra.Command, p *bool) {
	c.Flags().BoolVarP(p, "preview", "n", false, "look at everything, say it, change nothing (also --dry-run)")
	c.Flags().BoolVar(p, "dry-run", false, "")
	_ = c.Flags().MarkHidden("dry-run") // it exists
}

// folderArg turns FOLDER into a path: a path, LABEL:/path, or the name of a redirect.
func (a *moveCommand) folderArg(e *engine.Engine, arg, cwd string) (string, error) {
	path, err := e.PathOf(arg, cwd)
	if err != nil {
		return "", err
	}
	r, err := e.Ledger.Redirect(arg)
	if errors.Is(err, ledger.ErrNotFound) || err == nil && r.State == ledger.Ended {
		return path, nil
	}
	if err != nil {
		return "", err
	}
	if _, err := os.Lstat(path); err == nil && path != r.Link {
		return "", screen.Usage(fmt.Sprintf("%q is the name of a redirect and a path here; write ./%s for the path, "+
			"%s for the redirect's link", arg, arg, pathtext.Quote(r.Link)))
	}
	return r.Link, nil
}

func codes(in []string) ([]finding.Code, error) {
	var out []finding.Code
	for _, s := range in {
		c := finding.Code(s)
		if !finding.Acceptable(c) {
			return nil, screen.Usage(fmt.Sprintf("%q can't be accepted; docs/findings.md lists the codes that can", s))
		}
		out = append(out, c)
	}
	return out, nil
}

func (f *moveFlags) options(folder, into string, accept []finding.Code) planning.MoveOptions {
	return planning.MoveOptions{
		Folder: folder, Into: into, As: f.as, Name: f.name, WhileInUse: f.whileInUse, WaitQuiet: f.waitQuiet,
		Discard: f.discard, Accept: accept,
		Digest: transfer.Digest(f.digest), InnerLinks: plan.InnerLinks(f.links), By: f.methods(),
		StartEmpty: f.empty, Merge: f.merge,
		Form: planning.TargetForm(f.form), Seen: f.seen,
	}
}

func (a *moveCommand) moveAll(args []string, f moveFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	accept, err := codes(f.accept)
	if err != nil {
		return err
	}
	e, cwd, done, err := a.engineHere(!f.preview)
	if err != nil {
		return err
	}
	defer done()
	into, err := e.Drives.Place(f.into, cwd)
	if err != nil {
		return err
	}
	e.Workers = f.workers
	if f.perAccount {
		into = filepath.Join(into, a.account())
	}
	switch o := f.options("", into, accept); {
	case f.futureOnly:
		return a.futureOnly(e, args, f, o)
	case len(f.profile) > 0:
		return a.moveProfile(e, f, o)
	case f.packFirst != "" && len(args) == 1 && strings.HasPrefix(args[0], engine.CardPrefix):
		return screen.Usage("--pack-first goes with one folder, not with a card; `nexlin pack FOLDER --output FILE` " +
			"makes the copy by itself")
	case len(args) == 1 && strings.HasPrefix(args[0], engine.CardPrefix):
		return a.moveCard(e, strings.TrimPrefix(args[0], engine.CardPrefix), f, o)
	case slices.ContainsFunc(args, func(s string) bool { return strings.HasPrefix(s, engine.CardPrefix) }):
		return screen.Usage("a card is moved by itself: name it alone")
	}
	if f.together && len(args) > 1 {
		return a.moveTogether(e, args, cwd, f, f.options("", into, accept))
	}
	each := func(arg string) (screen.Doc, error) {
		folder, err := a.folderArg(e, arg, cwd)
		if err != nil {
			return nil, err
		}
		o := f.options(folder, into, accept)
		if err := a.packFirst(e, o, f.packFirst, f.preview); err != nil {
			return nil, err
		}
		return a.moveOne(e, o, f.preview)
	}
	return a.several(args, "moves", each)
}

// moveTogether moves several folders as one.
func (a *moveCommand) moveTogether(e *engine.Engine, args []string, cwd string, f moveFlags,
	o planning.MoveOptions) error {
	if f.discard {
		return screen.Usage("--discard-original goes with one folder")
	}
	var folders []string
	for _, arg := range args {
		folder, err := a.folderArg(e, arg, cwd)
		if err != nil {
			return err
		}
		folders = append(folders, folder)
	}
	return a.offerTogether(e, f.preview, "move them?",
		func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return group.PlanFolders(a.ctx, e, folders, o)
		})
}

func checkNames(f moveFlags) error {
	if f.name != "" && !naming.Valid(f.name) {
		return screen.Usage(fmt.Sprintf("%q is no name for a redirect: letters, digits, - _ . and at most 60 of them",
			f.name))
	}
	if f.as != "" && !pathtext.IsName(f.as) || strings.HasPrefix(f.as, ".nexlin") {
		return screen.Usage(fmt.Sprintf("%q is no name for a directory: --as takes one name, no path", f.as))
	}
	return nil
}

// several tries all names and keeps the gravest result. One name's document
// stands for itself; those of several stand in a list under key.
func (a *app) several(args []string, key string, each func(string) (screen.Doc, error)) error {
	docs := []screen.Doc{}
	for i, arg := range args {
		if i > 0 && !a.AsJSON {
			a.Print("")
		}
		d, err := each(arg)
		if err == nil {
			docs, a.did = append(docs, d), true
			continue
		}
		if len(args) == 1 {
			if d != nil && a.AsJSON {
				return a.failWith(d, err)
			}
			return err
		}
		f := a.explain(err)
		a.grave(f.Exit)
		if errors.Is(err, screen.ErrDeclined) && i+1 < len(args) && a.ctx.Err() == nil {
			a.Print("%s is left as it is", screen.Bold.Render(pathtext.Show(arg)))
			continue
		}
		if a.AsJSON {
			docs = append(docs, screen.Doc{"argument": arg, "error": screen.FaultDoc(f),
				"findings": screen.FindingDocs(f.Found)})
		} else {
			a.Tell(f)
		}
		if a.ctx.Err() != nil {
			break
		}
	}
	switch {
	case !a.AsJSON:
		return nil
	case len(args) == 1:
		return a.emit(docs[0])
	}
	return a.emit(screen.Doc{key: docs})
}

// failWith reports an error together with the results there are.
func (a *app) failWith(d screen.Doc, err error) error {
	f := a.explain(err)
	a.grave(f.Exit)
	d["error"] = screen.FaultDoc(f)
	if len(f.Found) > 0 || d["findings"] == nil {
		d["findings"] = screen.FindingDocs(f.Found)
	}
	return a.emit(d)
}

func (a *moveCommand) moveOne(e *engine.Engine, o planning.MoveOptions, preview bool) (screen.Doc, error) {
	question := "move it?"
	if o.Discard {
		question = "move it, and delete the original once the copy is proven?"
	}
	return a.offer(e, offer{
		plan: func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return redirect.PlanMove(a.ctx, e, o)
		},
		inspects: true, show: a.ShowPlan, question: question, preview: preview, done: a.ShowMoved,
	})
}

// tellStopped names runs that were stopped, before anything else is done; a
// command that is about them says it by itself.
func (a *app) tellStopped(e *engine.Engine) {
	if a.Quiet || a.AsJSON || a.toldStopped || slices.Contains([]string{"resume", "undo", "history"}, a.command) {
		return
	}
	rows, err := plan.Open(e.Ledger)
	if err != nil {
		return // the command itself will meet the same and say it
	}
	a.toldStopped = true
	for _, r := range rows {
		a.Note("run %s (%s of %s) was stopped before its end: `nexlin resume %[1]s` goes on, `nexlin undo %[1]s` "+
			"takes it back", r.ID, r.Kind, strings.TrimPrefix(r.Redirect, "-"))
	}
}
