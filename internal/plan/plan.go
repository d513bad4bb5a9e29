// Package plan has the plans of runs, one folder or several as one, with their kinds: what
// a run is about, fixed when it begins, as the ledger keeps it; what it did; and the
// errors that end one. It looks at no disk but to hold a plan against the ledger.
package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/setting"
	"nexlin/internal/transfer"
)

// A Plan is all that a run is about, fixed when it begins and kept in the
// ledger as JSON, flat: resume and undo work from it and from the disks.
type Plan struct {
	Header
	Route
	Copying
	Merging
	Discarding
	DiscardOld bool       `json:"discard"` // move: the original is discarded at the end
	Mend       *Mending   `json:"mend"`    // mend and merge: what else is put right; may be nil
	Store      *StorePlan `json:"store"`   // handover: the engine's part; nil of any other
	Group      *Group     `json:"-"`       // of a run of several folders; nil of any other. See [Plan.Saved]
	Seen       `json:"-"`
}

// A Header is what every plan has.
type Header struct {
	Run  string    `json:"run"`
	Kind string    `json:"kind"`
	Name string    `json:"name"`
	Made time.Time `json:"made"`
	Card string    `json:"card"` // the card it was made by; empty without one
	// the run of several that this is a part of; empty for one by itself
	Together string           `json:"together"`
	Accepted []finding.Code   `json:"accepted"`
	UID      uint32           `json:"uid"`
	GID      uint32           `json:"gid"`
	Account  string           `json:"account"`
	Private  bool             `json:"private"` // the folder's names are nobody else's business
	Before   *ledger.Redirect `json:"before"`  // the redirect as it was; nil for a move
	// move: one of the same folder that had the name and has ended; may be nil
	Ended *ledger.Redirect `json:"ended"`
}

// A Route says what lies where, before and after, and how programs are led there.
//
// From is copied into the directory Into, where the copy stands under Final
// in the end. From itself is held: it stands in HeldIn under Held then.
//
//	            From           Into/Final     HeldIn/Held
//	move        the folder     the target     beside the link
//	move-on     the target     a new target   beside the old target
//	bring-back  the target     the link path  beside the target
//	merge       the real one   the target     beside the link
type Route struct {
	Link          string `json:"link"`
	Target        string `json:"target"` // where the data lies after the run; for bring-back, before it
	From          string `json:"from"`
	FromIno       uint64 `json:"from_ino"`
	FromUnstable  bool   `json:"from_fuse"`               // its drive gives other inode numbers with another mount
	IntoFuse      bool   `json:"into_fuse"`               // its drive lies behind FUSE
	IntoRenumbers bool   `json:"into_unstable,omitempty"` // see IntoUnstable
	Into          string `json:"into"`
	Final         string `json:"final"`
	HeldIn        string `json:"held_in"`
	Held          string `json:"held"`
	LinkText      string `json:"link_text"` // what the link says after a move, before a bring-back
	OldText       string `json:"old_text"`  // move-on: what it said before
	// how programs are led to the target; empty stands for a symbolic link
	Methods   []string         `json:"methods"`
	Settings  []setting.Change `json:"settings"` // settings files that the run changes; may be empty
	FromDrive ledger.DriveRef  `json:"from_drive"`
	IntoDrive ledger.DriveRef  `json:"into_drive"`
	TagIn     string           `json:"tag_in"` // where the drive tag lies, or is to be written
	NewTag    bool             `json:"new_tag"`
	TagMade   bool             `json:"tag_made"` // another folder's run of the same run of several has written it
	Empty     *DirAttrs        `json:"empty"`    // an empty directory stood at the target; undo puts it back
	Gap       bool             `json:"gap"`      // link and folder can't be exchanged in one act
}

