// Package run carries out runs: it keeps the journal of what is about to be done and of
// what is done, in which phase a run is, and the points at which tests stop it; and it
// does the steps and compares the facts of cards.
//
// It knows the ledger, commands and settings. It does not know what a run does to
// folders and links: that is the work of the kinds above.
package run

import (
	"context"
	"slices"
	"time"

	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// A Phase is one part of a run, with its times. Ended is zero while it goes on.
type Phase struct {
	Name           string
	State          string // as the ledger's of a run
	Started, Ended time.Time
}

// A Journal is what the ledger knows of the acts of one run. Every act is noted before
// and after it is done, so that after a stop it is known what may have happened (I3).
type Journal struct {
	// Run is the run in the ledger, under a lock; nil before it is there, and where the
	// acts are only read.
	Run *ledger.Run

	ledger   *ledger.Ledger
	id       string
	progress transfer.Progress // may be nil
	phases   []Phase
	phase    string
	phaseSeq int64
}

// NewJournal is the journal of the run with this id, for reading what is in it; with
// Run set, for writing. progress is told of phases, and may be nil.
func NewJournal(l *ledger.Ledger, id string, progress transfer.Progress) *Journal {
	return &Journal{ledger: l, id: id, progress: progress}
}

// Acts are the acts of the run as they were begun, the oldest first.
func (j *Journal) Acts() ([]ledger.Act, error) { return j.ledger.Acts(j.id) }

// Act journals an intent, does the act, and journals that it is done, together with
// what also writes; if that is nil, with whatever is journaled next, see
// [ledger.Run.Did]. data is kept as JSON.
func (j *Journal) Act(ctx context.Context, name string, data any, do func() error,
	also func(*ledger.Tx) error) error {
	seq, err := j.Run.Intend(name, data)
	if err != nil {
		return err
	}
	if err := Point(ctx, name+".intent"); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	if err := Point(ctx, name+".act"); err != nil {
		return err
	}
	if err := j.Run.Did(seq, also); err != nil {
		return err
	}
	return Point(ctx, name+".done")
}

// Once does an act that is not done again once it is known to be done.
func (j *Journal) Once(ctx context.Context, name string, data any, do func() error) error {
	done, err := j.Finished(name)
	if err != nil || done {
		return err
	}
	return j.Act(ctx, name, data, do, func(*ledger.Tx) error { return nil }) // said at once
}

// newest is the act of that name that was begun last; nil if there is none.
func (j *Journal) newest(name string) (*ledger.Act, error) {
	acts, err := j.Acts()
	if err != nil {
		return nil, err
	}
	for i, a := range slices.Backward(acts) {
		if a.Name == name {
			return &acts[i], nil
		}
	}
	return nil, nil
}

// Finished reports whether the newest act of that name is done.
func (j *Journal) Finished(name string) (bool, error) {
	a, err := j.newest(name)
	return a != nil && !a.Done.IsZero(), err
}

// Last reads the data of the newest act of that name, done or not, into out; known is
// false if there is none.
func (j *Journal) Last(name string, out any) (known bool, err error) {
	a, err := j.newest(name)
	if err != nil || a == nil {
		return false, err
	}
	return true, pathtext.Unmarshal(a.Data, out)
}

// Begin ends the phase that goes on, and begins another; files and bytes are what it
// is expected to handle, 0 if that is not known.
func (j *Journal) Begin(name string, files, bytes int64) error {
	if err := j.End(ledger.Done); err != nil {
		return err
	}
	seq, err := j.Run.Intend("phase", map[string]string{"name": name})
	if err != nil {
		return err
	}
	j.phase, j.phaseSeq = name, seq
	j.phases = append(j.phases, Phase{Name: name, State: ledger.Going, Started: time.Now()})
	if j.progress != nil {
		j.progress.Phase(name, files, bytes)
	}
	return nil
}

// End ends the phase that goes on, if one does.
func (j *Journal) End(state string) error {
	if j.phaseSeq == 0 {
		return nil
	}
	last := &j.phases[len(j.phases)-1]
	last.State, last.Ended = state, time.Now()
	seq := j.phaseSeq
	j.phaseSeq = 0
	return j.Run.Did(seq, nil)
}

// InPhase names the phase without noting it, where there is one alone.
func (j *Journal) InPhase(name string) { j.phase = name }

// Phase is the name of the phase that goes on, or went on last; empty before the first.
func (j *Journal) Phase() string { return j.phase }

// Phases are those that this process has begun.
func (j *Journal) Phases() []Phase { return slices.Clone(j.phases) }

// Begun reports whether a phase of that name was ever begun.
func (j *Journal) Begun(phase string) (bool, error) {
	acts, err := j.Acts()
	if err != nil {
		return false, err
	}
	for _, a := range acts {
		var p struct{ Name string }
		if a.Name != "phase" {
			continue
		}
		if err := pathtext.Unmarshal(a.Data, &p); err != nil || p.Name == phase {
			return p.Name == phase, err
		}
	}
	return false, nil
}
