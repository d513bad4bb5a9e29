package health

import (
	"context"
	"slices"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
)

// What an event is about.
const (
	DriveAttached   = "drive-attached"
	DriveDetached   = "drive-detached"
	RedirectChecked = "redirect"
)

// An Event is one thing that a watch noticed.
type Event struct {
	Time   time.Time
	Kind   string
	Drive  drive.Drive // that came or went
	Was    State       // of the redirect, before; empty at the start
	Report *Report     // of a redirect
}

// settle is how long a watch waits after a change for others that belong to
// it: a drive with several parts comes in several steps.
const settle = 100 * time.Millisecond

// scarceWait is how long a watch waits when the machine has run out of files or
// memory.
const scarceWait = time.Second

// A Watcher keeps checking as drives come and go.
type Watcher struct {
	Engine *engine.Engine
	Every  time.Duration           // all redirects are checked that often; 0: only when drives come and go
	Tell   func(Event)             // of what changed; at the start of every redirect
	Round  func(reports []*Report) // after every look at all of them; may be nil

	drives  []drive.Drive
	reports map[string]*Report
}

// Run watches until ctx ends, which is no error.
func (w *Watcher) Run(ctx context.Context) error {
	changes, err := w.Engine.Drives.Changes(ctx)
	if err != nil {
		return err
	}
	var tick <-chan time.Time
	if w.Every > 0 {
		t := time.NewTicker(w.Every)
		defer t.Stop()
		tick = t.C
	}
	if w.drives, err = w.Engine.Drives.List(false); err != nil {
		return err
	}
	w.reports = map[string]*Report{}
	for all := true; ; {
		switch err := w.look(ctx, all); {
		case ctx.Err() != nil:
			return nil
		case handle.Scarce(err):
			// The machine has run out of something for now: the next look sees it all.
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(scarceWait):
				continue
			}
		case err != nil:
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick:
			all = true
		case _, ok := <-changes:
			if !ok {
				return nil
			}
			all = false
			time.Sleep(settle)
		}
	}
}

// look finds what has changed; with all set, every redirect is checked.
func (w *Watcher) look(ctx context.Context, all bool) error {
	if err := w.Engine.Drives.Reload(); err != nil {
		return nil // the stand-in file is being written; the next look sees it whole
	}
	if err := w.lookAtDrives(); err != nil {
		return err
	}
	if err := w.Engine.Ledger.Again(); err != nil {
		return err
	}
	rows, err := w.Engine.Ledger.Redirects(false)
	if err != nil {
		return err
	}
	e := w.Engine.AtOnce()
	var reports []*Report
	known := map[string]bool{}
	for _, r := range rows {
		known[r.Name] = true
		rep, err := w.one(ctx, e, r, all)
		if err != nil {
			return err
		}
		reports = append(reports, rep)
	}
	for name := range w.reports {
		if !known[name] {
			delete(w.reports, name)
		}
	}
	if w.Round != nil {
		w.Round(reports)
	}
	return nil
}

func (w *Watcher) lookAtDrives() error {
	now, err := w.Engine.Drives.List(false)
	if err != nil {
		return err
	}
	for kind, pair := range map[string][2][]drive.Drive{DriveDetached: {w.drives, now},
		DriveAttached: {now, w.drives}} {
		for _, d := range pair[0] {
			if !slices.ContainsFunc(pair[1],
				func(o drive.Drive) bool { return o.Mount == d.Mount && o.ID() == d.ID() }) {
				w.Tell(Event{Time: time.Now(), Kind: kind, Drive: d})
			}
		}
	}
	w.drives = now
	return nil
}

// one looks at a redirect, and checks it if it is concerned.
func (w *Watcher) one(ctx context.Context, e *engine.Engine, r ledger.Redirect, all bool) (*Report, error) {
	last := w.reports[r.Name]
	if !all && last != nil {
		rep, err := Look(e, r)
		if err != nil {
			return nil, err
		}
		if rep.State == last.State && rep.Present == last.Present && rep.Drive.Mount == last.Drive.Mount &&
			slices.Equal(r.Methods, last.Redirect.Methods) && r.Target == last.Redirect.Target {
			last.Drive = rep.Drive // what is free there changes all the time
			return last, nil
		}
	}
	rep, err := Check(ctx, e, r)
	if err != nil {
		return nil, err
	}
	w.reports[r.Name] = rep
	if last == nil || rep.State != last.State || !slices.Equal(codes(rep), codes(last)) {
		ev := Event{Time: time.Now(), Kind: RedirectChecked, Report: rep}
		if last != nil {
			ev.Was = last.State
		}
		w.Tell(ev)
	}
	return rep, nil
}

func codes(r *Report) []finding.Code {
	var out []finding.Code
	for _, f := range r.Findings {
		out = append(out, f.Code)
	}
	return out
}
