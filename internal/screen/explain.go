package screen

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"nexlin/internal/accounts"
	"nexlin/internal/card"
	"nexlin/internal/discard"
	"nexlin/internal/drive"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/judge"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/selftest"
	"nexlin/internal/shell"
	"nexlin/internal/strict"
	"nexlin/internal/swap"
	"nexlin/internal/typed"
)

// A Fault is an error told to people and programs: what happened, to which
// path, what state things are in, and what to do next.
type Fault struct {
	Code    string
	Message string
	Path    string
	State   string
	Next    []string
	Exit    int
	Found   []finding.Finding
}

const (
	declined  = "declined"
	Untouched = "nothing was changed"
	together  = "to go on with all of this: "
)

// An Explainer says in words what went wrong.
type Explainer struct {
	*Screen
	Topic string // the command that help is there for; empty where there is no such command
	Dir   string // of the ledger
}

// Explain turns an error of the core into advice and an exit status.
func (a *Explainer) Explain(err error) Fault {
	if f, ok := a.explainRun(err); ok {
		return f
	}
	if f, ok := a.explainTogether(err); ok {
		return f
	}
	if f, ok := a.explainArchive(err); ok {
		return f
	}
	f := Fault{Code: "failed", Message: pathtext.Show(err.Error()), State: Untouched, Exit: ExitFailed}
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		f.Path = pathErr.Path
	}
	for _, explains := range []func(error, *Fault) bool{a.explainWords, explainDrive, a.explainLedger, explainRest} {
		if explains(err, &f) {
			break
		}
	}
	return f
}

// explainWords explains what a person has typed that means nothing.
func (a *Explainer) explainWords(err error, f *Fault) bool {
	var (
		mistake *strict.MistakeError
		noCard  *card.NotFoundError
		managed *plan.ManagedError

		interrupted *accounts.InterruptedError
		request     *accounts.RequestError
		mistyped    *typed.MistypedError
		changed     *judge.ChangedError
		name        *plan.NameError
	)
	switch {
	case errors.As(err, &mistyped):
		f.Code, f.Exit, f.Next = "usage", ExitUsage, mistyped.Next
		if len(f.Next) == 0 {
			f.Next = []string{strings.TrimSpace("nexlin help " + a.Topic)}
		}
	case errors.As(err, &changed):
		f.Code, f.Exit, f.Path = "not-as-recorded", ExitProblems, changed.First
		f.Next = []string{"nexlin check " + pathtext.Quote(changed.Name) +
			" --deep tells what people changed from what went bad by itself"}
	case errors.As(err, &mistake):
		looks := "card test"
		if f.Code = "card-mistake"; strings.HasPrefix(a.Topic, "accounts") {
			f.Code, looks = "accounts-file-mistake", "accounts check"
		}
		f.Exit, f.Path = ExitUsage, mistake.File
		f.Next = []string{"put it right there; `nexlin " + looks + " " + pathtext.Quote(mistake.File) + "` looks again"}
	case errors.As(err, &request):
		f.Code, f.Exit, f.Next = "usage", ExitUsage, []string{"the documentation of the module names its arguments"}
	case errors.As(err, &noCard):
		f.Code, f.Exit, f.Next = "no-such-card", ExitUsage, near(noCard.Known, "nexlin card list shows them")
	case errors.As(err, &interrupted):
		f.Code, f.Exit, f.State = "interrupted", ExitStopped,
			"every folder is whole, at its old place or at its new one"
		f.Next = []string{"the same command once more goes on"}
	case errors.As(err, &managed):
		f.Code, f.Exit, f.Path, f.State = "administrators", ExitRefused, managed.Link, Untouched
		f.Next = []string{"ask the administrator for: nexlin " + a.Topic + " " + pathtext.Quote(managed.Name),
			"nexlin list and nexlin check show it"}
	case errors.As(err, &name):
		f.Code, f.Exit, f.Next = "no-such-redirect", ExitUsage, near(name.Near, "nexlin list shows the names")
	default:
		return false
	}
	return true
}

// explainDrive explains that a drive is not here, or can't be looked into.
func explainDrive(err error, f *Fault) bool {
	var none *drive.NotFoundError
	var locked *drive.LockedError
	switch {
	case errors.As(err, &none):
		f.Code, f.Exit, f.Next = "no-such-drive", ExitAway,
			near(nearNames(none.Ref, none.Known), "nexlin drives shows the drives that are here")
		if len(none.Locked) > 0 {
			f.Next = append([]string{openIt}, f.Next...)
		}
	case errors.As(err, &locked):
		f.Code, f.Exit, f.Path, f.Next = "drive-locked", ExitAway, locked.Mount, []string{openIt}
	default:
		return false
	}
	return true
}

