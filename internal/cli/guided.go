package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/guide"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
	"nexlin/internal/survey"
)

// moveGuided leads through the choices on a terminal: which folders, where to. It shows the
// command lines that they amount to and then does what those do. The folders named are chosen
// at the beginning.
func (a *moveCommand) moveGuided(f moveFlags, flags string, named []string) error {
	if a.AsJSON || !a.terminal() {
		return screen.Usage("name the folder and, with --into, the directory it goes into")
	}
	if err := f.check(); err != nil {
		return err
	}
	c, err := a.guided(named)
	if err != nil {
		return err
	}
	f.into = c.Into
	var folders []string
	runs := [][]string{}
	for _, x := range c.Folders {
		if x.Card != "" { // its program has to be told, which its card knows
			runs = append(runs, []string{engine.CardPrefix + x.Card})
		} else {
			folders = append(folders, x.Path)
		}
	}
	if len(folders) > 0 {
		runs = append([][]string{folders}, runs...)
	}
	for _, args := range runs {
		f.together = len(args) > 1
		a.commandLine(f, flags, args)
		if err := a.moveAll(args, f); err != nil {
			return err
		}
		a.did = true
	}
	return nil
}

// commandLine shows what does the same without questions.
func (a *moveCommand) commandLine(f moveFlags, flags string, args []string) {
	line := "nexlin move"
	for _, arg := range args {
		line += " " + a.Typed(arg)
	}
	line += " --into " + pathtext.Quote(f.into) + flags
	if f.together {
		line += " --together"
	}
	a.Print("%s", screen.Faint.Render("the same as a command:"))
	fmt.Fprintln(a.Out, "  "+screen.Bold.Render(line)+"\n") // whole, so that it can be copied
}

// guided asks for folders and a place.
func (a *moveCommand) guided(named []string) (*guide.Choice, error) {
	e, cwd, done, err := a.engineHere(false)
	if err != nil {
		return nil, err
	}
	defer done()
	fs, err := (&surveyCommand{a.app}).measured(e)
	if err != nil {
		return nil, err
	}
	o := guide.Options{Home: a.Home, Show: a.Path, Typed: (*survey.Place).Typed, May: (*survey.Place).MayWrite,
		Frees:  survey.Freed,
		Add:    func(path string) (survey.Folder, error) { return survey.One(a.ctx, e, path) },
		Places: func(fs []survey.Folder) ([]survey.Place, error) { return survey.Places(e, fs) },
	}
	for _, arg := range named {
		path, err := a.folderArg(e, arg, cwd)
		if err != nil {
			return nil, err
		}
		one, err := o.Add(path)
		if err != nil {
			return nil, err
		}
		o.Folders, o.Chosen = append(o.Folders, one), append(o.Chosen, path)
	}
	for _, f := range fs {
		if f.Redirect == "" && f.Allocated > 0 && !slices.Contains(o.Chosen, f.Path) {
			o.Folders = append(o.Folders, f)
		}
	}
	c, err := guide.Ask(a.ctx, a.in, a.RawErr, o)
	if err == guide.ErrLeft {
		return nil, screen.ErrDeclined
	}
	return c, err
}

// measured surveys the home.
func (a *surveyCommand) measured(e *engine.Engine) ([]survey.Folder, error) {
	p := a.progress()
	defer p.End()
	p.Phase("inspect", 0, 0)
	return survey.Survey(a.ctx, e, survey.Options{Home: a.Home, Dirs: []string{a.Home}, Progress: p.Inspected})
}

// given writes down the flags that were typed to a command, its own ones.
func given(cmd *cobra.Command) string {
	var b strings.Builder
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if cmd.InheritedFlags().Lookup(f.Name) != nil {
			return
		}
		values := []string{f.Value.String()}
		if many, ok := f.Value.(pflag.SliceValue); ok {
			values = many.GetSlice()
		}
		for _, v := range values {
			b.WriteString(" --" + f.Name)
			if f.Value.Type() != "bool" {
				b.WriteString(" " + pathtext.Quote(v))
			}
		}
	})
	return b.String()
}

// room proposes the fewest folders whose moves free so much as a person has written.
func (a *surveyCommand) room(e *engine.Engine, size string) (*survey.Room, error) {
	n, err := humanize.ParseBytes(size)
	if err != nil || n == 0 || n > 1<<60 {
		return nil, screen.Usage("--make-room takes a size such as 20GiB")
	}
	fs, err := a.measured(e)
	if err != nil {
		return nil, err
	}
	r, err := survey.MakeRoom(a.ctx, e, a.Home, fs, int64(n))
	if err != nil {
		return nil, err
	}
	if !a.AsJSON {
		a.ShowRoom(r)
	}
	if r.Short > 0 {
		return r, plan.Refused(finding.New(finding.SpaceShort, a.Home, "all that can be moved from here frees %s: "+
			"%s lack", pathtext.Size(r.Frees), pathtext.Size(r.Short)).As(finding.Blocker).
			Instead("`nexlin survey --all` lists every folder, `nexlin inspect FOLDER` says why one can't be moved; " +
				"or plug in a larger drive"))
	}
	return r, nil
}

// makeRoom moves the fewest folders that free so much.
func (a *moveCommand) makeRoom(args []string, f moveFlags) error {
	if len(args) > 0 || f.into != "" || len(f.profile) > 0 || a.AsJSON {
		return screen.Usage("--make-room chooses folders and drives itself; nexlin survey --make-room only proposes " +
			"them")
	}
	e, done, err := a.engine(false)
	if err != nil {
		return err
	}
	r, err := (&surveyCommand{a.app}).room(e, f.makeRoom)
	done()
	if err != nil {
		return err
	}
	for _, into := range r.Places() {
		f.into, f.together = into, true
		var folders []string
		for _, m := range r.Moves {
			if m.Into == into {
				folders = append(folders, m.Folder.Path)
			}
		}
		if err := a.moveAll(folders, f); err != nil {
			return err
		}
		a.did = true
	}
	return nil
}
