package execute

import (
	"context"
	"sync"

	"nexlin/internal/inuse"
	"nexlin/internal/transfer"
)

// A beside looks at the folder once more, and composes the manifest as it is if nothing has
// changed, while the copy is read back. What fails here says no more than that the folder is
// not at rest: the pass that follows meets it again.
type beside struct {
	job    *transfer.Job
	path   string // of the folder, as processes see it
	runDir string
	none   bool // nothing is begun: it would be of no use, or heads would have to move for it

	stop   context.CancelFunc
	both   sync.WaitGroup
	atRest bool
	frozen *frozen // nil if it could not be composed
}

func besideOf(m *copier, job *transfer.Job, tally *transfer.Tally) *beside {
	return &beside{job: job, path: m.fromPath(), runDir: m.Run.Dir(),
		none: !job.Overlap || m.doubt || job.Bare || tally.Young > 0}
}

func (b *beside) begin(ctx context.Context) {
	if b.none {
		return
	}
	ctx, b.stop = context.WithCancel(ctx)
	b.both.Go(func() { b.atRest = b.look(ctx) })
	b.both.Go(func() { b.frozen, _ = composeFrozen(ctx, b.runDir, b.job.New, b.job.Digest) })
}

// end waits for both, or ends them if they are of no use, and says whether another pass
// would find nothing.
func (b *beside) end(useful bool) bool {
	if b.none {
		return false
	}
	defer b.stop()
	if !useful {
		b.stop()
	}
	b.both.Wait()
	return useful && b.atRest
}

// look reports whether nobody has a file of the folder open for writing, and nothing in it
// has changed since the last pass.
func (b *beside) look(ctx context.Context) bool {
	if w, err := inuse.WritersBelow(ctx, b.path); err != nil || len(w) > 0 {
		return false
	}
	same, err := atRest(ctx, b.job)
	return err == nil && same
}

// atRest is [transfer.AtRest] of what programs have stored by now.
func atRest(ctx context.Context, job *transfer.Job) (bool, error) {
	// Stores into mapped pages show in no time stamp until they are written back.
	if err := job.Source.SyncAll(); err != nil {
		return false, err
	}
	return transfer.AtRest(ctx, job)
}
