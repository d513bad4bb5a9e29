package plan

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/run"
)

// A Group is what the plan of a run of several folders has, which moves all of them or
// none. Every folder is copied and verified before the first one is switched.
type Group struct {
	Plans  []*Plan    `json:"plans"`
	For    run.Actor  `json:"for"`
	InUse  run.Use    `json:"in_use"`
	Before []run.Step `json:"before"`
	After  []run.Step `json:"after"`
	Facts  []run.Fact `json:"facts"`
}

// savedGroup is how the ledger keeps the plan of a run of several, with those of its
// folders.
type savedGroup struct {
	Run  string `json:"run"`
	Kind string `json:"kind"`
	Name string `json:"name"`
	Card string `json:"card"`
	Group
}

// NewGroup makes the plan of a run of several; name is what it is called in the history.
// Its folders need room on their drive together.
func NewGroup(kind, name string, plans []*Plan) *Plan {
	now := time.Now()
	t := &Plan{Header: Header{Run: ledger.NewRunID(now), Kind: kind, Name: name, Made: now},
		Group: &Group{Plans: plans}}
	oneTag(plans)
	need := map[string]int64{}
	on := map[string]*drive.Drive{}
	for _, p := range plans {
		p.Together = t.Run
		if p.IntoNow.Mount != "" && len(finding.Blockers(p.Findings)) == 0 {
			need[p.IntoNow.Mount] += p.Need
			on[p.IntoNow.Mount] = &p.IntoNow
		}
		if t.Group.For.Name == "" {
			t.Group.For = run.Actor{UID: p.UID, GID: p.GID, Name: p.Account}
		}
	}
	for mount, n := range need {
		d := on[mount]
		if short := d.Short(n); short > 0 && len(plans) > 1 {
			t.Add(finding.New(finding.SpaceShort, mount, "%s has too little room for all of them: needed %s and "+
				"a reserve of %s, free %s, short by %s", d.Name(), pathtext.Size(n), pathtext.Size(d.Reserve()),
				pathtext.Size(d.Free), pathtext.Size(short)).OnDrive(d.Name()))
		}
	}
	seen := map[string]string{}
	for _, p := range plans {
		if other, taken := seen[p.Copy()]; taken {
			t.Add(finding.New(finding.TargetTaken, p.Copy(), "%s and %s would both become %s", other, p.Link, p.Copy()))
		}
		seen[p.Copy()] = p.Link
	}
	return t
}

// oneTag has a drive without a tag get one, from the first of the folders that
// go there.
func oneTag(plans []*Plan) {
	first := map[string]*Plan{}
	for _, p := range plans {
		if !p.NewTag {
			continue
		}
		if f := first[p.TagIn]; f != nil {
			p.IntoDrive.ID, p.NewTag, p.TagMade = f.IntoDrive.ID, false, true
			continue
		}
		first[p.TagIn] = p
	}
}

// Folders are the plans of the folders that the run is about: those of a run of several,
// or the plan itself.
func (p *Plan) Folders() []*Plan {
	if p.Group != nil {
		return p.Group.Plans
	}
	return []*Plan{p}
}

// Saved is what the ledger keeps of the plan, as JSON.
func (p *Plan) Saved() any {
	if p.Group == nil {
		return p
	}
	return savedGroup{p.Run, p.Kind, p.Name, p.Card, *p.Group}
}

// groupOf is the plan of a run of several, as it was saved.
func groupOf(row ledger.RunRow) (*Plan, error) {
	var t savedGroup
	if err := pathtext.Unmarshal(row.Plan, &t); err != nil {
		return nil, fmt.Errorf("the plan of run %s can't be read: %w", row.ID, err)
	}
	if slices.ContainsFunc(t.Plans, func(p *Plan) bool { return p == nil || !p.sound() }) {
		return nil, damagedPlan(row.ID)
	}
	return &Plan{Header: Header{Run: row.ID, Kind: row.Kind, Name: t.Name, Card: t.Card, Made: row.Started},
		Group: &t.Group}, nil
}

// AllOf are the plans that a stopped run has still to carry out: its own; of a run of
// several those of the folders that have no run of their own yet, which would tell of them.
func AllOf(l *ledger.Ledger, row ledger.RunRow) ([]*Plan, error) {
	p, err := Of(row)
	if err != nil || p.Group == nil {
		return []*Plan{p}, err
	}
	var out []*Plan
	for _, p := range p.Folders() {
		if _, err := l.Run(p.Run); errors.Is(err, ledger.ErrNotFound) {
			out = append(out, p)
		} else if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Unfinished lists the runs that were stopped; those of a run of several
// stand under its id.
func Unfinished(l *ledger.Ledger) ([]ledger.RunRow, error) {
	rows, err := l.Unfinished()
	under := ToldUnder(rows)
	for i, r := range rows {
		if p, err := Of(r); err == nil {
			rows[i].ID = under(p)
		}
	}
	return rows, err
}

// ToldUnder gives the function that says under which id a stopped run is finished
// or taken back: that of the run of several it belongs to, if that is among the
// stopped ones, or its own.
func ToldUnder(rows []ledger.RunRow) func(*Plan) string {
	open := map[string]bool{}
	for _, r := range rows {
		open[r.ID] = true
	}
	return func(p *Plan) string {
		if p.Together != "" && open[p.Together] {
			return p.Together
		}
		return p.Run
	}
}

// Open lists the runs that were stopped, newest first; a run of several
// stands for those of its folders.
func Open(l *ledger.Ledger) ([]ledger.RunRow, error) {
	rows, err := l.Unfinished()
	if err != nil {
		return nil, err
	}
	under := ToldUnder(rows)
	return slices.DeleteFunc(rows, func(r ledger.RunRow) bool {
		p, err := Of(r)
		return err == nil && under(p) != r.ID
	}), nil
}

// Whole gives the run of several that a run belongs to, if that is not ended
// yet; else the run itself.
func Whole(l *ledger.Ledger, row ledger.RunRow) (ledger.RunRow, error) {
	p, err := Of(row)
	if err != nil || p.Together == "" {
		return row, err
	}
	up, err := l.Run(p.Together)
	if errors.Is(err, ledger.ErrNotFound) || err == nil && up.State != ledger.Stopped {
		return row, nil // forgotten, or ended
	}
	return up, err
}
