// Package redirect carries out the sequences that change where a folder's
// data lies: move, move on, bring-back, detach, discard-original, with
// resume and undo of each.
//
// What holds at every moment, by number in comments and tests:
//
//	I1  The link path resolves to a whole folder, the old or the new one.
//	I2  There is never a moment at which the only copy of a byte is
//	    unflushed or unverified.
//	I3  A run stopped anywhere can be finished by resume or taken back by
//	    undo; both can be repeated.
//	I4  Only what Nexlin made itself is deleted, and held entries on
//	    discard-original. A part stops being Nexlin's own when it gets its
//	    final name.
//	I5  Nothing is written below a path where a drive is expected unless
//	    that drive is there.
//	I6  Below a folder everything goes through handles that follow no link
//	    and cross no mount.
//	I7  Two Nexlins on one folder: the second one refuses.
//
// Recovery decides from what it finds on the disks together with the
// journal, never from the journal alone. The package asks nobody and prints
// nothing: what a person must decide comes back as findings.
package redirect

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"nexlin/internal/card"
	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// An Engine carries out runs. All fields but Progress are needed.
type Engine struct {
	*places.Places
	Progress transfer.Progress // may be nil
	Workers  int               // 0 follows the processors
	Ask      run.AskFunc       // asks a person to do what no command does; nil: nobody is there
	// CopyWithin is how old the newest archive of a target may be that is its
	// only copy otherwise; 0 stands for 30 days, and only tells.
	CopyWithin time.Duration
	Cards      []card.Card // the kinds of folder that are known; may be empty
	Env        []string    // the environment of commands that cards name, as KEY=value

	stopped func() ([]ledger.RunRow, error) // see AtOnce; nil outside it
}

// New makes an engine that works with a ledger and drives.
func New(l *ledger.Ledger, drives *drive.System) *Engine {
	e := &Engine{Places: &places.Places{Ledger: l, Drives: drives}}
	e.Places.Stopped = e.placesOf
	return e
}

// AtOnce gives an engine that looks at the drives once and remembers what it
// saw: for looking at many redirects in one moment, not for runs.
func (e *Engine) AtOnce() *Engine {
	c := *e
	c.Places = e.Places.AtOnce()
	c.stopped = sync.OnceValues(func() ([]ledger.RunRow, error) { return unfinishedRuns(e.Ledger) })
	return &c
}

// Unfinished lists the runs that were stopped, newest first.
func (e *Engine) Unfinished() ([]ledger.RunRow, error) {
	if e.stopped == nil {
		return unfinishedRuns(e.Ledger)
	}
	return e.stopped()
}

// placesOf gives the places where a stopped run goes on; none if its plan can't be
// read, which is told elsewhere.
func (e *Engine) placesOf(row ledger.RunRow) (out []places.Known) {
	plans, err := plansOf(e.Ledger, row)
	if err != nil {
		return nil
	}
	for _, p := range plans {
		if p.Into != "" {
			out = append(out, places.Known{Name: p.Name, Drive: p.IntoDrive, Path: p.Copy()})
		}
		if p.HeldIn != "" {
			out = append(out, places.Known{Name: p.Name, Drive: p.FromDrive, Path: p.HeldPath()})
		}
	}
	return out
}

// expected adds the finding of [Places.Expected] to a plan. It reports whether all is
// well.
func (e *Engine) expected(p *Plan, into, path string) (bool, error) {
	f, err := e.Expected(into, path)
	if f != nil {
		p.find(*f)
	}
	return f == nil && err == nil, err
}

// commands does what cards say.
func (e *Engine) commands() *run.Commands { return &run.Commands{Env: e.Env, Ask: e.Ask} }

// Methods: how programs are led to the target.
const (
	BySymlink = "symlink"
	BySetting = "setting"
)

// A RefusedError ends an act before anything has changed: blockers were
// found, or a consent is missing.
type RefusedError struct {
	Findings []finding.Finding
}

func (e *RefusedError) Error() string {
	b := finding.Blockers(e.Findings)
	if len(b) == 0 {
		return "refused"
	}
	return b[0].Message
}

// OnlyBusy reports that nothing but a program or another Nexlin at work
// stands in the way.
func (e *RefusedError) OnlyBusy() bool {
	return e.only(finding.InUse, finding.SocketsLive, finding.FolderBusy, finding.HeldInUse, finding.ProgramRuns)
}

