// Package tour tells the demo's story: a sentence, commands that are shown and really run, and on
// a terminal a pause after each chapter in which a person may type commands of their own.
package tour

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
	"nexlin/internal/standin"
)

// A Tour is the story in a scene.
type Tour struct {
	*screen.Lines
	Scene  *standin.Scene
	Self   string   // the program that runs the commands
	In     *os.File // where a person types
	Pauses bool     // somebody reads on a terminal

	n     int
	quiet bool // nothing is shown: it only leads to where a chapter begins
	lines *bufio.Reader
}

// errEnough is a person who has seen enough.
var errEnough = errors.New("the tour was ended")

// Tell tells a chapter, silently doing what it needs before; without a name, the main story;
// "all" is everything.
func (t *Tour) Tell(ctx context.Context, name string) error {
	if t.Scene.Drives != "" {
		t.Note("stand-in drives are in force: %s", pathtext.Show(t.Scene.Drives))
	}
	for _, c := range standin.Story {
		main := slices.Contains(standin.MainStory, c.Name)
		if name == "" && !main {
			break
		}
		t.quiet = name != "" && name != "all" && c.Name != name
		err := t.chapter(ctx, c)
		if errors.Is(err, errEnough) {
			return nil
		}
		if err != nil || c.Name == name {
			return err
		}
	}
	if name == "" {
		t.Print("%s", screen.Faint.Render("There is more: nexlin demo --chapter NAME, or all; nexlin demo --help "+
			"names them."))
	}
	return nil
}

func (t *Tour) chapter(ctx context.Context, c standin.Chapter) error {
	t.n++
	t.say("\n%s", screen.Bold.Render(fmt.Sprintf("%d. %s", t.n, c.Says)))
	for _, line := range c.Runs {
		if err := t.line(ctx, line); err != nil {
			return fmt.Errorf("%s: %w", line, err)
		}
	}
	if !t.Pauses || t.quiet {
		return nil
	}
	return t.pause(ctx)
}

// pause waits for Enter, and runs what is typed before it.
func (t *Tour) pause(ctx context.Context) error {
	if t.lines == nil {
		t.lines = bufio.NewReader(t.In)
	}
	for {
		fmt.Fprintf(t.Err, "\n%s ",
			screen.Faint.Render("Enter goes on; q ends; or type a command, such as nexlin list:"))
		line, err := t.lines.ReadString('\n')
		words := strings.Fields(line)
		switch {
		case ctx.Err() != nil || err != nil && len(words) == 0 || len(words) == 1 && words[0] == "q":
			return errEnough
		case len(words) == 0:
			return nil
		case words[0] == "nexlin":
			_ = t.run(ctx, words[1:]) // it has said itself what went wrong
		default:
			t.Print("only commands of nexlin are understood here")
		}
	}
}

// say prints a line of the story.
func (t *Tour) say(format string, args ...any) {
	if !t.quiet {
		t.Print(format, args...)
	}
}

// line does one thing of the story: most are commands of Nexlin itself.
func (t *Tour) line(ctx context.Context, line string) error {
	what, rest, _ := strings.Cut(line, ": ")
	switch {
	case what == "quietly":
		was := t.quiet
		t.quiet = true
		defer func() { t.quiet = was }()
		return t.line(ctx, rest)
	case what == "save":
		real, err := t.Scene.Save(rest)
		if err == nil {
			t.say("  saved    %s\n  it is at %s", rest, pathtext.Show(real))
		}
		return err
	case what == "pull":
		t.say("\n  %s is pulled", rest)
		return t.Scene.Pull(rest)
	case what == "plug":
		label, at, _ := strings.Cut(rest, " ")
		t.say("\n  %s is plugged in, at %s", label, at)
		return t.Scene.Plug(label, at)
	case what == "program":
		t.say("\n%s", screen.Faint.Render("$ ")+rest)
		return t.run(ctx, append([]string{"standin"}, strings.Fields(rest)...))
	case line == "new laptop":
		t.say("\n  a new home, and no records")
		return t.Scene.NewLaptop()
	case what == "fails":
		var exit *exec.ExitError
		if err := t.line(ctx, rest); !errors.As(err, &exit) {
			return errors.Join(errors.New("this was to fail"), err)
		}
		return nil
	}
	if words, ok := strings.CutPrefix(line, "callroost"); ok {
		words = strings.TrimPrefix(words, ":")
		if !strings.HasPrefix(strings.TrimSpace(words), "list") {
			words = " backup" + words
		}
		t.say("\n%s", screen.Faint.Render("$ ")+"callroost"+words)
		return t.run(ctx, append([]string{"standin", "callroost"}, strings.Fields(words)...))
	}
	t.say("\n%s", screen.Faint.Render("$ ")+"nexlin "+line)
	words := strings.Fields(line)
	if t.Scene.Drives == "" && words[0] == "restore-links" {
		words = append(words, "--accept", "outside-home") // an administrator's home is the system's
	}
	return t.run(ctx, words)
}

// run runs the program itself, with the scene around it.
func (t *Tour) run(ctx context.Context, words []string) error {
	args := []string{}
	for _, w := range words {
		args = append(args, t.Scene.Expand(w))
	}
	cmd := exec.CommandContext(ctx, t.Self, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = t.In, t.RawOut, t.RawErr
	var said bytes.Buffer
	switch {
	case t.quiet:
		cmd.Stdout, cmd.Stderr = io.Discard, io.Discard
	case !t.Pauses: // nobody watches the progress; what went wrong is told
		cmd.Stderr = &said
	}
	cmd.Env = append(t.Scene.Around(os.Environ()), "NEXLIN_STANDINS_TOLD="+t.Scene.Drives)
	cmd.Dir = filepath.Clean(t.Scene.Dir)
	err := cmd.Run()
	if err != nil {
		_, _ = t.RawErr.Write(said.Bytes()) // for people, as all of it
	}
	return err
}
