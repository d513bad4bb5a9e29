// Package ask asks a person on a terminal: yes or no, or one of several things. It does not
// know what is asked about, and does nothing with the answer.
package ask

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"charm.land/huh/v2"
	"golang.org/x/term"

	"nexlin/internal/screen"
)

// A Person sits at a terminal.
type Person struct {
	Ctx context.Context // its end ends a question, which counts as no
	In  *os.File
	Out io.Writer // where lines are written
	Raw *os.File  // the terminal under Out
}

// Present reports whether somebody can be asked.
func (p *Person) Present() bool {
	return term.IsTerminal(int(p.In.Fd())) && term.IsTerminal(int(p.Raw.Fd()))
}

// Confirm asks a question with yes or no, where no is usual. The error is
// [screen.ErrDeclined], or nil for yes.
func (p *Person) Confirm(question string) error {
	fmt.Fprintf(p.Out, "%s [y/N; no changes nothing] ", screen.Bold.Render(question))
	switch strings.ToLower(strings.TrimSpace(p.line())) {
	case "y", "yes":
		return nil
	}
	return screen.ErrDeclined
}

// line reads what a person types, up to the end of the line; nothing if they interrupt it.
func (p *Person) line() string {
	typed := make(chan string, 1)
	go func() {
		line, err := bufio.NewReader(p.In).ReadString('\n')
		if err != nil && line == "" {
			fmt.Fprintln(p.Out) // the end of the input: what follows is on a line of its own
		}
		typed <- line
	}()
	select {
	case line := <-typed:
		return line
	case <-p.Ctx.Done():
		fmt.Fprintln(p.Out)
		return ""
	}
}

// Choose asks for one of several things, of which it returns the number. The error is
// [screen.ErrDeclined], or one of the terminal.
func (p *Person) Choose(title, describe string, things []string) (int, error) {
	var v int
	var options []huh.Option[int]
	for i, thing := range things {
		options = append(options, huh.NewOption(thing, i))
	}
	lines := len(options) + 1
	if describe != "" {
		lines++
	}
	s := huh.NewSelect[int]().Title(title).Description(describe).Options(options...).Value(&v).Height(min(lines, 16))
	err := huh.NewForm(huh.NewGroup(s)).WithTheme(huh.ThemeFunc(huh.ThemeBase)).WithInput(p.In).WithOutput(
		p.Raw).RunWithContext(p.Ctx)
	if errors.Is(err, huh.ErrUserAborted) {
		return 0, screen.ErrDeclined
	}
	return v, err
}