// Copying is how a folder is copied, and how large it is. Sizes are in bytes.
type Copying struct {
	Files     int64 `json:"files"`
	Bytes     int64 `json:"bytes"`
	Allocated int64 `json:"allocated"`
	Entries   int64 `json:"entries"`
	Need      int64 `json:"need"`
	// by which factor it must be able to grow at the target; 0 says nothing
	Growth float64 `json:"growth"`

	Digest     transfer.Digest `json:"digest"`
	InnerLinks InnerLinks      `json:"inner_links"`
	Allow      transfer.Allow  `json:"allow"` // what the drive can't keep and was accepted
	WhileInUse bool            `json:"while_in_use"`
	Stops      bool            `json:"stops"`      // a step before the copy stops the program
	WaitQuiet  time.Duration   `json:"wait_quiet"` // how long to wait for programs to stop writing, in nanoseconds
	Base       *Base           `json:"base"`       // bring-back: a held original that lends; may be nil
	Bare       bool            `json:"bare"`       // move: the target begins empty, what is in the folder is only held
}

// Merging is what a merge is about beside that.
type Merging struct {
	Halves  Halves   `json:"halves"`  // what becomes of entries that both halves have
	Choices []Choice `json:"choices"` // what a person chose, by path
	Fresh   bool     `json:"fresh"`   // there was no redirect before it
}

// Discarding is what a discard-original is about.
type Discarding struct {
	OnlyEqual bool   `json:"only_equal"`
	HeldOf    string `json:"held_of"` // only what this run holds; empty: all
}

// Seen is what inspection found; it is not part of the record.
type Seen struct {
	Facts    inventory.Facts
	FromNow  drive.Drive
	IntoNow  drive.Drive
	Findings []finding.Finding
	InUse    inuse.Report
	// the trial: this system can't follow the junction, so only what it says was compared
	ByBytes  bool
	Loan     transfer.Loan    // what is taken from the held original
	Limits   inventory.Limits // of the drive the copy goes to
	Exchange bool             // that drive can exchange two entries in one act
	Judged   any              // for the job of the kind alone, which looks anew without it; may be nil
}

// DirAttrs is what an empty directory had.
type DirAttrs struct {
	Mode  uint32      `json:"mode"`
	UID   uint32      `json:"uid"`
	GID   uint32      `json:"gid"`
	Mtime handle.Time `json:"mtime"`
}

// Copy is the full path of the copy at the end of the run.
func (p *Plan) Copy() string { return filepath.Join(p.Into, p.Final) }

// HeldPath is the full path of what the run holds.
func (p *Plan) HeldPath() string { return filepath.Join(p.HeldIn, p.Held) }

// FreesLater is what discarding the original frees, in bytes: of a handover nothing, since the
// engine deletes the store itself.
func (p *Plan) FreesLater() int64 {
	if p.Traits().HoldsArchive {
		return 0
	}
	return p.Allocated
}

// IntoUnstable says that the drive which the copy is on gives other inode numbers with
// another mount.
func (p *Plan) IntoUnstable() bool { return p.IntoFuse || p.IntoRenumbers }

// SetInto notes what is to be known of the drive that the copy is on, before and after a restart.
func (p *Plan) SetInto(d *drive.Drive) {
	p.IntoFuse, p.IntoRenumbers = d.Fuse, d.UnstableInodes()
}

// FromID is the inode number the folder is known by; 0 if that says nothing.
func (p *Plan) FromID() uint64 {
	if p.FromUnstable {
		return 0
	}
	return p.FromIno
}

// IsFolder reports whether an entry is the directory with that inode number; 0
// stands for one on a drive whose numbers are not to be trusted, and any
// directory at its place is it.
func IsFolder(st *handle.Stat, ino uint64) bool { return st.IsDir() && (ino == 0 || st.Ino == ino) }

// Linkless says that programs are led to the target by settings alone: no
// link stands at the link path.
func (p *Plan) Linkless() bool { return Linkless(p.Methods) }

// SettingsFirst says that settings are changed before the folder gets its held name: where
// no link can keep its place meanwhile, the system would make one anew that a setting leads
// to.
func (p *Plan) SettingsFirst() bool { return p.Traits().First && p.Linkless() && p.Gap }

