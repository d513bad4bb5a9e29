// Package forget takes a redirect out of the ledger, and touches no data.
package forget

import (
	"errors"
	"path/filepath"
	"slices"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
)

// A Forgetting is what the ledger forgets, and what stays where it lies: no byte
// of a person's is touched.
type Forgetting struct {
	Name     string
	Redirect *ledger.Redirect // nil if only runs bear the name
	Link     string           // the link path; empty if no run says it
	At       string           // what stands there: see the At… values
	Here     bool             // the drive with the data is here
	Runs     []ledger.RunRow  // that go out of the ledger, newest first
	Held     []ledger.Held    // that stay as ordinary folders
	Parts    []string         // copies that were begun and stay unfinished
	Findings []finding.Finding
}

// What stands at a link path.
const (
	AtLink   = "link"   // a link that leads to the data
	AtFolder = "folder" // a real folder
	AtNone   = "nothing"
	AtOther  = "something-else"
)

// MakePlan says what lies where of a redirect, and which runs are its. A
// *NameError if neither a redirect nor a run has the name.
func MakePlan(e *engine.Engine, arg, cwd string) (*Forgetting, error) {
	f := &Forgetting{Name: arg}
	r, err := e.Lookup(arg, cwd)
	unknown := (*plan.NameError)(nil)
	switch {
	case err == nil:
		f.Name, f.Redirect, f.Link = r.Name, &r, r.Link
	case !errors.As(err, &unknown):
		return nil, err
	}
	rows, err := e.Ledger.Runs()
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if row.Redirect == f.Name {
			f.Runs = append(f.Runs, row)
		}
	}
	if f.Redirect == nil && len(f.Runs) == 0 {
		return nil, unknown
	}
	if f.Held, err = e.Ledger.HeldOf(f.Name); err != nil {
		return nil, err
	}
	for _, row := range slices.Clone(f.Runs) {
		if err := forgetRun(e, f, row); err != nil {
			return nil, err
		}
	}
	return f, whatStands(e, f)
}

func (f *Forgetting) busy() finding.Finding {
	return finding.New(finding.FolderBusy, f.Link, "another Nexlin is at work on %s", f.Name).Named(f.Name)
}

// forgetRun finds out what a run leaves: a copy that was begun, and the run of
// several that it was a part of.
func forgetRun(e *engine.Engine, f *Forgetting, row ledger.RunRow) error {
	if row.State == ledger.Going {
		f.Findings = append(f.Findings, f.busy())
		return nil
	}
	p, err := plan.Of(row)
	if err != nil {
		return nil // nothing can be read in it; it goes
	}
	if f.Link == "" {
		f.Link = p.Link
	}
	if part := filepath.Join(p.Into, naming.Part(p.Run)); p.Into != "" && row.State == ledger.Stopped {
		if _, err := handle.Lstat(part); err == nil {
			f.Parts = append(f.Parts, part)
		}
	}
	if p.Together == "" {
		return nil
	}
	up, err := e.Ledger.Run(p.Together)
	switch {
	case errors.Is(err, ledger.ErrNotFound):
		return nil
	case err != nil:
		return err
	case up.State == ledger.Going:
		f.Findings = append(f.Findings, f.busy())
	default:
		f.Runs = append(f.Runs, up) // the others of it stand by themselves from now on
	}
	return nil
}

func whatStands(e *engine.Engine, f *Forgetting) error {
	text := ""
	if f.Redirect != nil {
		w, err := e.Whereabouts(f.Redirect.Drive, f.Redirect.Target)
		if err != nil {
			return err
		}
		f.Here, text = w.Found, f.Redirect.LinkText()
	}
	f.At = AtNone
	if f.Link == "" {
		return nil
	}
	parent, err := handle.OpenReal(filepath.Dir(f.Link))
	if err != nil {
		return nil // whatever is there, it is not this account's to see, or away
	}
	defer parent.Release()
	st, err := parent.Stat(filepath.Base(f.Link))
	switch {
	case err != nil:
	case st.IsDir():
		f.At = AtFolder
	case st.IsSymlink():
		f.At = AtOther
		if is, err := parent.Readlink(filepath.Base(f.Link)); err == nil && is == text {
			f.At = AtLink
		}
	default:
		f.At = AtOther
	}
	return nil
}

// Forget takes a redirect and its runs out of the ledger and touches nothing
// else. A *RefusedError if a run of it is at work.
func Forget(e *engine.Engine, f *Forgetting) error {
	if len(finding.Blockers(f.Findings)) > 0 {
		return &plan.RefusedError{Findings: f.Findings}
	}
	if err := e.Ledger.UseSpare(); err != nil {
		return err
	}
	var ids []string
	for _, row := range f.Runs {
		taken, err := e.Ledger.Take(row.ID)
		if errors.Is(err, ledger.ErrBusy) {
			return plan.Refused(f.busy())
		}
		if err != nil {
			return err
		}
		defer taken.Release()
		ids = append(ids, row.ID)
	}
	if err := e.Ledger.Do(func(t *ledger.Tx) error { return t.Forget(f.Name, ids) }); err != nil {
		return err
	}
	for _, id := range ids {
		if err := e.Ledger.DropRunDir(id); err != nil {
			return err
		}
	}
	return nil
}
