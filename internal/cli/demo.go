package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
	"nexlin/internal/standin"
)

type demoFlags struct {
	dir, size string
	real      bool
}

// demoCommands are `nexlin demo`, and the scene by itself.
type demoCommands struct{ *app }

func (a *demoCommands) demoCmd() *cobra.Command {
	var f demoFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "a made-up scene with stand-in drives; runs the whole story",
		Long: "Builds the bird observatory at Kestrel Bay in a temporary folder, with the drives SKERRY, BASALT\n" +
			"and DUNE, and walks through a move and its bring-back: each command is shown and really run.",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error { return a.demo(f) }),
	}
	fl := c.Flags()
	fl.StringVar(&f.dir, "dir", "", "build the scene in `DIR` (empty or new) and leave it there")
	fl.StringVar(&f.size, "size", "small", "`small` or large")
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
	t := &tour{app: a.app, scene: s, self: self}
	defer func() { err = errors.Join(err, s.StopPrograms()) }()
	for _, chapter := range standin.Story {
		if err := t.chapter(chapter); err != nil {
			return err
		}
	}
	if f.dir != "" {
		a.Print("\nthe scene is still in %s; to go on with it:", a.Path(s.Dir))
		a.exports(s, "  ")
	}
	return nil
}

type tour struct {
	app   *app
	scene *standin.Scene
	self  string
	n     int
}

func (t *tour) chapter(c standin.Chapter) error {
	t.n++
	t.app.Print("\n%s", screen.Bold.Render(fmt.Sprintf("%d. %s", t.n, c.Says)))
	for _, line := range c.Runs {
		if err := t.line(line); err != nil {
			return fmt.Errorf("%s: %w", line, err)
		}
	}
	return nil
}

// line does one thing of the story: most are commands of Nexlin itself.
func (t *tour) line(line string) error {
	what, rest, _ := strings.Cut(line, ": ")
	switch {
	case what == "save":
		real, err := t.scene.Save(rest)
		if err == nil {
			t.app.Print("\n  saved    %s\n  it is at %s", rest, pathtext.Show(real))
		}
		return err
	case what == "pull":
		t.app.Print("\n  %s is pulled", rest)
		return t.scene.Pull(rest)
	case what == "plug":
		label, at, _ := strings.Cut(rest, " ")
		t.app.Print("\n  %s is plugged in, at %s", label, at)
		return t.scene.Plug(label, at)
	case what == "program":
		t.app.Print("\n%s", screen.Faint.Render("$ ")+rest)
		return t.run(append([]string{"standin"}, strings.Fields(rest)...))
	case line == "new laptop":
		t.app.Print("\n  a new home, and no records")
		return t.scene.NewLaptop()
	case what == "fails":
		var exit *exec.ExitError
		if err := t.line(rest); !errors.As(err, &exit) {
			return errors.Join(errors.New("this was to fail"), err)
		}
		return nil
	}
	if words, ok := strings.CutPrefix(line, "callroost"); ok {
		words = strings.TrimPrefix(words, ":")
		if !strings.HasPrefix(strings.TrimSpace(words), "list") {
			words = " backup" + words
		}
		t.app.Print("\n%s", screen.Faint.Render("$ ")+"callroost"+words)
		return t.run(append([]string{"standin", "callroost"}, strings.Fields(words)...))
	}
	t.app.Print("\n%s", screen.Faint.Render("$ ")+"nexlin "+line)
	words := strings.Fields(line)
	if t.scene.Drives == "" && words[0] == "restore-links" {
		words = append(words, "--accept", "outside-home") // an administrator's home is the system's
	}
	return t.run(words)
}

// run runs the program itself, with the scene around it.
func (t *tour) run(words []string) error {
	args := []string{}
	for _, w := range words {
		args = append(args, t.scene.Expand(w))
	}
	cmd := exec.CommandContext(t.app.ctx, t.self, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = t.app.in, t.app.RawOut, t.app.RawErr
	cmd.Env, cmd.Dir = t.scene.Around(os.Environ()), t.scene.Dir
	return cmd.Run()
}
