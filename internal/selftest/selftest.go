// Package selftest plays the whole life of a redirect between a home and another drive, with a
// folder of its own making and with records of its own, by the program as people run it: for a
// person who wants to know, before anything of theirs is touched, what their system and
// their drive do. It leaves nothing; what one that was killed has left, the next takes away.
//
// It knows the program's commands and documents, and what drives can keep. It does not know
// how anything is done, and it touches nothing outside the two directories that it makes.
package selftest

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
)

// Time is how long a self-test may take; what is not played by then counts as failed.
const Time = 2 * time.Minute

// needed is the room that a self-test wants on both drives, in bytes: the folder, a copy of it, and
// some more.
const needed = 64 << 20

// An Outcome says how a step went.
type Outcome string

// The outcomes.
const (
	Done     Outcome = "done"
	Failed   Outcome = "failed"
	NotTried Outcome = "not tried" // since an earlier one failed
)

// A Step is one thing that was played. Said is why it failed, or what is worth knowing about
// it; it has no private names in it, and may be empty.
type Step struct {
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	Seconds float64 `json:"seconds"`
	Said    string  `json:"said,omitempty"`
}

// A Side is one of the two drives.
type Side struct {
	FS      string          `json:"fs"`
	Size    int64           `json:"size"` // in bytes
	Keeps   drive.Abilities `json:"-"`    // as tried
	Network bool            `json:"network,omitempty"`
}

// A Result is what a self-test found. Nothing in it names a person, a folder or a drive.
type Result struct {
	System   string    `json:"system"` // as Go names it, with the architecture
	Version  string    `json:"version"`
	At       time.Time `json:"at"`
	Home     Side      `json:"home"`
	Target   Side      `json:"target"`
	Entries  int       `json:"entries"`            // of the folder that was moved
	LeftOut  []string  `json:"left_out,omitempty"` // kinds of entry that one of the drives can't keep
	Accepted []string  `json:"accepted,omitempty"` // codes of losses that were accepted for the test
	Steps    []Step    `json:"steps"`
	Left     string    `json:"left,omitempty"` // why something could not be taken away; empty if nothing is left
}

// Well reports whether every step went as it should and nothing is left.
func (r *Result) Well() bool {
	return r.Left == "" && !slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Outcome != Done })
}

// Options of a self-test.
type Options struct {
	Program string   // this program's own file
	Args    []string // options that each command gets
	Version string
	Home    string   // the home's directory, absolute
	Into    string   // a directory on another drive, absolute
	Env     []string // the environment of the commands
	Drives  *drive.System
	Step    func(name string) // called as each step begins; may be nil
}

var (
	// ErrSameDrive reports a directory that lies on the home's own drive.
	ErrSameDrive = errors.New("it lies on the same drive as the home: name a directory on another one")
	// ErrBusy reports that another self-test is at work.
	ErrBusy = errors.New("another self-test of this account is at work: wait until it has ended")
)

// A NotBegunError reports why a self-test could not begin; nothing was changed.
type NotBegunError struct{ Err error }

func (e *NotBegunError) Error() string { return "the self-test did not begin: " + e.Err.Error() }
func (e *NotBegunError) Unwrap() error { return e.Err }

// Run plays it. Where Into is not there yet, the nearest directory above it is meant. The error is
// a *[NotBegunError]: a path error, [ErrSameDrive], [ErrBusy], too little room, or that a directory
// is in another account's hands.
func Run(ctx context.Context, o Options) (*Result, error) {
	ctx, cancel := context.WithTimeout(ctx, Time)
	defer cancel()
	var home, other drive.Drive
	var at *place
	var err error
	if o.Into, err = drive.Existing(o.Into); err == nil {
		home, other, err = o.drives()
	}
	if err == nil {
		at, err = makePlace(o.Home, o.Into, o.Drives)
	}
	if err != nil {
		return nil, &NotBegunError{err}
	}
	r := &Result{System: runtime.GOOS + "/" + runtime.GOARCH, Version: o.Version, At: time.Now().UTC(),
		Home: side(home), Target: side(other)}
	p := &play{ctx: ctx, o: &o, at: at, r: r, records: filepath.Join(at.source, "records")}
	p.scrub = strings.NewReplacer(p.private()...)
	p.play()
	err = at.takeAway()
	switch {
	case err != nil:
		r.Left = p.scrub.Replace(err.Error())
	case len(at.kept.Targets) > 0:
		r.Left = "what an earlier self-test made on a drive that is not here: the next one takes it away once it is"
	}
	return r, nil
}

