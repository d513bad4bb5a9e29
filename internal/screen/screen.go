// Package screen tells people, and programs with --json, what the core has found, is going
// to do, has done, and what went wrong. It decides nothing and asks nothing.
package screen

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"nexlin/internal/typed"
)

// Lines are where people, or programs with --json, read what a command says.
type Lines struct {
	Out    io.Writer // colours are taken out where the terminal has none
	Err    io.Writer
	RawOut *os.File
	RawErr *os.File

	Home    string // which is written as ~
	AsJSON  bool   // one document at the end, and nothing else
	Quiet   bool
	Verbose bool
}

// A Screen shows there what the core has found and done.
type Screen struct{ Lines }

// Colours wraps the outputs so that styles are dropped where the terminal,
// NO_COLOR or the person does not want them.
func (a *Lines) Colours(off bool) {
	wrapped := func(f *os.File) *colorprofile.Writer {
		w := colorprofile.NewWriter(f, os.Environ())
		if off || !takesColours(f) {
			w.Profile = colorprofile.NoTTY
		}
		return w
	}
	a.Out, a.Err = wrapped(a.RawOut), wrapped(a.RawErr)
}

// Note writes a line for people to standard error.
func (a *Lines) Note(format string, args ...any) {
	a.text(a.Err, "nexlin: ", fmt.Sprintf(format, args...))
}

// Usage is a wrong command line, a *[typed.MistypedError]; next is what may be done instead,
// the command's help if nothing is.
func Usage(text string, next ...string) error { return &typed.MistypedError{What: text, Next: next} }

// ErrConsent is a question that nobody is there to answer.
var ErrConsent = errors.New("a consent is missing")

// ErrDeclined is a question that a person has answered with no, or has turned away from. It
// is no error of theirs.
var ErrDeclined = errors.New("stopped, as was asked")

// Exit codes; the README promises them.
const (
	ExitDone     = 0
	ExitFailed   = 1
	ExitUsage    = 2
	ExitRefused  = 3
	ExitProblems = 4
	ExitStopped  = 5
	ExitBusy     = 6
	ExitAway     = 7
)

// outIsTerminal reports whether somebody looks at the output as it is.
func (a *Lines) outIsTerminal() bool { return term.IsTerminal(int(a.RawOut.Fd())) }

// Say prints what only people read.
func (a *Lines) Say(format string, args ...any) {
	if !a.AsJSON {
		a.Print(format, args...)
	}
}

func (a *Lines) SayPreview() {
	if !a.AsJSON {
		a.Print("")
		a.Print("this was a preview: nothing was changed")
	}
}
