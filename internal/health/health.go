// Package health looks after redirects: whether each is good, and if not,
// what the true cause is and the one thing that mends it.
//
// It changes no byte of a person's: a trial makes and removes a probe file
// and puts the folder's times back. It mends nothing itself.
package health

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/redirect"
)

// A State of a redirect, from a closed list.
type State string

// The states.
const (
	Good       State = "good"
	Away       State = "away"      // its drive is not here
	Elsewhere  State = "elsewhere" // its drive is here, at another place
	Split      State = "split"     // a real folder stands where the link was
	Broken     State = "broken"
	Detached   State = "detached"
	Unfinished State = "unfinished"
)

// lowSpace is the share of a drive below which little room is left.
const lowSpace = 20 // one part in twenty

// A Report is what was found about one redirect.
type Report struct {
	Redirect ledger.Redirect
	State    State
	Present  bool   // its drive is here
	Mount    string // where; empty if it is away
	Held     []ledger.Held
	Findings []finding.Finding
	Deep     *redirect.Deep // what CheckDeep read; nil otherwise
}

// warn reports a finding that stops nothing here: check only tells.
func (r *Report) warn(code finding.Code, path, message string) {
	r.find(code, path, message, "")
	last := &r.Findings[len(r.Findings)-1]
	*last = last.As(finding.Warning)
}

func (r *Report) find(code finding.Code, path, message, run string) {
	r.Findings = append(r.Findings, finding.New(code, path, message,
		finding.Subject{Name: pathtext.Quote(r.Redirect.Name), Drive: r.Redirect.Drive.Label, Run: run}))
}

// Look finds out the state of a redirect without touching its folder: for
// lists. Check looks closer.
func Look(e *redirect.Engine, r ledger.Redirect) (*Report, error) {
	out := &Report{Redirect: r, State: Good}
	var err error
	if out.Held, err = e.Ledger.HeldOf(r.Name); err != nil {
		return nil, err
	}
	if err := out.drive(e); err != nil {
		return nil, err
	}
	if err := out.link(); err != nil {
		return nil, err
	}
	if err := out.stopped(e); err != nil {
		return nil, err
	}
	return out, nil
}

// Check looks at link, drive, target, room and held originals of a
// redirect, and does the trial through both paths.
func Check(ctx context.Context, e *redirect.Engine, r ledger.Redirect) (*Report, error) {
	out, err := Look(e, r)
	if err != nil {
		return nil, err
	}
	if out.Present && out.State != Elsewhere && r.State != ledger.Ended {
		if err := out.target(e); err != nil {
			return nil, err
		}
	}
	live := r.Target
	if r.State == ledger.Ended {
		live = r.Link
	}
	for _, h := range out.Held {
		fs, err := e.CheckHeld(ctx, h, live)
		if err != nil {
			return nil, err
		}
		out.Findings = append(out.Findings, fs...)
	}
	return out, nil
}

// CheckDeep is [Check] that also reads every byte at the target, if its
// drive is here and it is in use.
func CheckDeep(ctx context.Context, e *redirect.Engine, r ledger.Redirect) (*Report, error) {
	out, err := Check(ctx, e, r)
	if err != nil || !out.Present || out.State == Elsewhere || r.State == ledger.Ended {
		return out, err
	}
	if out.Deep, err = e.CheckDeep(ctx, r); err != nil {
		return nil, err
	}
	out.Findings = append(out.Findings, out.Deep.Findings...)
	return out, nil
}

// worsen sets a state unless a graver one is known.
func (r *Report) worsen(s State) {
	if r.State == Good {
		r.State = s
	}
}

func (r *Report) drive(e *redirect.Engine) error {
	want := r.Redirect.Drive
	if r.Redirect.State == ledger.Ended {
		r.Present = true
		return nil
	}
	mount, found, err := e.Locate(want, r.Redirect.Target)
	if err != nil {
		return err
	}
	r.Present, r.Mount = found, mount
	switch {
	case !found:
		r.worsen(Away)
		r.warn(finding.DriveAway, r.Redirect.Target, fmt.Sprintf("%s is not here; the data of %s lies on it", pathtext.Show(want.Label), r.Redirect.Name))
	case mount != string(want.Mount):
		r.worsen(Elsewhere)
		r.find(finding.DriveElsewhere, r.Redirect.Target, fmt.Sprintf("%s is at %s, not at %s", pathtext.Show(want.Label), pathtext.Show(mount), pathtext.Show(string(want.Mount))), "")
	}
	return nil
}