const openIt = "open the drive with its password, as in the file manager; then it is as it was"

// near asks for names that are much like what was typed, the first few; otherwise it says
// where they are shown.
func near(names []string, otherwise string) []string {
	if len(names) == 0 {
		return []string{otherwise}
	}
	return []string{"did you mean " + strings.Join(names[:min(len(names), 4)], " or ") + "?"}
}

// explainLedger explains what is wrong with the records, or with what was asked of them.
func (a *Explainer) explainLedger(err error, f *Fault) bool {
	var (
		state *ledger.StateDirError
		lost  *ledger.DamagedError
	)
	switch {
	case errors.As(err, &lost):
		dir := a.Dir // it was opened by that name
		file := filepath.Join(dir, filepath.Base(lost.File))
		f.Code, f.Exit, f.Path = "ledger-damaged", ExitFailed, file
		f.State = "no folder, link or drive was touched; what Nexlin knew of them can't be read"
		f.Next = []string{
			shell.Here.Rename(file, file+".damaged") + "   sets it aside; then:",
			"nexlin restore-links DRIVE   takes in what a drive says of itself, with the originals that are held " +
				"beside the links",
			"nexlin record LINK   takes in a link that no drive tells of",
			"the records of each run are still in " + a.Path(filepath.Join(dir, "runs")) +
				": frozen.mtree is what the copy was proven by",
		}
	case errors.As(err, &state):
		f.Code, f.Exit, f.Path, f.Next = "state-directory", ExitRefused, state.Dir,
			[]string{"--state-dir names another one"}
	case errors.Is(err, ledger.ErrBusy):
		f.Code, f.Exit, f.Next = "busy", ExitBusy, []string{"wait until it has ended; nexlin history shows it"}
	case errors.Is(err, plan.ErrNothingStopped):
		f.Code, f.Exit, f.Next = "nothing-stopped", ExitRefused,
			[]string{"nexlin history lists all runs; undo takes the id of one"}
		if none := (*plan.NothingStoppedError)(nil); errors.As(err, &none) && none.Last.ID != "" && a.Topic == "undo" {
			f.Next = slices.Insert(f.Next, 0, fmt.Sprintf("nexlin undo %s   takes back the last run, %s of %s",
				none.Last.ID, none.Last.Kind, strings.TrimPrefix(none.Last.Redirect, "-")))
		}
	case errors.Is(err, plan.ErrSeveralStopped), errors.Is(err, plan.ErrNotUndoable),
		errors.Is(err, plan.ErrFinished), errors.Is(err, ledger.ErrNotFound):
		f.Code, f.Exit, f.Next = "no-such-run", ExitRefused, []string{"nexlin history lists all runs"}
		if none := (*plan.NoRunError)(nil); errors.As(err, &none) {
			f.Next = near(none.Near, f.Next[0])
		}
	default:
		return false
	}
	return true
}

// explainRest explains what is left.
func explainRest(err error, f *Fault) bool {
	var (
		begun  *selftest.NotBegunError
		trial  *execute.TrialError
		broken *swap.BrokenError
	)
	switch {
	case errors.As(err, &broken):
		f.Code, f.Path, f.Next = "not-as-left", broken.Path, []string{"nexlin check shows what stands where"}
	case errors.Is(err, selftest.ErrBusy):
		f.Code, f.Exit = "busy", ExitBusy
	case errors.As(err, &begun):
		f.Code, f.Exit = "selftest-not-begun", ExitRefused
	case errors.As(err, &trial):
		f.Code, f.Path = "trial-failed", trial.Path
	case errors.Is(err, context.Canceled):
		f.Code, f.Message = "interrupted", "it was interrupted before anything was done"
	case errors.Is(err, ErrConsent):
		f.Code, f.Exit = "consent-missing", ExitRefused
	case errors.Is(err, ErrDeclined):
		f.Code, f.Exit = declined, ExitRefused
	case errors.Is(err, handle.ErrNotFile), errors.Is(err, handle.ErrTooLarge):
		f.Code, f.Exit = "file-unusable", ExitRefused
		f.Next = []string{"look at what stands there, set it aside under another name, and try again"}
	case errors.Is(err, fs.ErrPermission):
		f.Code, f.Next = "permission", []string{"run as the account that owns it, or as administrator"}
	default:
		return false
	}
	return true
}

