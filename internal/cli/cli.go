// Package cli is the face of Nexlin: commands, questions, progress, text and
// JSON. It decides nothing about folders or drives; what a command does is
// done by the packages below, and what they return is rendered here.
//
// The rules of output: standard output has only what was asked for.
// Everything else goes to standard error after the program's name, without
// capital and full stop: `nexlin: error:`, `nexlin: hint:`. Questions are
// asked on a terminal only. A name that comes from a disk is printed so that
// it can't act on the terminal.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nexlin/internal/card"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/published"
	"nexlin/internal/screen"
	"nexlin/internal/typed"
)

// version is set by the linker for releases.
var version = "0.1.0-dev"

// app is what all commands share.
type app struct {
	*screen.Screen
	ctx context.Context
	in  *os.File

	stateDir     string
	standins     string
	config       string
	publishedDir string
	cardFile     string     // move, bring-back: a card that is given as a file
	once         *card.Card // that card, once it is read; nil without one
	tagsBelow    string
	noColor      bool
	yes          bool
	progressJSON bool

	command  string // name of the running command, for JSON
	topic    string // what help is there for it; empty where there is no such command
	exit     int
	docDone  bool // a JSON document is out
	did      bool // something was done before what is asked about now
	copyDays int  // check: see redirect.Engine.CopyWithin
	bannered bool // it was said that stand-ins are in force

	toldStopped bool // it was said which runs are stopped
}

// Main runs one command and returns its exit status.
func Main(args []string, in, out, err *os.File) int {
	// A pipe that is closed must not kill a run half-way: writes to it fail
	// with EPIPE instead, and are ignored.
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := stoppedBySignals()
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the process at once
	on := screen.Lines{RawOut: out, RawErr: err, Out: out, Err: err, Home: homeDir()}
	a := &app{ctx: ctx, in: in, Screen: &screen.Screen{Lines: on}}
	return a.run(args)
}

// stoppedBySignals is a context that ends at the first signal to stop. One that was ignored when Nexlin was
// started stays ignored, as nohup(1) and shells that start something in the background want it.
func stoppedBySignals() (context.Context, context.CancelFunc) {
	heard := slices.DeleteFunc([]os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP}, signal.Ignored)
	if len(heard) == 0 { // to NotifyContext none means all
		return context.WithCancel(context.Background())
	}
	return signal.NotifyContext(context.Background(), heard...)
}

func (a *app) run(args []string) (code int) {
	root := a.root()
	args = typed.Expanded(args, a.Home)
	root.SetArgs(args)
	root.SetOut(a.RawOut)
	root.SetErr(a.RawErr)
	defer func() {
		if p := recover(); p != nil {
			if a.Verbose {
				fmt.Fprintf(a.Err, "%s\n", debug.Stack())
			}
			code = a.fail(fmt.Errorf("internal error: %v", p))
		}
	}()
	a.Colours(hasFlag(args, "--no-color"))
	if err := root.ExecuteContext(a.ctx); err != nil {
		if a.command == "" {
			// Cobra's own errors come before any of ours runs: wrong usage.
			a.AsJSON = a.AsJSON || hasFlag(args, "--json")
			err = a.misused(root, args, err)
		}
		return a.fail(err)
	}
	return a.exit
}

// misused says what is wrong with a command line that no command has taken. What
// looks like a wrong option of Nexlin's own may be that of a command that there is
// not.
func (a *app) misused(root *cobra.Command, args []string, err error) error {
	cmd, _, e := root.Find(args)
	if e == nil && cmd != root {
		a.command = cmd.Name()
		if up := cmd.Parent(); up != nil && up != root {
			a.command = up.Name() + " " + cmd.Name()
		}
		a.topic = a.command
		return typed.WrongArgs(cmd.UseLine(), err)
	}
	for _, word := range args {
		if word == "--" {
			break
		}
		if !strings.HasPrefix(word, "-") {
			a.command, a.topic = word, ""
			return noCommand(root, word)
		}
	}
	return screen.Usage(err.Error())
}

func hasFlag(args []string, flag string) bool {
	for _, s := range args {
		if s == "--" {
			return false
		}
		if s == flag {
			return true
		}
	}
	return false
}

func homeDir() string {
	h, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Clean(h)
}

// Explain turns an error of the core into advice and an exit status.
func (a *app) explain(err error) screen.Fault {
	dir, _ := a.stateDirectory() // that it can't be found is the error
	f := (&screen.Explainer{Screen: a.Screen, Topic: a.topic, Dir: dir}).Explain(err)
	if a.did && errors.Is(err, screen.ErrDeclined) {
		f.State = "what was done before that stays done"
	}
	return f
}

