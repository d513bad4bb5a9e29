package health

import (
	"slices"

	"nexlin/internal/finding"
	"nexlin/internal/ledger"
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

// gravest is the order in which states are told, if several fit.
var gravest = []State{Split, Away, Elsewhere, Broken, Detached, Unfinished, Good}

// States lists all of them, the gravest first.
func States() []State { return slices.Clone(gravest) }

// states is the one place where findings become states. Codes that are not
// here leave a redirect good.
var states = map[finding.Code]State{
	finding.FolderSplit:    Split,
	finding.DriveAway:      Away,
	finding.DriveSwapped:   Away,
	finding.DriveTwice:     Away,
	finding.OlderClone:     Away,
	finding.Covered:        Away,
	finding.DriveElsewhere: Elsewhere,
	finding.LinkMissing:    Broken,
	finding.LinkChanged:    Broken,
	finding.LinkLoop:       Broken,
	finding.TargetMissing:  Broken,
	finding.TargetUnread:   Broken,
	finding.TrialFailed:    Broken,
	finding.SettingDrifted: Broken,
	finding.StoreElsewhere: Broken,
	finding.RunStopped:     Unfinished,
}

// stateOf gives the gravest state that findings and ledger speak of.
func stateOf(r ledger.Redirect, fs []finding.Finding) State {
	rank := slices.Index(gravest, Good)
	if r.State == ledger.Detached {
		rank = slices.Index(gravest, Detached)
	}
	for _, f := range fs {
		if s, ok := states[f.Code]; ok {
			rank = min(rank, slices.Index(gravest, s))
		}
	}
	return gravest[rank]
}
