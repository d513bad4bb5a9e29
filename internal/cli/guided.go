package cli

import (
	"fmt"
	"path/filepath"
	"runtime"
	"strings"

	"charm.land/huh/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/pathtext"
	"nexlin/internal/preflight"
	"nexlin/internal/screen"
	"nexlin/internal/survey"
)

// moveGuided leads through the choices on a terminal: which folder, where
// to. It shows the command line it amounts to and then does what that does.
func (a *moveCommand) moveGuided(f moveFlags, flags string) error {
	if a.AsJSON || !a.terminal() {
		return screen.Usage("name the folder and, with --into, the directory it goes into")
	}
	if err := f.check(); err != nil {
		return err
	}
	accept, err := codes(f.accept)
	if err != nil {
		return err
	}
	e, done, err := a.engine(true)
	if err != nil {
		return err
	}
	defer done()
	folder, err := (&guide{a.app}).chooseFolder(e)
	if err != nil {
		return err
	}
	into, err := (&guide{a.app}).chooseTarget(e, folder)
	if err != nil {
		return err
	}
	line := "nexlin move " + (&guide{a.app}).typed(folder.Path) + " --into " + pathtext.Quote(into) + flags
	a.Print("%s", screen.Faint.Render("the same as a command:")+"  "+screen.Bold.Render(line))
	a.Print("")
	cwd, err := a.cwd()
	if err != nil {
		return err
	}
	place, err := e.Drives.Place(into, cwd)
	if err != nil {
		return err
	}
	e.Workers = f.workers
	_, err = a.moveOne(e, f.options(folder.Path, place, accept), f.preview)
	return err
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

// guide is a move that asks for what it needs.
type guide struct{ *app }

// typed writes a path as it can be typed, with ~ for the home.
func (a *guide) typed(p string) string {
	if rest, ok := strings.CutPrefix(p, a.Home+"/"); ok && a.Home != "" && runtime.GOOS != "windows" {
		return "~/" + pathtext.Quote(rest)
	}
	return pathtext.Quote(p)
}

func (a *guide) chooseFolder(e *engine.Engine) (survey.Folder, error) {
	p := a.progress()
	p.Phase("inspect", 0, 0)
	fs, err := survey.Survey(a.ctx, e, survey.Options{Home: a.Home, Dirs: []string{a.Home}, Progress: p.Inspected})
	p.End()
	if err != nil {
		return survey.Folder{}, err
	}
	if err := a.FreeLine(e); err != nil {
		return survey.Folder{}, err
	}
	a.Print("")
	var options []huh.Option[int]
	for i, f := range fs {
		if f.Redirect != "" || f.Allocated == 0 || len(options) == few {
			continue
		}
		options = append(options,
			huh.NewOption(fmt.Sprintf("%-34s frees %10s on %s", a.Path(f.Path), pathtext.Size(f.Allocated),
				pathtext.Show(f.Drive)), i))
	}
	if len(options) == 0 {
		return survey.Folder{}, screen.Usage("there is no folder here that could be moved; name one")
	}
	i, err := choose(a.app, "Which folder?", "The one that frees most comes first.", options)
	if err != nil {
		return survey.Folder{}, err
	}
	return fs[i], nil
}

// chooseTarget offers the other drives with their room, then a directory.
func (a *guide) chooseTarget(e *engine.Engine, f survey.Folder) (string, error) {
	ds, err := e.Drives.List(false)
	if err != nil {
		return "", err
	}
	from, err := e.Drives.Of(f.Path)
	if err != nil {
		return "", err
	}
	var options []huh.Option[int]
	for i := range ds {
		d := &ds[i]
		if d.Same(&from) || d.ReadOnly {
			continue
		}
		need := preflight.Need(f.Rounded, f.Entries, d.Block)
		fit := fmt.Sprintf("%s free, %s after", pathtext.Size(d.Free), pathtext.Size(d.Free-need))
		if need+d.Reserve() > d.Free {
			fit = fmt.Sprintf("%s free: too little", pathtext.Size(d.Free))
		}
		options = append(options, huh.NewOption(fmt.Sprintf("%-12s %s", pathtext.Show(d.Name()), fit), i))
	}
	if len(options) == 0 {
		return "", screen.Usage("no other drive is here; plug one in and mount it")
	}
	i, err := choose(a.app, "To which drive?", "", options)
	if err != nil {
		return "", err
	}
	dir, err := a.write("Into which directory on it?", "It is made if it is not there.",
		string(filepath.Separator)+filepath.Base(a.Home))
	if err != nil {
		return "", err
	}
	return place(&ds[i], dir), nil
}

// place writes a directory on a drive the way --into takes it.
func place(d *drive.Drive, dir string) string {
	if d.Label != "" && !strings.ContainsAny(d.Label, "/:") {
		return d.Label + ":/" + strings.Trim(filepath.ToSlash(filepath.Clean(dir)), "/")
	}
	return filepath.Join(d.Mount, dir)
}
