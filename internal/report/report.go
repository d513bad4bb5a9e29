// Package report puts together what a person looks at who wants to see all of it at once: the
// drives with what lies in them, before the moves and now; redirects, findings, runs, and what
// is held. It draws nothing, and changes nothing.
package report

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/picture"
	"nexlin/internal/plan"
	"nexlin/internal/survey"
)

// A Report is all of that at one moment.
type Report struct {
	Made      time.Time
	Drives    []picture.Pair // those that are here
	Ways      []picture.Way
	Redirects []*health.Report
	Runs      []Run // the newest first
	Held      []ledger.Held
	HeldBytes int64
	Findings  []finding.Finding // of all redirects, the gravest first
	Private   bool              // names are left out, see [Report.WithoutNames]
}

// A Run is one of the history.
type Run struct {
	ID, Kind, Name, State string
	Started               time.Time
	Took                  time.Duration
	Bytes                 int64 // that it was about
	Away                  int64 // by which what lies on other drives became more; less where negative
}

// Course is how much lay on other drives from each run on, the oldest first; empty where no run
// changed that.
func (r *Report) Course() (out []picture.Point) {
	var sum int64
	for _, run := range slices.Backward(r.Runs) {
		if run.Away != 0 {
			sum = max(0, sum+run.Away)
			out = append(out, picture.Point{At: run.Started, Bytes: sum})
		}
	}
	return out
}

// Speed is how many bytes a second a run moved; 0 where that says nothing.
func (r *Run) Speed() int64 {
	if r.Took < time.Millisecond || r.State != ledger.Done {
		return 0
	}
	return int64(float64(r.Bytes) / r.Took.Seconds())
}

// Gather reads the records and looks at the drives and at every redirect, and tries nothing.
func Gather(ctx context.Context, e *engine.Engine) (*Report, error) {
	e = e.AtOnce()
	reports, err := health.LookAll(ctx, e, true)
	if err != nil {
		return nil, err
	}
	r := &Report{Made: time.Now(), Redirects: reports}
	ds, err := e.Drives.List(false)
	if err != nil {
		return nil, err
	}
	if r.Held, err = e.Ledger.HeldOf(""); err != nil {
		return nil, err
	}
	r.HeldBytes = ledger.HeldBytes(r.Held)
	for i := range ds {
		r.Drives = append(r.Drives, r.pair(&ds[i]))
	}
	for _, rep := range r.Redirects {
		red := rep.Redirect
		r.Findings = append(r.Findings, rep.Findings...)
		if red.State != ledger.Ended {
			r.Ways = append(r.Ways, picture.Way{Name: red.Name, From: pathtext.Show(cmp.Or(red.LinkDrive.Label, "?")),
				To: pathtext.Show(red.Drive.Label), Bytes: red.Bytes, Broken: rep.State != health.Good})
		}
	}
	r.Findings = finding.Worst(r.Findings)
	rows, err := e.Ledger.Runs()
	for _, row := range rows {
		run := Run{ID: row.ID, Kind: row.Kind, Name: row.Redirect, State: row.State, Started: row.Started}
		if !row.Ended.IsZero() {
			run.Took = row.Ended.Sub(row.Started)
		}
		if p, err := plan.Of(row); err == nil { // one that is not understood is told without it
			run.Bytes = p.Bytes
			switch t := p.Traits(); {
			case row.State != ledger.Done || t.Several:
			case t.Adds:
				run.Away = p.Bytes
			case t.Back:
				run.Away = -p.Bytes
			}
		}
		r.Runs = append(r.Runs, run)
	}
	return r, err
}

// pair is a drive as it would be without the moves, and as it is.
func (r *Report) pair(d *drive.Drive) picture.Pair {
	before, now := picture.Column{Title: "without the moves"}, picture.Column{Title: "now"}
	other := d.Size - d.Free
	add := func(c *picture.Column, name string, bytes int64, kind picture.Kind) {
		c.Layers = append(c.Layers, picture.Layer{Name: name, Bytes: max(0, bytes), Kind: kind})
	}
	var was int64
	for _, rep := range r.Redirects {
		red := rep.Redirect
		if red.State == ledger.Ended {
			continue
		}
		if on(d, red.LinkDrive) {
			add(&before, red.Name, red.Bytes, picture.Folder)
			was += red.Bytes
		}
		if on(d, red.Drive) {
			add(&now, red.Name, red.Bytes, picture.Folder)
			other -= red.Bytes
		}
	}
	for _, h := range r.Held {
		if on(d, h.Drive) {
			add(&now, h.Redirect+" (held)", h.Bytes, picture.Held)
			other -= h.Bytes
		}
	}
	other = max(0, other)
	for _, c := range []*picture.Column{&before, &now} {
		c.Layers = slices.Insert(c.Layers, 0, picture.Layer{Name: "other", Bytes: other, Kind: picture.Other})
	}
	crown(&before, d, d.Size-other-was)
	crown(&now, d, d.Free)
	return picture.Pair{Drive: pathtext.Show(d.Name()), Size: d.Size, Before: before, After: now}
}

// crown adds what is free, and what of that is kept so.
func crown(c *picture.Column, d *drive.Drive, free int64) {
	reserve := min(d.Reserve(), max(0, free))
	c.Layers = append(c.Layers, picture.Layer{Name: "free", Bytes: max(0, free-reserve), Kind: picture.Free},
		picture.Layer{Name: "reserve", Bytes: reserve, Kind: picture.Reserve})
}