// link looks at what stands at the link path.
func (r *Report) link() error {
	red := r.Redirect
	if red.State == ledger.Ended {
		return nil
	}
	parent, err := handle.OpenReal(filepath.Dir(red.Link))
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return nil // another account's: it is not ours to judge
		}
		r.worsen(Broken)
		r.find(finding.LinkMissing, red.Link, "the directory of the link is gone: "+pathtext.Show(filepath.Dir(red.Link)), "")
		return nil
	}
	defer parent.Release()
	st, err := parent.Stat(filepath.Base(red.Link))
	gone := errors.Is(err, fs.ErrNotExist)
	if err != nil && !gone {
		return err
	}
	if red.State == ledger.Detached && gone {
		r.worsen(Detached)
		return nil
	}
	switch {
	case gone:
		r.worsen(Broken)
		r.find(finding.LinkMissing, red.Link, "the link "+pathtext.Show(red.Link)+" is gone", "")
	case st.IsDir():
		r.State = Split
		r.find(finding.FolderSplit, red.Link, "a real folder stands at "+pathtext.Show(red.Link)+", where the link was", "")
	default:
		ours, err := link.Is(parent, filepath.Base(red.Link), red.Target)
		if err != nil {
			return err
		}
		if !ours {
			r.worsen(Broken)
			r.find(finding.LinkChanged, red.Link, describe(parent, red), "")
		}
	}
	return nil
}

func describe(parent *handle.Dir, red ledger.Redirect) string {
	text, err := parent.Readlink(filepath.Base(red.Link))
	if err != nil {
		return fmt.Sprintf("%s is no link any more", pathtext.Show(red.Link))
	}
	return fmt.Sprintf("%s leads to %s, not to %s", pathtext.Show(red.Link), pathtext.Show(text), pathtext.Show(red.Target))
}

func (r *Report) stopped(e *redirect.Engine) error {
	rows, err := e.Ledger.Unfinished()
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Redirect == r.Redirect.Name {
			r.worsen(Unfinished)
			r.find(finding.RunStopped, r.Redirect.Link, fmt.Sprintf("run %s (%s) was stopped before its end", row.ID, row.Kind), row.ID)
		}
	}
	return nil
}

// target looks at the folder with the data and tries it.
func (r *Report) target(e *redirect.Engine) error {
	red := r.Redirect
	target, err := handle.OpenReal(red.Target)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			r.warn(finding.TargetNoWrite, red.Target, "this account may not look into "+pathtext.Show(red.Target))
			return nil
		}
		r.worsen(Broken)
		r.find(finding.TargetMissing, red.Target, fmt.Sprintf("%s is here, but the target %s is not", pathtext.Show(red.Drive.Label), pathtext.Show(red.Target)), "")
		return nil
	}
	defer target.Release()
	if d, err := e.Drives.Of(red.Target); err == nil {
		r.room(&d)
	} else if !errors.Is(err, drive.ErrNoDrive) {
		return err
	}
	if err := target.Access(".", unix.W_OK|unix.X_OK); err != nil {
		r.warn(finding.TargetNoWrite, red.Target, "this account may not write in "+pathtext.Show(red.Target))
	} else if r.State == Good {
		if err := redirect.Try(red.Link, target); err != nil {
			r.State = Broken
			r.find(finding.TrialFailed, red.Link, err.Error(), "")
		}
	}
	r.note()
	return nil
}

func (r *Report) room(d *drive.Drive) {
	if d.ReadOnly {
		r.warn(finding.TargetNoWrite, r.Redirect.Target, d.Name()+" is mounted read-only")
	}
	if d.Free < d.Size/lowSpace {
		r.find(finding.SpaceLow, d.Mount, fmt.Sprintf("%s has %d%% of its room left", d.Name(), d.Free*100/max(d.Size, 1)), "")
	}
}

func (r *Report) note() {
	parent, err := handle.OpenReal(filepath.Dir(r.Redirect.Target))
	if err != nil {
		return
	}
	defer parent.Release()
	rec, err := parent.Beneath(drive.RecordDir)
	if err == nil {
		defer rec.Release()
		_, err = redirect.ReadNote(rec, r.Redirect.Name)
	}
	if err != nil && !errors.Is(err, fs.ErrPermission) {
		r.find(finding.NoteMissing, r.Redirect.Target, fmt.Sprintf("the target note of %s can't be read: %v", r.Redirect.Name, plain(err)), "")
	}
}

func plain(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return fs.ErrNotExist
	}
	return err
}
