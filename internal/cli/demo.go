package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
	"nexlin/internal/standin"
	"nexlin/internal/tour"
)

type demoFlags struct {
	dir, size, chapter string
	real               bool
}

// demoCommands are `nexlin demo`, and the scene by itself.
type demoCommands struct{ *app }

func (a *demoCommands) demoCmd() *cobra.Command {
	var f demoFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "a made-up scene with stand-in drives; tells what a move is",
		Long: "Builds the bird observatory at Kestrel Bay in a temporary folder, with the drives SKERRY, BASALT\n" +
			"and DUNE, and tells the main job: look, move, trial, held, back. Each command is shown and really\n" +
			"run; on a terminal you may type commands of your own between the chapters.",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			if f.chapter != "" && f.chapter != "all" && !slices.Contains(standin.Chapters(), f.chapter) {
				return screen.Usage(fmt.Sprintf("there is no chapter %q", f.chapter),
					"the chapters are "+strings.Join(standin.Chapters(), ", ")+"; or all")
			}
			return a.demo(f)
		}),
	}
	fl := c.Flags()
	fl.StringVar(&f.dir, "dir", "", "build the scene in `DIR` (empty or new) and leave it there")
	fl.StringVar(&f.size, "size", "small", "`small` or large")
	fl.StringVar(&f.chapter, "chapter", "",
		"tell this chapter (`NAME`) beside what it needs: "+strings.Join(standin.Chapters(), ", ")+"; or all")
	fl.BoolVar(&f.real, "real-drives", false, "as administrator: loop-mounted file systems instead of stand-ins")
	return c
}

func (a *demoCommands) standinCmd() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "parts of the made-up scene", Hidden: true}
	var f demoFlags
	scene := &cobra.Command{
		Use: "scene DIR", Short: "build the scene and print what to set", Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			f.dir = args[0]
			s, _, err := a.scene(f)
			if err != nil {
				return err
			}
			a.exports(s, "")
			return nil
		}),
	}
	scene.Flags().StringVar(&f.size, "size", "small", "small or large")
	s := &standinCommands{a.app}
	c.AddCommand(scene, s.callroostCmd(), s.mudflatCmd(), s.sonogramCmd(), s.brooderCmd(), s.standinDriveCmd())
	return c
}

// exports prints what to set for a shell to be in the scene.
func (a *demoCommands) exports(s *standin.Scene, indent string) {
	for _, e := range s.Env() {
		k, v, _ := strings.Cut(e, "=")
		a.Print("%sexport %s=%s", indent, k, pathtext.Quote(v))
	}
}

// scene builds the scene; the function takes it away again where it was
// made in a temporary folder.
func (a *demoCommands) scene(f demoFlags) (*standin.Scene, func() error, error) {
	amount, ok := standin.Amounts[f.size]
	if !ok {
		return nil, nil, screen.Usage("--size takes small or large")
	}
	if f.real && os.Geteuid() != 0 {
		return nil, nil, screen.Usage("--real-drives mounts file systems, which needs an administrator; without it, " +
			"folders stand in for the drives")
	}
	dir, temporary := f.dir, f.dir == ""
	if temporary {
		d, err := os.MkdirTemp("", "kestrel-bay-")
		if err != nil {
			return nil, nil, err
		}
		dir = d
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, nil, err
	}
	standin.Settle()
	build := standin.Build
	if f.real {
		build = standin.BuildReal
	}
	s, err := build(dir, amount)
	end := func() error {
		var errs []error
		if s != nil {
			errs = append(errs, s.Close())
		}
		// Nothing is removed below a mount that would not go away.
		if temporary && errors.Join(errs...) == nil {
			errs = append(errs, os.RemoveAll(dir))
		}
		return errors.Join(errs...)
	}
	if err != nil {
		return nil, nil, errors.Join(err, end())
	}
	return s, end, nil
}

func (a *demoCommands) demo(f demoFlags) (err error) {
	if a.AsJSON {
		return screen.Usage("the demo is a story for people; the commands in it have --json")
	}
	s, end, err := a.scene(f)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, end()) }()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.StopPrograms()) }()
	t := &tour.Tour{Lines: &a.Lines, Scene: s, Self: self, In: a.in, Pauses: a.terminal()}
	if err := t.Tell(a.ctx, f.chapter); err != nil {
		return err
	}
	if f.dir != "" {
		a.Print("\nthe scene is still in %s; to go on with it:", a.Path(s.Dir))
		a.exports(s, "  ")
	}
	return nil
}