// stateDirectory is where the ledger lies: the system's for an
// administrator, whatever HOME says.
func (a *app) stateDirectory() (string, error) {
	switch {
	case a.stateDir != "":
		return filepath.Abs(a.stateDir)
	case os.Geteuid() == 0:
		return systemState, nil
	}
	return filepath.Join(a.stateHome(), "nexlin"), nil
}

// drives are those of this machine, or the stand-ins that are in force.
func (a *app) drives() (*drive.System, error) {
	if a.standins == "" {
		return &drive.System{}, nil
	}
	drives, err := drive.WithStandins(a.standins)
	if err != nil {
		return nil, screen.Usage(err.Error())
	}
	// Said always: nobody shall take a stand-in for a drive.
	if !a.bannered && os.Getenv("NEXLIN_STANDINS_TOLD") != a.standins { // the demo has told it
		a.Note("stand-in drives are in force: %s", pathtext.Show(a.standins))
	}
	a.bannered = true
	return drives, nil
}

// engine opens the ledger and the drives. The caller closes the ledger.
func (a *app) engine(write bool) (*engine.Engine, func(), error) {
	dir, err := a.stateDirectory()
	if err != nil {
		return nil, nil, err
	}
	drives, err := a.drives()
	if err != nil {
		return nil, nil, err
	}
	open := ledger.OpenForReading
	if write {
		open = ledger.Open
	}
	l, err := open(dir)
	if err != nil {
		return nil, nil, err
	}
	e := engine.New(l, drives)
	e.Homes, e.Ask, e.Env = places.Homes(a.Home), a.askPerson, os.Environ()
	e.CardFolders = func(name string) ([]string, error) { return a.cardFolders(e, name) }
	e.TagsBelow = a.tagsBelow
	e.CopyWithin = time.Duration(max(a.copyDays, 0)) * 24 * time.Hour
	if err := a.giveCards(e); err != nil {
		_ = l.Close() // nothing was written
		return nil, nil, err
	}
	a.tellStopped(e)
	if os.Geteuid() != 0 {
		e.Managed, err = published.Read(a.publishedDir, uint32(os.Geteuid()))
		if err != nil {
			a.Note("what the administrator has redirected can't be read: %v", err)
		}
	}
	return e, func() {
		if write {
			a.publish(l)
		}
		_ = l.Close() // nothing is written after the last commit
	}, nil
}

// publish tells accounts what an administrator has redirected for them.
func (a *app) publish(l *ledger.Ledger) {
	if os.Geteuid() != 0 || a.publishedDir == published.Dir && l.Dir() != systemState {
		return // these are not the system's records
	}
	all, err := l.Redirects(false)
	if err == nil {
		err = published.Write(a.publishedDir, all)
	}
	if err != nil {
		a.Note("what was redirected for other accounts can't be published to them: %v", err)
	}
}

// systemState is where an administrator's records lie.
const systemState = "/var/lib/nexlin"

// engineHere is engine with the working directory, from which arguments count.
func (a *app) engineHere(write bool) (*engine.Engine, string, func(), error) {
	cwd, err := a.cwd()
	if err != nil {
		return nil, "", nil, err
	}
	e, done, err := a.engine(write)
	return e, cwd, done, err
}

func (a *app) cwd() (string, error) {
	d, err := os.Getwd()
	if err != nil {
		return "", fmt.Errorf("the working directory is gone: %w", err)
	}
	return d, nil
}

// grave keeps the gravest exit status of several results.
func (a *app) grave(code int) {
	rank := []int{screen.ExitDone, screen.ExitRefused, screen.ExitProblems, screen.ExitBusy, screen.ExitAway,
		screen.ExitFailed, screen.ExitUsage, screen.ExitStopped}
	at := func(c int) int {
		for i, r := range rank {
			if r == c {
				return i
			}
		}
		return 0
	}
	if at(code) > at(a.exit) {
		a.exit = code
	}
}

// runner makes a command's RunE that notes that it has begun: errors before
// that are wrong usage.
func (a *app) runner(f func(cmd *cobra.Command, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a.command = cmd.Name()
		if up := cmd.Parent(); up != nil && up.HasParent() {
			a.command = up.Name() + " " + cmd.Name()
		}
		a.topic = a.command
		return f(cmd, args)
	}
}