// explainRun explains the errors of a run.
func (a *Explainer) explainRun(err error) (Fault, bool) {
	var stopped *plan.StoppedError
	var refused *plan.RefusedError
	var kept *discard.KeptError
	var ended *discard.EndedError
	switch {
	case errors.As(err, &ended):
		f := a.Explain(ended.Err)
		f.Message = fmt.Sprintf("run %s (%s) is ended, since by now something stands in its way: %s", ended.Run,
			plan.KindDiscard, f.Message)
		f.State = "what it had deleted stays deleted, the rest is held as before"
		f.Next = append(f.Next, "nexlin discard-original "+pathtext.Quote(ended.Name)+"   asks anew")
		return f, true
	case errors.As(err, &kept):
		f := a.Explain(kept.Err)
		f.Message = "the move is done, and the original is still held: " + f.Message
		f.State = a.Path(kept.Link) + " leads to the new place; both copies are there"
		f.Next = append(f.Next, "nexlin discard-original "+pathtext.Quote(kept.Name)+"   tries it again")
		return f, true
	case errors.As(err, &stopped):
		return a.explainStopped(stopped), true
	case errors.As(err, &refused):
		f := Fault{Code: "refused", Message: pathtext.Show(refused.Error()), State: Untouched, Found: refused.Findings}
		if b := finding.Telling(refused.Findings); len(b) > 0 {
			f.Code, f.Path, f.Message = string(b[0].Code), b[0].Path, pathtext.Show(b[0].Message)
			for _, x := range b {
				if !slices.Contains(f.Next, x.Remedy) {
					f.Next = append(f.Next, x.Remedy)
				}
			}
			if all := acceptable(b); len(all) > 1 {
				f.Next = append(f.Next, together+"`"+AcceptFlags(all)+"`")
			}
		}
		f.Exit = Refusal(refused)
		return f, true
	}
	return Fault{}, false
}

// stoppedStates says how things stand when a run of a kind was stopped before its
// switch, and after it; of a kind that is not here that is told in general.
var stoppedStates = map[string]map[bool]string{
	plan.KindMoveTogether: severalStopped,
	plan.KindBackTogether: severalStopped,
	plan.KindMend:         either("the data on the drive was not touched"),
	plan.KindRestore:      either("the data on the drive was not touched"),
	plan.KindRenew:        either("the data on the drive was not touched"),
	plan.KindDiscard:      either("the folder in use is whole; part of the held original may be gone already"),
	plan.KindHandover: either("the store is whole: the engine has it, or its proven archive is held beside " +
		"the new place"),
	plan.KindAhead: either("there is no folder yet; at most an empty place for it was made, and the way there"),
	plan.KindMerge: {false: "{link} is the real folder still, and whole; everything the target had is there"},
}

var severalStopped = map[bool]string{
	false: "every folder is whole; none leads to its new place yet",
	true:  "every folder is whole; they lead to their new places",
}

func either(state string) map[bool]string { return map[bool]string{false: state, true: state} }

// Refusal is the exit status of a refusal.
func Refusal(r *plan.RefusedError) int {
	switch {
	case r.OnlyBusy():
		return ExitBusy
	case r.OnlyAway():
		return ExitAway
	}
	return ExitRefused
}

func (a *Explainer) explainStopped(s *plan.StoppedError) Fault {
	f := Fault{Code: "stopped", Path: s.Link, Exit: ExitStopped}
	why := a.reason(s)
	f.Message = fmt.Sprintf("run %s (%s) stopped: %s", s.Run, s.Kind, why)
	if s.At != "" {
		f.Path = s.At
	}
	if s.Phase != "" {
		f.Message = fmt.Sprintf("run %s (%s) stopped in %s: %s", s.Run, s.Kind, s.Phase, why)
	}
	f.State = fmt.Sprintf("%s is as it was, whole, at its old place", a.Path(s.Link))
	if s.Switched {
		f.State = fmt.Sprintf("%s leads to the new place; both copies are there", a.Path(s.Link))
	}
	if state := stoppedStates[s.Kind][s.Switched]; state != "" {
		f.State = strings.ReplaceAll(state, "{link}", a.Path(s.Link))
	}
	switch {
	case s.Taken:
		f.State = fmt.Sprintf("something else stands at %s; the folder is whole, as %s", a.Path(s.Link),
			a.Path(s.Aside))
	case s.Aside != "":
		f.State = fmt.Sprintf("for this moment nothing stands at %s; the folder is whole, as %s", a.Path(s.Link),
			a.Path(s.Aside))
	}
	f.Next = []string{"nexlin resume " + s.Run + "   goes on", "nexlin undo " + s.Run + "     takes it back"}
	if s.Final() {
		f.Next[1] = "nexlin undo " + s.Run + "     ends it: what is deleted stays deleted, the rest stays held"
	}
	if next, ok := explainLocked(s.Err, s.Run); ok {
		f.Code, f.Exit = "store-locked", ExitStopped
		f.Next = append(f.Next, next)
	}
	if errors.Is(s.Err, handle.ErrScanned) {
		f.Next = append([]string{"look at it in the scanner: let it through, or have it set aside"}, f.Next...)
	}
	if errors.Is(s.Err, plan.ErrStillChanging) {
		f.Exit, f.Code = ExitBusy, "still-changing"
		for _, w := range s.Writers {
			f.Next = append(f.Next, "it is written to by "+w)
		}
	}
	if busy := (*swap.BusyError)(nil); errors.As(s.Err, &busy) {
		f.Exit, f.Code = ExitBusy, "held-by-a-program"
		f.Next = append([]string{"quit the programs that have the folder or something in it open"}, f.Next...)
	}
	// What one of several refuses is told as when it is alone.
	if refused := (*plan.RefusedError)(nil); errors.As(s.Err, &refused) {
		f.Found, f.Exit = refused.Findings, Refusal(refused)
		for i, b := range finding.Blockers(refused.Findings) {
			f.Next = slices.Insert(f.Next, i, b.Remedy)
		}
	}
	return f
}