// on says whether a record means a drive.
func on(d *drive.Drive, ref ledger.DriveRef) bool {
	return ref.Identity() != "" && ref.Identity() == d.Identity() || ref.Identity() == "" && ref.Mount == d.Mount
}

// Ahead is the strata of the drive that folders lie on and of the one with most room that they
// could go to, as they are and as they would be once the originals are discarded. The error is
// [drive.ErrNoDrive] where there is no other drive.
func Ahead(e *engine.Engine, fs []survey.Folder) ([]picture.Pair, error) {
	places, err := survey.Places(e, fs)
	if err != nil {
		return nil, err
	}
	if len(places) == 0 || len(fs) == 0 {
		return nil, fmt.Errorf("no other drive is here to be drawn: %w", drive.ErrNoDrive)
	}
	place := &places[0]
	from, err := e.Drives.Of(fs[0].Path)
	if err != nil {
		return nil, err
	}
	var frees int64
	leaves, stays := picture.Column{Title: "now"}, picture.Column{Title: "after the moves and the discard"}
	comes, here := picture.Column{Title: "after the moves and the discard"}, picture.Column{Title: "now"}
	var chosen []picture.Layer
	for _, f := range fs {
		chosen = append(chosen, picture.Layer{Name: pathtext.Show(filepath.Base(f.Path)), Bytes: f.Allocated,
			Kind: picture.Folder})
		frees += f.Allocated
	}
	to := &place.Drive
	ground := picture.Layer{Name: "other", Bytes: from.Size - from.Free - frees, Kind: picture.Other}
	leaves.Layers = append([]picture.Layer{ground}, chosen...)
	stays.Layers = []picture.Layer{ground}
	crown(&leaves, &from, from.Free)
	crown(&stays, &from, from.Free+frees)
	ground = picture.Layer{Name: "other", Bytes: to.Size - to.Free, Kind: picture.Other}
	here.Layers = []picture.Layer{ground}
	comes.Layers = append([]picture.Layer{ground}, chosen...)
	crown(&here, to, to.Free)
	crown(&comes, to, place.After)
	return []picture.Pair{{Drive: pathtext.Show(from.Name()), Size: from.Size, Before: leaves, After: stays},
		{Drive: pathtext.Show(to.Name()), Size: to.Size, Before: here, After: comes}}, nil
}

// WithoutNames leaves out what is private: names of folders, redirects, accounts and drives, and
// paths. Findings keep their codes and what is said of these in general.
func (r *Report) WithoutNames() *Report {
	out := *r
	out.Private = true
	redirects, drives := numbered("redirect"), numbered("drive")
	for _, rep := range r.Redirects { // the same numbers everywhere
		redirects(rep.Redirect.Name)
	}
	out.Drives = nil
	for _, p := range r.Drives {
		hide := func(c picture.Column) picture.Column {
			c.Layers = slices.Clone(c.Layers)
			for i, l := range c.Layers {
				switch l.Kind {
				case picture.Folder:
					c.Layers[i].Name = redirects(l.Name)
				case picture.Held:
					c.Layers[i].Name = "held"
				}
			}
			return c
		}
		out.Drives = append(out.Drives, picture.Pair{Drive: drives(p.Drive), Size: p.Size, Before: hide(p.Before),
			After: hide(p.After)})
	}
	out.Ways = nil
	for _, w := range r.Ways {
		w.Name, w.From, w.To = redirects(w.Name), drives(w.From), drives(w.To)
		out.Ways = append(out.Ways, w)
	}
	out.Redirects = nil
	for _, rep := range r.Redirects {
		x := *rep
		x.Redirect.Name, x.Redirect.Drive.Label = redirects(x.Redirect.Name), drives(x.Redirect.Drive.Label)
		x.Redirect.Link, x.Redirect.Target, x.Redirect.Account = "…", "…", ""
		out.Redirects = append(out.Redirects, &x)
	}
	out.Runs = slices.Clone(r.Runs)
	for i := range out.Runs {
		out.Runs[i].Name = redirects(out.Runs[i].Name)
	}
	out.Held = slices.Clone(r.Held)
	for i := range out.Held {
		out.Held[i].Redirect, out.Held[i].Path = redirects(out.Held[i].Redirect), "…"
		out.Held[i].Drive.Label = drives(out.Held[i].Drive.Label)
	}
	out.Findings = slices.Clone(r.Findings)
	for i, f := range out.Findings {
		out.Findings[i] = finding.Finding{Code: f.Code, Severity: f.Severity, Message: finding.Meaning(f.Code),
			Remedy: finding.New(f.Code, "", "").Remedy, Count: f.Count}
	}
	return &out
}

// numbered gives each name a number of its own.
func numbered(what string) func(string) string {
	known := map[string]string{}
	return func(name string) string {
		if known[name] == "" {
			known[name] = fmt.Sprintf("%s %d", what, len(known)+1)
		}
		return known[name]
	}
}

// Sum is how much of the redirects' data there is.
func (r *Report) Sum() string {
	var n int64
	for _, rep := range r.Redirects {
		if rep.Redirect.State != ledger.Ended {
			n += rep.Redirect.Bytes
		}
	}
	return pathtext.Size(n)
}
