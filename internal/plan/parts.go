package plan

import (
	"errors"

	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/run"
)

// A Mending is what a mend puts right, beside merging halves.
type Mending struct {
	After ledger.Redirect `json:"after"` // the redirect as it will be
	Link  bool            `json:"link"`  // the link is made, or changed from Plan.OldText
	Tag   bool            `json:"tag"`   // the drive tag is written anew
	Note  bool            `json:"note"`  // the target note is written anew
	Held  []HeldMove      `json:"held"`  // held originals that lie on the drive, too
}

// A HeldMove is a held original that is reached by another path now.
type HeldMove struct {
	ID    int64           `json:"id"`
	Path  string          `json:"path"`
	Was   string          `json:"was"`
	Drive ledger.DriveRef `json:"drive"` // as it was
	Mount string          `json:"mount"` // where it is now
}

// A Base is the held original that a bring-back makes its copy from, where it
// is equal to the target.
type Base struct {
	Path string `json:"path"`
	Run  string `json:"run"` // which made the target from it
	Ino  uint64 `json:"ino"`
	Copy bool   `json:"copy"` // see ledger.Held
	Take bool   `json:"take"` // --use-held: rename, do not copy
}

// A Store is one that an engine lists.
type Store struct {
	Name, State, Place string
	Stays              bool // it must not be moved
}

// A StorePlan is what a handover is about, beside the plan.
type StorePlan struct {
	Store    string     `json:"store"`
	From     string     `json:"from"`
	To       string     `json:"to"`
	Home     bool       `json:"home"` // it comes back to where it was before
	For      run.Actor  `json:"for"`
	List     run.Step   `json:"list"`
	CarryOut run.Step   `json:"carry_out"`
	Verify   *run.Step  `json:"verify"`
	SignOff  run.Step   `json:"sign_off"`
	CarryIn  run.Step   `json:"carry_in"`
	Resting  string     `json:"resting"`
	Locked   string     `json:"locked"`
	Before   []run.Step `json:"before"`
	After    []run.Step `json:"after"`
	Facts    []run.Fact `json:"facts"`

	Stores []Store `json:"-"` // all that the engine lists
}

// StaysDetached says of the plan of a mend that nothing leads to the target once it is
// done, as it was meant.
func (p *Plan) StaysDetached() bool { return p.Mend != nil && p.Mend.After.State == ledger.Detached }

func (p *Plan) AddGap() {
	link := p.Link
	p.Add(finding.New(finding.SwitchGap, link, "for a moment nothing will stand at %s: its file system can't "+
		"exchange link and folder in one act", link).Named(p.Name))
}

// FolderAway is where the folder is, whole, while the run stands between the two
// renames.
func (p *Plan) FolderAway() string {
	if p.Traits().Back {
		return p.From
	}
	return p.HeldPath()
}

// StillHolds is a *RefusedError if another run came between the plan and now.
func (p *Plan) StillHolds(t *ledger.Tx) error {
	if OfArchive(p.Kind) || p.Group != nil { // the plans of its folders are asked
		return nil
	}
	open, err := t.UnfinishedOf(p.Name)
	if err != nil {
		return err
	}
	for _, row := range open {
		if !OfArchive(row.Kind) {
			return Refused(RunStopped(row, p.Link).As(finding.Blocker))
		}
	}
	is, err := t.Redirect(p.Name)
	gone := errors.Is(err, ledger.ErrNotFound)
	if err != nil && !gone {
		return err
	}
	was := p.Before
	if was == nil || p.Fresh {
		was = p.Ended
	}
	if was == nil && gone || was != nil && !gone && was.Equal(&is) {
		return nil
	}
	return &RefusedError{[]finding.Finding{finding.New(finding.PlanOld, p.Link,
		"another command has changed what the ledger says of %s since it was looked at", p.Name).Named(p.Name)}}
}

// A Position is where the disks say a run stands.
type Position int

const (
	AsBefore Position = iota // nothing is switched; the part may be there
	Placed                   // the copy has its final name, the link path is as it was
	Between                  // nothing of ours stands at the link path: see gap.go
	Led                      // settings lead to the copy, and the folder still has its name: see SettingsFirst
	Switched                 // programs are led to the copy
)