// drives finds the two drives and looks whether a test between them says anything.
func (o *Options) drives() (home, into drive.Drive, err error) {
	if home, err = o.Drives.Of(o.Home); err != nil {
		return home, into, err
	}
	if into, err = o.Drives.Of(o.Into); err != nil {
		return home, into, err
	}
	if home.Same(&into) {
		return home, into, &fs.PathError{Op: "use", Path: o.Into, Err: ErrSameDrive}
	}
	for _, d := range []drive.Drive{home, into} {
		if d.Free < needed {
			return home, into, &fs.PathError{Op: "use", Path: d.Mount, Err: fmt.Errorf(
				"it has %d MiB free, and a self-test needs %d MiB on both drives", d.Free>>20, needed>>20)}
		}
	}
	if err = usable(o.Home, &home); err == nil {
		err = usable(o.Into, &into)
	}
	return home, into, err
}

// errOthers reports another account's directory, for an administrator.
var errOthers = errors.New("it belongs to another account: run the self-test as that account")

// usable wants a directory to be one in which this account may make things, and, for an
// administrator, one in which no other account could lead it elsewhere (I6); what a driver shows
// without permissions is everybody's, as for every command.
func usable(at string, on *drive.Drive) error {
	real, err := handle.Real(at)
	if err != nil {
		return err
	}
	d, err := handle.OpenReal(real)
	if err != nil {
		return err
	}
	defer d.Release()
	st, err := d.Self()
	if err == nil && os.Geteuid() == 0 && (st.UID != 0 || !on.Fuse && !st.AdministratorsAlone()) {
		err = errOthers
	}
	if err == nil {
		err = d.Trusted()
	}
	if err == nil {
		err = d.Access(".", handle.MayWrite|handle.MayEnter)
	}
	if err != nil {
		err = &fs.PathError{Op: "use", Path: at, Err: handle.Cause(err)}
	}
	return err
}

func side(d drive.Drive) Side { return Side{FS: d.FileSystem(), Size: d.Size, Network: d.Network} }

// private gives what must not be in a report, each with the word that takes its place: the longest
// path first.
func (p *play) private() []string {
	out := []string{p.at.source, "FOLDER", p.at.target, "TARGET"}
	for _, path := range []struct{ path, word string }{{p.o.Into, "DIR"}, {p.o.Home, "HOME"}} {
		if filepath.Dir(path.path) != path.path { // a root is in every path
			out = append(out, path.path, path.word)
		}
	}
	if name := filepath.Base(p.o.Home); len(name) > 2 {
		out = append(out, name, "ACCOUNT")
	}
	return out
}

// step plays one step, unless an earlier one failed.
func (p *play) step(name string, f func() error) {
	s := Step{Name: name, Outcome: NotTried}
	if !p.failed {
		if p.o.Step != nil {
			p.o.Step(name)
		}
		began := time.Now()
		p.note = ""
		err := f()
		said := p.note
		s.Outcome, s.Seconds = Done, time.Since(began).Seconds()
		if err != nil {
			p.failed = true
			s.Outcome, said = Failed, err.Error()
		}
		switch {
		case !p.failed:
		case errors.Is(p.ctx.Err(), context.DeadlineExceeded):
			said = fmt.Sprintf("the %v that a self-test may take were over", Time)
		case p.ctx.Err() != nil:
			said = "it was stopped here"
		}
		s.Said = p.scrub.Replace(said)
	}
	p.r.Steps = append(p.r.Steps, s)
}
