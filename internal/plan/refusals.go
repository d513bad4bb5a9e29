package plan

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// A RefusedError ends an act before anything has changed: blockers were
// found, or a consent is missing.
type RefusedError struct {
	Findings []finding.Finding
}

// Refused is the refusal for these findings.
func Refused(findings ...finding.Finding) *RefusedError { return &RefusedError{findings} }

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
	return e.Only(finding.InUse, finding.SocketsLive, finding.FolderBusy, finding.HeldInUse, finding.ProgramRuns)
}

// OnlyAway reports that nothing but an absent drive stands in the way.
func (e *RefusedError) OnlyAway() bool {
	return e.Only(finding.DriveAway, finding.DriveSwapped, finding.Covered)
}

func (e *RefusedError) Only(codes ...finding.Code) bool {
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

// A NoRunError reports a name that is neither a run's nor a redirect's. It is a
// [ledger.ErrNotFound].
type NoRunError struct {
	Name string
	Near []string // what is called much like it; may be empty
}

func (e *NoRunError) Error() string {
	return fmt.Sprintf("neither a run nor a redirect is called %q", e.Name)
}
func (e *NoRunError) Unwrap() error { return ledger.ErrNotFound }

// WhyStopped is what the ledger says of a run that stopped with an error.
func WhyStopped(err error) string {
	if errors.Is(err, context.Canceled) {
		return "it was interrupted"
	}
	return err.Error()
}

// Final says that undo does not take the run back, but ends it.
func (e *StoppedError) Final() bool { return TraitsOf(e.Kind).Final }

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

// A ManagedError reports a redirect that an administrator has made for this account.
type ManagedError struct {
	Name string
	Link string
}

func (e *ManagedError) Error() string {
	return fmt.Sprintf("%s was redirected by the administrator, and is in the administrator's hands", e.Name)
}

func (e *NameError) Error() string { return fmt.Sprintf("no redirect is called %q", e.Name) }

var ErrNothingStopped = errors.New("no run is stopped")

var ErrSeveralStopped = errors.New("several runs are stopped; name one")

var ErrNotUndoable = errors.New("this run can't be undone")

// ErrNothingToUndo and its like are answers to resume and undo.
var (
	ErrFinished = errors.New("this run has ended; there is nothing to resume")
)

// A TakenBackError reports a run of several that failed at one of them: what
// had been switched was switched back, and everything is as it was.
type TakenBackError struct {
	Run string
	At  string // the folder it failed at
	Err error
}

func (e *TakenBackError) Error() string {
	return fmt.Sprintf("run %s was taken back as a whole, since %s failed: %v", e.Run, pathtext.Show(e.At), e.Err)
}

func (e *TakenBackError) Unwrap() error { return e.Err }

func RunStopped(row ledger.RunRow, path string) finding.Finding {
	name := strings.TrimPrefix(row.Redirect, "-") // of a folder that is no redirect
	return finding.New(finding.RunStopped, path, "run %s (%s of %s) was stopped before its end", row.ID, row.Kind,
		name).Named(name).OfRun(row.ID)
}

// A NothingStoppedError reports that no run is stopped, and none was named.
type NothingStoppedError struct {
	Last ledger.RunRow // the newest run, if it can be taken back; without an id if not
}

func (e *NothingStoppedError) Error() string { return ErrNothingStopped.Error() }

func (e *NothingStoppedError) Unwrap() error { return ErrNothingStopped }