// OnlyAway reports that nothing but an absent drive stands in the way.
func (e *RefusedError) OnlyAway() bool {
	return e.only(finding.DriveAway, finding.DriveSwapped, finding.Covered)
}

func (e *RefusedError) only(codes ...finding.Code) bool {
	blockers := finding.Blockers(e.Findings)
	for _, f := range blockers {
		if !strings.Contains(" "+join(codes)+" ", " "+string(f.Code)+" ") {
			return false
		}
	}
	return len(blockers) > 0
}

func join(codes []finding.Code) string {
	var b strings.Builder
	for _, c := range codes {
		b.WriteString(string(c) + " ")
	}
	return b.String()
}

// A StoppedError ends a run that had begun. The run is in the ledger as
// stopped: resume or undo goes on from there.
type StoppedError struct {
	Run      string
	Kind     string
	Phase    string
	Link     string
	Switched bool   // programs are led to the new place already
	Aside    string // where the folder is while neither it nor a link stands at the link path; empty otherwise
	Taken    bool   // and something else stands there
	Writers  []string
	At       string // the path that the error is about; empty if it is about none
	Drive    string // the drive that At lies on, or the ledger's, as people call it; may be empty
	Err      error
}

func (e *StoppedError) Error() string {
	return fmt.Sprintf("run %s stopped (%s): %v", e.Run, e.Phase, e.Err)
}
func (e *StoppedError) Unwrap() error { return e.Err }

// Final says that undo does not take the run back, but ends it.
func (e *StoppedError) Final() bool { return kindOf(e.Kind).final }

// ErrStillChanging stops a run whose folder does not come to rest.
var ErrStillChanging = errors.New("the folder keeps changing")

// A GoneError reports a drive that was taken away while a run was at work on
// it.
type GoneError struct {
	Drive string
	Path  string // where it was
}

func (e *GoneError) Error() string {
	return fmt.Sprintf("%s is not at %s any more", pathtext.Show(e.Drive), pathtext.Show(e.Path))
}

// A NameError reports a name or path that is no redirect.
type NameError struct {
	Name string
	Near []string
}

func (e *NameError) Error() string { return fmt.Sprintf("no redirect is called %q", e.Name) }

// ErrNothingToUndo and its like are answers to resume and undo.
var (
	ErrNothingStopped = errors.New("no run is stopped")
	ErrSeveralStopped = errors.New("several runs are stopped; name one")
	ErrNotUndoable    = errors.New("this run can't be undone")
	ErrFinished       = errors.New("this run has ended; there is nothing to resume")
)

// An Outcome is what a run did.
type Outcome struct {
	Run      string
	Kind     string
	State    string
	Phases   []run.Phase
	Plan     *Plan
	Space    []Space
	Copied   Count
	Verified Count
	Lent     int64    // files taken from the held original instead of copied
	Device   bool     // everything was read back from the device itself
	Aside    []string // what others had put into the part
	// undo of a pack or an unpack: what was whole and had its name already, and stays; empty if there is none
	Stays    string
	SetAside string // undo: where a copy went that is not Nexlin's to delete; empty if there was none
	Findings []finding.Finding

	Facts     []run.FactResult // handover: what was compared
	Archive   *Archive         // of a pack or an unpack; nil of anything else
	Discarded *Outcome         // of a move that discards its original: how that went; nil if it did not come to it
}

// A Count counts files; Seconds is the time it took.
type Count struct {
	Files, Bytes int64
	Seconds      float64
}

// Space is the room of one drive before and after. Bytes.
type Space struct {
	Drive                 string
	FreeBefore, FreeAfter int64
}

// Lookup finds a redirect by its name, or by the path of its link. The
// error is a *NameError with near names.
func (e *Engine) Lookup(arg, cwd string) (ledger.Redirect, error) {
	r, err := e.Ledger.Redirect(arg)
	if err == nil || !errors.Is(err, ledger.ErrNotFound) {
		return r, err
	}
	all, err := e.Ledger.Redirects(true)
	if err != nil {
		return r, err
	}
	path := places.Resolved(places.Absolute(arg, cwd))
	near := &NameError{Name: arg}
	for _, r := range all {
		if r.Link == path {
			return r, nil
		}
		if naming.Near(arg, r.Name) {
			near.Near = append(near.Near, r.Name)
		}
	}
	return ledger.Redirect{}, near
}
