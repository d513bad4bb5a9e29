package execute

import (
	"context"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/inuse"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
)

// How often it is looked whether programs still write, while a run waits.
const (
	lookEvery = 250 * time.Millisecond
	// looks is how often without --wait-quiet: a program may save a file just
	// when the run looks.
	looks = 4
)

// patience is the time that a run may spend waiting for programs.
type patience struct{ left time.Duration }

// sleep waits a little; false if no time is left, or the run is to end.
func (p *patience) sleep(ctx context.Context) bool {
	d := min(lookEvery, p.left)
	if d <= 0 {
		return false
	}
	p.left -= d
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}

// WaitQuiet waits before anything is done until nobody writes to the folder.
// A *RefusedError if the time runs out.
func (m *copier) WaitQuiet(ctx context.Context) error {
	if m.Plan.WaitQuiet == 0 || m.Plan.WhileInUse {
		return nil
	}
	if m.Progress != nil {
		m.Progress.Phase("wait", 0, 0)
	}
	m.patience.left = m.Plan.WaitQuiet
	for {
		w, err := inuse.WritersBelow(ctx, m.Plan.From)
		if err != nil || len(w) == 0 {
			return err
		}
		if m.patience.sleep(ctx) {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return plan.Refused(finding.New(finding.InUse, m.Plan.From,
			"%s still writes to the folder after %s", inuse.Programs(w), m.Plan.WaitQuiet.String()).Listing(len(w),
			preflight.Paths(w)))
	}
}

// rest is what a look at the programs after a quiet pass says.
type rest int

const (
	calm    rest = iota // nobody had files open for writing
	settled             // somebody had, and closed them: they may have changed since the pass
	busy                // somebody still has
)

// quiet looks after a pass that found nothing changed whether programs have
// files open for writing that they may still change. Without --wait-quiet a
// few looks have to do.
func (m *copier) quiet(ctx context.Context) (rest, error) {
	if m.Plan.WhileInUse {
		return calm, nil
	}
	short := patience{looks * lookEvery}
	for is := calm; ; is = settled {
		w, err := inuse.WritersBelow(ctx, m.fromPath())
		if err != nil || len(w) == 0 {
			return is, err
		}
		if !short.sleep(ctx) {
			return busy, ctx.Err()
		}
	}
}