// reason names the true cause in words where an error number says little.
func (a *Explainer) reason(s *plan.StoppedError) string {
	err, drv, at := s.Err, "the drive", ""
	if s.Drive != "" {
		drv = pathtext.Show(s.Drive)
	}
	if s.At != "" {
		at = ", at " + a.Path(s.At)
	}
	for _, c := range []struct {
		is   bool
		says string
	}{
		{errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT), " is full"},
		{errors.Is(err, syscall.EROFS), " can only be read by now"},
		{handle.Damaged(err), " reports an input/output error"},
		{handle.Gone(err), " is gone"},
	} {
		if c.is {
			return drv + c.says + at
		}
	}
	switch {
	case errors.Is(err, context.Canceled):
		return "it was interrupted"
	case ledger.IsFull(err):
		return drv + " is full"
	case ledger.IsDrive(err):
		return drv + " can't be written: " + pathtext.Show(err.Error())
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return "too many files are open on this machine" + at
	case errors.Is(err, os.ErrPermission):
		return "this account may not do that: " + pathtext.Show(err.Error())
	}
	return pathtext.Show(err.Error())
}

func nearNames(ref string, known []string) []string {
	var out []string
	for _, k := range known {
		if naming.Near(ref, k) {
			out = append(out, k)
		}
	}
	return out
}

func FaultDoc(f Fault) Doc {
	return Doc{
		"code": f.Code, "message": f.Message, "path": f.Path, "state": f.State,
		"next": strings.Join(f.Next, "; "), "exit": f.Exit,
	}
}

// Tell says to people what went wrong: first what happened, then how things are, then what
// to do. Of a refusal, every reason stands with its own way out.
func (a *Lines) Tell(f Fault) {
	if f.Code == declined {
		fmt.Fprintf(a.Err, "Stopped, as you asked. %s%s.\n", strings.ToUpper(f.State[:1]), f.State[1:])
		return
	}
	reasons := finding.Telling(f.Found)
	code := ""
	if len(reasons) > 0 {
		code = coded(reasons[0])
	}
	a.text(a.Err, "nexlin: "+Bad.Render("error:")+" ", a.Said(f.Message)+code)
	if f.State != "" {
		a.text(a.Err, "nexlin: state: ", a.Said(f.State))
	}
	if len(reasons) > 0 {
		a.reasons(reasons)
		f.Next = slices.DeleteFunc(f.Next, func(s string) bool {
			return slices.ContainsFunc(reasons, func(r finding.Finding) bool { return r.Remedy == s })
		})
	}
	for i, n := range f.Next {
		if i == 8 {
			break
		}
		a.text(a.Err, "nexlin: hint: ", n)
	}
}

// reasons are what stands in the way, the first of which was said already.
func (a *Lines) reasons(reasons []finding.Finding) {
	for i, f := range reasons {
		if i == 1 {
			fmt.Fprintln(a.Err, "also in the way:")
		}
		if i > 0 {
			a.text(a.Err, "  ", a.Said(f.Message)+coded(f))
		}
		a.morePaths(a.Err, f)
		a.text(a.Err, "    → ", f.Remedy)
	}
}

// coded is a finding's code, as it stands behind its message.
func coded(f finding.Finding) string { return "  " + Faint.Render("["+string(f.Code)+"]") }

// acceptable gives the codes of findings that may all be accepted; nil if one
// of them may not.
func acceptable(fs []finding.Finding) (out []finding.Code) {
	for _, f := range fs {
		if !finding.Acceptable(f.Code) {
			return nil
		}
		if !slices.Contains(out, f.Code) {
			out = append(out, f.Code)
		}
	}
	return out
}
