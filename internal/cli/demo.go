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
			for _, e := range s.Env() {
				k, v, _ := strings.Cut(e, "=")
				a.Print("export %s=%s", k, pathtext.Quote(v))
			}
			return nil
		}),
	}
	scene.Flags().StringVar(&f.size, "size", "small", "small or large")
	s := &standinCommands{a.app}
	c.AddCommand(scene, s.callroostCmd(), s.mudflatCmd(), s.sonogramCmd(), s.brooderCmd(), s.standinDriveCmd())
	return c
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
	for _, chapter := range story {
		if err := t.chapter(chapter); err != nil {
			return err
		}
	}
	if f.dir != "" {
		a.Print("\nthe scene is still in %s; to go on with it:", a.Path(s.Dir))
		for _, e := range s.Env() {
			k, v, _ := strings.Cut(e, "=")
			a.Print("  export %s=%s", k, pathtext.Quote(v))
		}
	}
	return nil
}

// A chapter says a sentence and runs commands. A command that begins with
// save: writes a file through the link, as a program would.
type chapter struct {
	says string
	runs []string
}

var story = []chapter{
	{"Kestrel Bay's field laptop is full. Which drives are there?", []string{"drives"}},
	{"What takes the space, and what would moving it free?", []string{"survey"}},
	{"How large must a drive be to take pictures and recordings?", []string{"survey --need ~/Pictures --need ~/Music"}},
	{"One folder from near.", []string{"inspect ~/Pictures"}},
	{"What would a move do? A preview changes nothing.", []string{"move ~/Pictures --into BASALT:/ines --preview"}},
	{"Now for real.", []string{"move ~/Pictures --into BASALT:/ines --yes"}},
	{"Is all well? What is redirected?", []string{"check", "list"}},
	{"A program saves a photograph where it always did …",
		[]string{"save: ~/Pictures/Plumage/newest.jpg", "try pictures"}},
	{"Days later: the original has been held all the time. Now it may go; only now is room freed.",
		[]string{"list --held", "discard-original pictures --yes"}},
	{"Before anything risky, a whole copy elsewhere: packed into one file on DUNE, and read back.",
		[]string{"pack ~/Documents --output DUNE/documents.tar.zst --yes"}},
	{"Profile folders have a location setting. Two of them move as one, led by the setting and by a link; and home " +
		"again.",
		[]string{"move --profile documents,downloads --into BASALT:/ines --yes", "check documents downloads",
			"bring-back documents downloads --yes", "discard-original documents downloads --yes"}},
	{"callroost backs the field handset up into a hidden folder of its own. A card knows it, and how much it grows.",
		[]string{"callroost: --day 2026-05-03", "card show callroost",
			"move card:callroost --into BASALT:/ines --yes", "discard-original callroost --yes"}},
	{"mudflat keeps the survey team's shared folder. It is stopped, told the new place, started, and must fetch " +
		"nothing again.",
		[]string{"program: mudflat start", "card test mudflat", "move card:mudflat --into BASALT:/ines --yes",
			"program: mudflat status", "program: mudflat pending",
			"bring-back card:mudflat --yes", "program: mudflat stop",
			"discard-original mudflat --yes --accept changed-since"}},
	{"sonogram has its shelf in several settings of two files: all are changed, or there would be gaps.",
		[]string{"program: sonogram show", "move card:sonogram --into BASALT:/ines --yes", "program: sonogram show",
			"bring-back sonogram --yes", "discard-original sonogram --yes"}},
	{"brooder's nests are registered: the engine itself carries one out, signs it off and carries it in, and its " +
		"job limit is set back.",
		[]string{"program: brooder list", "fails: move card:brooder --store kestrel --into BASALT:/ines --yes",
			"move card:brooder --store kestrel-calls --into BASALT:/ines --yes", "program: brooder list",
			"bring-back kestrel-calls --yes", "discard-original kestrel-calls --yes"}},
	{"Somebody pulls BASALT. callroost complains of its own data; check says why.",
		[]string{"pull: BASALT", "fails: callroost: --day 2026-05-04", "fails: check"}},
	{"callroost is told to begin anew, and makes a real folder where the link was.",
		[]string{"callroost: --day 2026-05-04 --begin-anew"}},
	{"BASALT is plugged in again, at another place.", []string{"plug: BASALT media/basalt", "fails: check"}},
	{"mend follows the drive, and merges the two halves.",
		[]string{"mend pictures --yes", "mend callroost --preview", "mend callroost --yes", "callroost list",
			"discard-original callroost --yes", "check"}},
	{"A new laptop: nothing is known there but what the drive says. A link into a hidden place is made only if " +
		"somebody says so.",
		[]string{"new laptop", "list", "fails: restore-links BASALT --preview",
			"restore-links BASALT --yes --accept hidden-place", "list", "callroost list"}},
	{"The new laptop's drive is large enough: the photographs come home.", []string{"bring-back pictures --yes"}},
	{"What happened, and what is still held?", []string{"history", "list --held"}},
}

type tour struct {
	app   *app
	scene *standin.Scene
	self  string
	n     int
}

func (t *tour) chapter(c chapter) error {
	t.n++
	t.app.Print("\n%s", screen.Bold.Render(fmt.Sprintf("%d. %s", t.n, c.says)))
	for _, line := range c.runs {
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
		return t.save(rest)
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

func (t *tour) expand(word string) string {
	if rest, ok := strings.CutPrefix(word, "~"); ok {
		return t.scene.Home + rest
	}
	if rest, ok := strings.CutPrefix(word, "DUNE/"); ok {
		return filepath.Join(t.scene.Place("DUNE"), rest)
	}
	return word
}

// run runs the program itself, with the scene around it.
func (t *tour) run(words []string) error {
	args := []string{}
	for _, w := range words {
		args = append(args, t.expand(w))
	}
	cmd := exec.CommandContext(t.app.ctx, t.self, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = t.app.in, t.app.RawOut, t.app.RawErr
	cmd.Env, cmd.Dir = t.scene.Around(os.Environ()), t.scene.Dir
	return cmd.Run()
}

// save writes a file through the link path and looks for it on the drive.
func (t *tour) save(path string) error {
	full := t.expand(path)
	if err := os.WriteFile(full, []byte("a photograph taken after the move\n"), 0o644); err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(full)
	if err != nil {
		return err
	}
	t.app.Print("\n  saved    %s\n  it is at %s", path, pathtext.Show(strings.TrimPrefix(real, t.scene.Dir+"/")))
	return nil
}
