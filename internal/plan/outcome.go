package plan

import (
	"path/filepath"

	"nexlin/internal/archive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/run"
)

// An Outcome is what a run did.
type Outcome struct {
	Run      string
	Kind     string
	State    string
	Phases   []run.Phase
	Plan     *Plan
	Final    string // the copy's name: the plan's, or, where that leaves it open, what an archive says
	Space    []Space
	Contents Count // of the folder: as it was inspected, then as it was taken in
	Copied   Count
	Verified Count
	Lent     int64    // files taken from the held original instead of copied
	Device   bool     // everything was read back from the device itself
	Aside    []string // what others had put into the part
	// undo of a pack or an unpack: what was whole and had its name already, and stays; empty if there is none
	Stays    string
	SetAside string // undo: where a copy went that is not Nexlin's to delete; empty if there was none
	Findings []finding.Finding

	Facts     []run.FactResult // what was compared, where a card says what
	Members   []*Outcome       // of a run of several: of its folders in their order, nil of one it did not come to
	Archive   *Archive         // of a pack or an unpack; nil of anything else
	Remains   []ledger.Held    // of a discard: what stays held
	Resumed   bool             // it was stopped before, and gone on with
	Discarded *Outcome         // of a move that discards its original: how that went; nil if it did not come to it
}

// Copy is where the copy stands, or will stand.
func (o *Outcome) Copy() string { return filepath.Join(o.Plan.Into, o.Final) }

// A Count counts files; Seconds is the time it took.
type Count struct {
	Files, Bytes int64
	Seconds      float64
}

// Space is the room of one drive before and after. Bytes.
type Space struct {
	Drive                 string
	FreeBefore, FreeAfter int64
	Size                  int64 // of the drive; 0 if it is not known
}

// An Archive is what a pack has made, or an unpack has read.
type Archive struct {
	File   string
	Bytes  int64  // of the archive
	Digest string // SHA-256 of the archive
	Count         // of what is in it
	Flaws  []archive.Flaw
	Lost   int // unpack: how many entries the target did not keep whole

	Made handle.Stat // of the part, by which it is known when it has its name
}
