// Package card knows kinds of folder and application: a card says where the
// folders lie, which settings name them, how to see that the program is in
// use, what to do before and after, and what must not be moved.
//
// A card is read strictly: an unknown key, a value of another kind, or a name
// that leads nowhere is a *[strict.MistakeError] with file, line and column. The
// package reads cards and expands them for an account; it runs no command and
// moves nothing.
package card

import (
	"time"

	"nexlin/internal/setting"
)

// A Family is one of the four families of folder.
type Family string

// The families.
const (
	Profile      Family = "profile"
	DeviceBackup Family = "device-backup"
	Sync         Family = "sync"
	Store        Family = "application-data"
)

// Format is the number of the form that cards are written in. A card that says none is of the first.
const Format = 1

// A Card as it is written.
type Card struct {
	Format   int       `yaml:"format"`   // of the form it is written in; 0 is 1
	Name     string    `yaml:"card"`     // as in card:NAME
	About    string    `yaml:"about"`    // one sentence
	Family   Family    `yaml:"family"`   //
	Proven   string    `yaml:"proven"`   // by which version of the program, and when; empty: not
	Away     string    `yaml:"away"`     // what the program said while the drive was away; empty: not seen
	Folders  []Folder  `yaml:"folders"`  // what is moved, all together
	Settings []Setting `yaml:"settings"` // what names the folders; may be empty
	By       string    `yaml:"by"`       // methods, as in --by; empty: a link
	InUse    InUse     `yaml:"in-use"`   //
	Before   []Step    `yaml:"before"`   // done before anything is copied; undone by nothing
	After    []Step    `yaml:"after"`    // done once programs are led to the new place, or after a failure
	Facts    []Fact    `yaml:"facts"`    // what must be as before
	Stays    []Stay    `yaml:"stays"`    // what must not be moved
	Handover *Handover `yaml:"handover"` // nil: the folders are copied

	File string `yaml:"-"` // where it was read; empty for one that ships with Nexlin
}

// Folder is one folder of a card.
type Folder struct {
	Name    string  `yaml:"name"` // in the card, and in the name of the redirect
	Linux   string  `yaml:"linux"`
	MacOS   string  `yaml:"macos"`
	Windows string  `yaml:"windows"`
	As      string  `yaml:"as"`      // its name at the target; empty: its own
	Growth  float64 `yaml:"growth"`  // by which factor it must be able to grow at the target; 0 says nothing
	Missing string  `yaml:"missing"` // "skip" passes over a folder that is not there
	Whole   *Whole  `yaml:"whole"`   // how to see that it is a whole copy; nil: it is
}

// Whole says how to see that a folder holds everything, and not only what was
// opened last.
type Whole struct {
	Command *Command `yaml:"command"` // its output
	Setting *Setting `yaml:"setting"` // or the value at this address
	Is      string   `yaml:"is"`
}

// Setting is one value of a settings file that names a folder of the card.
type Setting struct {
	File     string         `yaml:"file"`
	Format   setting.Format `yaml:"format"`
	At       string         `yaml:"at"`
	Folder   string         `yaml:"folder"` // its name in the card; may be left out if there is one
	Optional bool           `yaml:"optional"`
}

// InUse says how to see that the program is at work.
type InUse struct {
	Programs []string `yaml:"programs"` // names of processes
	Command  *Command `yaml:"command"`  // one whose answer says that it is at rest; may be nil
	Remedy   string   `yaml:"remedy"`   // what to do if it is not; empty: quit it
}

// Command is run without a shell.
type Command struct {
	Run    []string `yaml:"run"`
	Answer string   `yaml:"answer"` // what its output must hold; empty: only its exit status counts
	Within string   `yaml:"within"` // time limit, as 30s or 10m; empty: a minute
	Means  string   `yaml:"means"`  // in words what it does or what it shows; empty: the command speaks for itself
}

// Step is a command, or a question to the person where no command exists.
type Step struct {
	Command `yaml:",inline"`
	Ask     string `yaml:"ask"`
}

// Fact is a value that must be the same before and after.
type Fact struct {
	Name    string   `yaml:"name"`
	Command *Command `yaml:"command"` // its output is the value
	Setting *Setting `yaml:"setting"` // or the value at this address
	MustBe  string   `yaml:"must-be"` // what it must be afterwards, whatever it was before; empty: as before
	Set     *Command `yaml:"set"`     // sets it back, with {value}; may be nil
}

// Stay is a place that must not be moved, and why: on every system, or on one.
type Stay struct {
	Path    string `yaml:"path"`
	Linux   string `yaml:"linux"`
	MacOS   string `yaml:"macos"`
	Windows string `yaml:"windows"`
	Why     string `yaml:"why"`
}

// Handover says how an engine that owns registered stores moves one of them:
// {store} is its name, {archive} a file, {place} a directory.
type Handover struct {
	List     Command  `yaml:"list"`      // a line for each store: name, state, place, apart by tabs
	Resting  string   `yaml:"resting"`   // the state in which a store may be moved
	Stay     []string `yaml:"stay"`      // stores that must stay
	CarryOut Command  `yaml:"carry-out"` // writes the archive
	Verify   *Command `yaml:"verify"`    // reads the archive to its end; nil: Nexlin does, if it is tar
	// what the engine says when a file of the store is locked for now; empty: it never does
	Locked  string  `yaml:"locked"`
	SignOff Command `yaml:"sign-off"`
	CarryIn Command `yaml:"carry-in"`
	As      string  `yaml:"as"` // the store's name at the target, with {store}; empty: that of its place
}

// Limit is the time limit of the command.
func (c Command) Limit() time.Duration {
	if d, err := time.ParseDuration(c.Within); err == nil && d > 0 {
		return d
	}
	return time.Minute
}
