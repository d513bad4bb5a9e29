package cli

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"
)

// A screen is where people, or programs with --json, read what a command says.
type screen struct {
	out    io.Writer // colours are taken out where the terminal has none
	err    io.Writer
	rawOut *os.File
	rawErr *os.File

	home    string // which is written as ~
	json    bool   // one document at the end, and nothing else
	quiet   bool
	verbose bool
}

// colours wraps the outputs so that styles are dropped where the terminal,
// NO_COLOR or the person does not want them.
func (a *screen) colours(off bool) {
	out, err := colorprofile.NewWriter(a.rawOut, os.Environ()), colorprofile.NewWriter(a.rawErr, os.Environ())
	if off {
		out.Profile, err.Profile = colorprofile.NoTTY, colorprofile.NoTTY
	}
	a.out, a.err = out, err
}

// note writes a line for people to standard error.
func (a *screen) note(format string, args ...any) {
	fmt.Fprintf(a.err, "nexlin: "+format+"\n", args...)
}

// usageError is a wrong command line.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

// shownError is a refusal whose findings stand on the screen already.
type shownError struct{ error }

func (e *shownError) Unwrap() error { return e.error }

var errConsent = errors.New("a consent is missing")

// Exit codes; the README promises them.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitRefused  = 3
	exitProblems = 4
	exitStopped  = 5
	exitBusy     = 6
	exitAway     = 7
)

// outIsTerminal reports whether somebody looks at the output as it is.
func (a *screen) outIsTerminal() bool { return term.IsTerminal(int(a.rawOut.Fd())) }

// say prints what only people read.
func (a *screen) say(format string, args ...any) {
	if !a.json {
		a.print(format, args...)
	}
}

func (a *screen) sayPreview() {
	if !a.json {
		a.print("")
		a.print("this was a preview: nothing was changed")
	}
}
