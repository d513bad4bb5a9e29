package cli

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"charm.land/huh/v2"

	"nexlin/internal/screen"
)

// confirm asks a question with yes or no. Without a terminal the consent is
// missing, unless --yes was given and the question is a usual one.
func (a *app) confirm(question string, usual bool, flag string) error {
	if usual && a.yes {
		return nil
	}
	if a.AsJSON || !a.terminal() {
		return fmt.Errorf("%w: %s (%s says yes)", screen.ErrConsent, question, flag)
	}
	fmt.Fprintf(a.Err, "%s [y/N; no changes nothing] ", screen.Bold.Render(question))
	switch strings.ToLower(strings.TrimSpace(a.line())) {
	case "y", "yes":
		return nil
	}
	return screen.ErrDeclined
}

// line reads what a person types, up to the end of the line; nothing if they interrupt it.
func (a *app) line() string {
	typed := make(chan string, 1)
	go func() {
		line, err := bufio.NewReader(a.in).ReadString('\n')
		if err != nil && line == "" {
			fmt.Fprintln(a.Err) // the end of the input: what follows is on a line of its own
		}
		typed <- line
	}()
	select {
	case line := <-typed:
		return line
	case <-a.ctx.Done():
		fmt.Fprintln(a.Err)
		return ""
	}
}

// goOn settles whether what was shown is done: not if something blocks it, nor
// for a preview; else it asks. stop says that all is said.
func (a *app) goOn(blocked error, preview bool, question string) (stop bool, err error) {
	switch {
	case blocked != nil:
		return true, blocked
	case preview:
		a.SayPreview()
		return true, nil
	}
	return false, a.confirm(question, true, "--yes")
}

// choose asks for one of several things.
func choose[T comparable](a *app, title, describe string, options []huh.Option[T]) (T, error) {
	var v T
	s := huh.NewSelect[T]().Title(title).Description(describe).Options(options...).Value(&v).Height(
		min(len(options)+4, 16))
	return v, a.form(s)
}

func (a *app) form(f huh.Field) error {
	err := huh.NewForm(huh.NewGroup(f)).WithTheme(huh.ThemeFunc(huh.ThemeBase)).WithInput(a.in).WithOutput(
		a.RawErr).RunWithContext(a.ctx)
	if errors.Is(err, huh.ErrUserAborted) {
		return screen.ErrDeclined
	}
	return err
}

// docIf is a document where there is no error in its place.
func docIf(err error, d screen.Doc) screen.Doc {
	if err != nil {
		return nil
	}
	return d
}

// emitIf prints a document, if one is wanted and nothing went wrong.
func (a *app) emitIf(err error, d screen.Doc) error {
	if err != nil || !a.AsJSON {
		return err
	}
	return a.emit(d)
}
