package execute

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/late"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// copyAll copies, flushes, reads back, and catches up until a pass finds
// nothing changed.
func (m *copier) copyAll(ctx context.Context) error {
	if err := m.Begin("copy", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	if err := m.session(ctx); err != nil {
		return err
	}
	if err := m.findSteps(ctx); err != nil {
		return err
	}
	if err := m.takeDirs(ctx); err != nil {
		return err
	}
	return m.passes(ctx, 1)
}

// passes copies what has changed since the spools that the run left, pass after
// pass, until one finds nothing. first is 1 for the copy itself, 2 for a
// catch-up. Directories that were taken from the held original as they are, and in which
// something is not as in the folder, are given back, and all begins once more.
func (m *copier) passes(ctx context.Context, first int) error {
	err := m.passesFrom(ctx, first)
	if !errors.Is(err, transfer.ErrNotAsLent) {
		return err
	}
	if err := m.giveUpDirs(ctx); err != nil {
		return err
	}
	return m.passesFrom(ctx, first)
}

func (m *copier) passesFrom(ctx context.Context, first int) error {
	_ = m.Spool.Close() // what looked at the copy is through with it; it is among the old ones
	old := m.oldSpools()
	defer func() {
		for _, s := range old {
			_ = s.Close() // only read
		}
	}()
	before := int64(-1)
	for i := first; ; i++ {
		// What a run that goes on finds in its records, its undo may have taken away;
		// where strangers were put aside, directories have other times than are recorded.
		tally, err := m.onePass(ctx, old, i == 1 || m.doubt)
		if err != nil {
			return err
		}
		for _, s := range old {
			_ = s.Close() // only read
		}
		if err := m.dropSpools(); err != nil {
			return err
		}
		old = []*transfer.Spool{m.Spool}
		is, err := m.restAfter(ctx, tally, i > first && tally.Changed == 0)
		if err != nil {
			return err
		}
		if is != calm {
			if before, err = m.patience.goOn(ctx, i, tally, before, is); err != nil {
				return err
			}
			if is, err = m.readBack(ctx, tally); err != nil {
				return err
			}
		}
		if is == calm {
			old = nil
			m.Out.Contents = plan.Count{Files: tally.Files, Bytes: tally.Bytes}
			m.Out.Copied.Files, m.Out.Copied.Bytes = tally.Files, tally.Bytes
			return nil
		}
		if i == 1 {
			if err := m.Begin("catch-up", tally.Files, tally.Bytes); err != nil {
				return err
			}
		}
	}
}

// goOn says after pass i, which did not find the folder at rest, whether another may follow:
// what is left has to shrink, or nobody can say when it ends. before is what the pass before
// found changed; next is that for the one that follows.
func (p *patience) goOn(ctx context.Context, i int, tally *transfer.Tally, before int64, is rest) (next int64,
	err error) {
	endless := i >= maxPasses || i > 2 && tally.Changed >= before && is == busy
	switch {
	case !endless || p.sleep(ctx):
		if is == settled {
			return math.MaxInt64, nil // what it wrote at last is no endless change
		}
		return tally.Changed, nil
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case tally.Changed == 0:
		return 0, fmt.Errorf("%w: programs have files of it open for writing", plan.ErrStillChanging)
	}
	return 0, fmt.Errorf("%w: in pass %d still %d entries, %s among them", plan.ErrStillChanging, i, tally.Changed,
		firstPath(tally))
}

// restAfter is how the folder has come to rest after a pass, if nothing was found that had
// changed since the one before.
func (m *copier) restAfter(ctx context.Context, tally *transfer.Tally, unchanged bool) (rest, error) {
	if !unchanged {
		return busy, nil
	}
	is, err := m.quiet(ctx)
	if err != nil || is != calm || tally.Young == 0 {
		return is, err
	}
	// What was changed just now is compared by its content.
	return settled, pause(ctx, m.steps.From+transfer.LeastStep)
}

// staleAfter is how long after the last look at the folder it is looked at once
// more before the switch.
const staleAfter = 500 * time.Millisecond

// catchUp looks at the folder once more, directly before the switch, if that was
// not done just now: sealing a large copy takes a while, and the first of
// several folders waits for the last one. What was deleted or renamed meanwhile
// would rise again otherwise. What has changed is copied, verified and sealed
// again.
func (m *copier) catchUp(ctx context.Context) error {
	for range maxPasses {
		if err := m.restCopy(ctx); err != nil {
			return err
		}
		if m.Plan.Together == "" && time.Since(m.looked) < staleAfter {
			return nil
		}
		changed, err := m.changed(ctx)
		if err != nil || !changed {
			return err
		}
		if err := m.Run.Reserve(preflight.LedgerRoom); err != nil {
			return err
		}
		if err := m.Begin("catch-up", m.Out.Contents.Files, m.Out.Contents.Bytes); err != nil {
			return err
		}
		if err := m.passes(ctx, 2); err != nil {
			return err
		}
		if err := m.seal(ctx); err != nil {
			return err
		}
	}
	return fmt.Errorf("%w: it changed each time it was about to be switched", plan.ErrStillChanging)
}

// changed reports whether the folder is not as the last pass found it.
func (m *copier) changed(ctx context.Context) (bool, error) {
	if m.Plan.Bare {
		return false, nil // nothing in it was copied
	}
	same, err := atRest(ctx, m.copyJob())
	return err == nil && !same, err
}

// session decides whether what was read back before a stop is read again: not
// if the drive has been mounted all the time since, so that the stop is no more
// than a pause of this run.
func (m *copier) session(ctx context.Context) error {
	now, err := m.Part.Dir.Session()
	if err != nil {
		return err
	}
	var before string
	known, err := m.Last("session", &before)
	if err != nil {
		return err
	}
	m.reread = !known || now == "" || before != now
	return m.Act(ctx, "session", now, func() error { return nil }, nil)
}

func firstPath(t *transfer.Tally) string {
	if len(t.ChangedPaths) == 0 {
		return "some"
	}
	return pathtext.Show(t.ChangedPaths[0])
}

func (m *copier) onePass(ctx context.Context, old []*transfer.Spool, doubt bool) (*transfer.Tally, error) {
	began := time.Now()
	m.looked = began
	// Stores into mapped pages show in no time stamp until they are written back.
	if err := m.From.SyncAll(); err != nil {
		return nil, err
	}
	writing, err := late.WrittenTo(ctx, m.fromPath())
	if err != nil {
		return nil, err
	}
	m.pass++
	m.frozen = nil
	if m.Spool, err = transfer.CreateSpool(m.Run.Dir(), m.pass); err != nil {
		return nil, err
	}
	job := m.copyJob()
	job.Old, job.Writing, job.Reread, job.Doubt = old, writing, m.reread && m.Phase() == "copy", doubt
	job.Lent = m.lent
	rewrite, done := m.rewriter()
	defer done()
	job.Rewrite = rewrite
	tally, err := transfer.Pass(ctx, *job)
	m.Out.Copied.Seconds += time.Since(began).Seconds()
	if tally != nil {
		m.countReadBack(tally)
		m.Out.Lent += tally.Lent
	}
	if err == nil {
		err = run.Point(ctx, fmt.Sprintf("pass-%d", m.pass))
	}
	return tally, err
}

// copyJob is what passes and verifications of this run have in common.
func (m *copier) copyJob() *transfer.Job {
	return &transfer.Job{
		Source: m.From, Part: m.Part, New: m.Spool, Scratch: m.Run.Dir(), Workers: m.workers(), Progress: m.Progress,
		Digest: m.Plan.Digest, Allow: m.Plan.Allow, Fuse: m.Plan.IntoFuse,
		Unstable: m.Plan.IntoUnstable(), SourceUnstable: m.Plan.FromUnstable,
		Lender: m.lender, Bare: m.Plan.Bare, Overlap: !m.Plan.IntoNow.Spinning, TimeStep: m.steps.From,
	}
}

// workers is how many files are handled at once: where heads have to move
// from one to the other only two, so that one is read while the other's
// digest is taken.
func (m *copier) workers() int {
	if m.Workers == 0 && (m.Plan.FromNow.Spinning || m.Plan.IntoNow.Spinning) {
		return 2
	}
	return m.Workers
}

// flush flushes the records, and then the copy's whole file system; where that
// proves nothing, every file and directory was flushed by itself. The records
// come first: an entry that outlasts a power cut without them is a stranger.
func (m *copier) flush() error {
	if err := m.Spool.Sync(); err != nil {
		return err
	}
	if m.Plan.IntoFuse {
		return m.Part.Dir.Sync()
	}
	return m.Part.Dir.SyncAll()
}

// oldSpools opens what earlier passes of this run left, newest first.
func (m *copier) oldSpools() []*transfer.Spool {
	var out []*transfer.Spool
	for _, n := range slices.Backward(transfer.Spools(m.Run.Dir())) {
		// One that can't be opened is not known: what it said is copied anew.
		if s, err := transfer.OpenSpool(m.Run.Dir(), n); err == nil {
			out = append(out, s)
		}
		m.pass = max(m.pass, n)
	}
	return out
}

// dropSpools removes the spools before the one of the last whole pass, which is
// on the device by then: one of them has to outlast a power cut, or our own part
// would be full of strangers.
func (m *copier) dropSpools() error {
	before := slices.DeleteFunc(transfer.Spools(m.Run.Dir()), func(n int) bool { return n >= m.pass })
	if len(before) == 0 {
		return nil
	}
	if err := m.Spool.Sync(); err != nil {
		return err
	}
	for _, n := range before {
		if err := transfer.RemoveSpool(m.Run.Dir(), n); err != nil {
			return err
		}
	}
	return nil
}

// fromPath is where the copied folder stands now, as processes see it.
func (m *opener) fromPath() string {
	if p := m.From.RealPath(); p != "" {
		return p
	}
	return m.Plan.From
}

// readBack flushes the copy and reads what is new in it from the device (I2). Meanwhile the
// folder is looked at once more: the answer is how it has come to rest, see [copier.restAfter].
func (m *copier) readBack(ctx context.Context, tally *transfer.Tally) (rest, error) {
	if m.Phase() == "copy" {
		if err := m.Begin("verify", tally.Files, tally.Bytes); err != nil {
			return busy, err
		}
	}
	began := time.Now()
	if err := m.flush(); err != nil {
		return busy, err
	}
	job := m.copyJob()
	beside := besideOf(m, job, tally)
	beside.begin(ctx)
	got, err := transfer.Verify(ctx, job)
	atRest := beside.end(err == nil)
	m.Out.Verified.Seconds += time.Since(began).Seconds()
	if got != nil {
		m.countReadBack(got)
		m.stranger(got.Aside)
	}
	if err != nil {
		return busy, err
	}
	m.Out.Verified.Bytes = tally.Bytes
	if err := run.Point(ctx, fmt.Sprintf("verified-%d", m.pass)); err != nil || !atRest {
		return busy, err
	}
	m.looked, m.frozen = began, beside.frozen
	return m.restAfter(ctx, tally, true)
}

// countReadBack adds what was read back, and forgets that all of it came from
// the device once some did not.
func (m *copier) countReadBack(t *transfer.Tally) {
	sure := t.FromDevice == t.ReadBack && !m.Plan.IntoNow.Memory && !m.Plan.IntoNow.Loop && !m.Plan.IntoNow.Fuse
	m.Out.Device = sure && (m.Out.Device || m.Out.Verified.Files == 0) && m.Out.Verified.Files+t.ReadBack > 0
	m.Out.Verified.Files += t.ReadBack
}

func (m *copier) stranger(aside []string) {
	if len(aside) == 0 {
		return
	}
	m.doubt = true
	m.Out.Aside = append(m.Out.Aside, aside...)
	path := m.Into.Join(naming.Strangers(m.Plan.Run))
	m.Out.Findings = append(m.Out.Findings, finding.New(finding.Stranger, path,
		"%d entries that this run has no record of making lay in its part; they are in %s", len(aside),
		path).Named(m.Plan.Name).Listing(len(aside), aside))
}