// Linkless says that methods leave no link at the link path.
func Linkless(methods []string) bool {
	return len(methods) > 0 && !slices.Contains(methods, BySymlink) && !slices.Contains(methods, ByJunction)
}

// Blocked gives the *RefusedError of the plan's blockers, and those of its folders; nil if
// there are none.
func (p *Plan) Blocked() error {
	all := slices.Clone(p.Findings)
	if p.Group != nil {
		for _, f := range p.Group.Plans {
			all = append(all, f.Findings...)
		}
	}
	if len(finding.Blockers(all)) == 0 {
		return nil
	}
	return &RefusedError{Findings: all}
}

func (p *Plan) Add(fs ...finding.Finding) { p.Findings = append(p.Findings, fs...) }

// Told adds what a look has found, and passes its error on.
func (p *Plan) Told(found []finding.Finding, err error) error {
	p.Add(found...)
	return err
}

// AcceptFound turns blockers that a person accepted by code into notes, as far
// as a code may be accepted at all.
func (p *Plan) AcceptFound(codes []finding.Code) {
	for i, f := range p.Findings {
		for _, c := range codes {
			// A copy of a drive is accepted once, by mend, and not run by run.
			if f.Code == c && finding.Acceptable(c) && c != finding.OlderClone {
				p.Findings[i] = f.Accepted()
			}
		}
	}
}

// AllowAccepted turns what was accepted into what verification lets pass: nothing
// that was not found.
func (p *Plan) AllowAccepted() {
	for _, f := range p.Findings {
		if f.Severity == finding.Blocker {
			continue
		}
		switch f.Code {
		case finding.OwnersLost, finding.OwnerRights:
			p.Allow.Owners = true
		case finding.ModesLost:
			p.Allow.Modes = true
		case finding.ACLsLost:
			p.Allow.ACLs = true
		case finding.AttributesLost:
			p.Allow.Xattrs = true
		case finding.HardLinksSplit:
			p.Allow.Links = true
		case finding.TimesRounded:
			p.Allow.TimeStep = p.Limits.TimeStep
		}
	}
	// A drive without owners or modes of its own is not asked to change them,
	// also where nothing is lost by that.
	p.Allow.Owners = p.Allow.Owners || p.Limits.FixedOwner && os.Geteuid() == 0
	p.Allow.Modes = p.Allow.Modes || p.Limits.FixedMode
}

// Of is the plan of a run, as it was saved.
func Of(row ledger.RunRow) (*Plan, error) {
	if TraitsOf(row.Kind).Several {
		return groupOf(row)
	}
	var p Plan
	if err := pathtext.Unmarshal(row.Plan, &p); err != nil {
		return nil, fmt.Errorf("the plan of run %s can't be read: %w", row.ID, err)
	}
	if !p.sound() || p.Run != row.ID {
		return nil, damagedPlan(row.ID)
	}
	return &p, nil
}

func damagedPlan(run string) error {
	return fmt.Errorf("the plan of run %s is damaged: a path in it is none, or a name is a path", run)
}

// sound reports whether the paths of a saved plan are absolute and its names
// single ones: what the run does by them stays where it belongs.
func (p *Plan) sound() bool {
	name := func(s string) bool { return s == "" || pathtext.IsName(s) }
	if p.Run == "" || !name(p.Run) || !name(p.Name) || !name(p.Final) || !name(p.Held) {
		return false
	}
	for _, path := range []string{p.Link, p.Target, p.From, p.Into, p.HeldIn, p.TagIn} {
		if s := path; s != "" && (!filepath.IsAbs(s) || strings.ContainsRune(s, 0)) {
			return false
		}
	}
	return true
}

func OfRun(l *ledger.Ledger, id string) (*Plan, error) {
	row, err := l.Run(id)
	if err != nil {
		return nil, err
	}
	return Of(row)
}
