package execute

import (
	"context"
	"slices"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// steps are the time steps of the two file systems of a run, in nanoseconds in
// the journal.
type steps struct {
	From time.Duration `json:"from"`
	Into time.Duration `json:"into"`
}

// coarsest is what a file system that keeps whole seconds may have really: FAT
// keeps even ones, and shows others through FUSE while it has them in memory.
const coarsest = 2 * time.Second

// findSteps finds by trial how exactly both file systems keep times, and notes
// it for the runs that build on this one.
func (m *copier) findSteps(ctx context.Context) error {
	for _, s := range []struct {
		step     *time.Duration
		dir      *handle.Dir
		unstable bool
	}{{&m.steps.From, m.HeldIn, m.Plan.FromUnstable}, {&m.steps.Into, m.Into, m.Plan.IntoUnstable()}} {
		var err error
		anyones := m.Plan.Allow.Owners || s.unstable
		if *s.step, err = drive.TimeStep(s.dir, naming.Scratch(m.Plan.Run), anyones); err != nil {
			return err
		}
		if *s.step == 0 || s.unstable && *s.step >= time.Second { // 0: it could not be tried
			*s.step = coarsest
		}
	}
	return m.Act(ctx, "time-steps", m.steps, func() error { return nil }, nil)
}

// stepsOf are the time steps of a run, as its journal has them. A run of a
// build that did not look gets the coarsest there are.
func stepsOf(acts []ledger.Act) (steps, error) {
	s := steps{coarsest, coarsest}
	i := slices.IndexFunc(acts, func(a ledger.Act) bool { return a.Name == "time-steps" })
	if i < 0 {
		return s, nil
	}
	return s, pathtext.Unmarshal(acts[i].Data, &s)
}

// restCopy waits until a change of the copy would show in its times: what
// programs write there from the switch on can be told from what was copied.
func (m *copier) restCopy(ctx context.Context) error {
	return pause(ctx, m.steps.Into+transfer.LeastStep-time.Since(m.sealed))
}

// pause waits, unless the run is to end.
func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
