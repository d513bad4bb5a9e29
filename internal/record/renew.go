package record

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/inventory"
	"nexlin/internal/judge"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// UpdateManifest has the manifest of a redirect say what is at the target
// now, after a deep check that began at the start: what people changed, made
// and deleted is taken in. What went bad keeps its old record, so that it goes
// on being found. Held originals are compared by their own manifest, which
// stays as it was. Its errors are those of [jobs.Do].
func UpdateManifest(ctx context.Context, e *engine.Engine, r ledger.Redirect, d *judge.Deep) (*plan.Outcome, error) {
	if d == nil || d.Verdict == nil || !d.Since.IsZero() {
		return nil, errors.New("the manifest is updated only after all of the target was read at once")
	}
	now := time.Now()
	p := *d.Verdict.Plan
	p.Run, p.Kind, p.Made, p.Name, p.Before, p.Mend = ledger.NewRunID(now), plan.KindRenew, now, r.Name, &r, nil
	p.Link, p.Target, p.LinkText = r.Link, r.Target, r.LinkText()
	p.Into, p.Final, p.IntoDrive = filepath.Dir(r.Target), filepath.Base(r.Target), r.Drive
	p.FromDrive, p.From, p.Held, p.Base, p.Empty = r.Drive, "", "", nil, nil
	m := execute.New(e, &p)
	m.Job = &renewing{Basics: execute.Basics{Execution: m}, verdict: d.Verdict}
	return m.Conduct(ctx)
}

// A renewing has the manifest say what is at the target now.
type renewing struct {
	execute.Basics
	verdict  *judge.Verdict   // what the check has found; nil once that is gone
	digester *transfer.Reader // of files that have changed
}

func (m *renewing) Open() error { return m.OpenMended(false) }

// Forward writes the new records and the manifest on the drive.
func (m *renewing) Forward(ctx context.Context) error {
	if m.verdict == nil { // stopped: what the check had found is gone with it
		d, err := judge.CheckDeep(ctx, m.Engine, *m.Plan.Before, judge.DeepOptions{FromStart: true})
		if err != nil {
			return err
		}
		if m.verdict = d.Verdict; m.verdict == nil {
			return swap.Broken(m.Plan.Copy(), "it can't be read, or its records can't")
		}
	}
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	old, err := m.SpoolOf(m.Plan.Before.Run)
	if err != nil {
		return err
	}
	defer old.Close()
	if err := transfer.RemoveSpools(m.Run.Dir()); err != nil {
		return err
	}
	m.digester = transfer.NewDigester(m.Plan.Digest)
	m.Spool, err = transfer.Compose(m.Run.Dir(), 1, func(put func(*transfer.Record) error) error {
		return transfer.Match(ctx, live, old, func(rec *transfer.Record, now *inventory.Entry) error {
			next, err := m.renewed(ctx, rec, now)
			if err != nil || next == nil {
				return err
			}
			return put(next)
		})
	})
	if err != nil {
		return err
	}
	if err := execute.ComposeFrozen(ctx, m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
		return err
	}
	if err := run.Point(ctx, "records"); err != nil {
		return err
	}
	m.Count()
	r := *m.Plan.Before
	r.Run, r.Files, r.Bytes = m.Plan.Run, m.Out.Contents.Files, m.Out.Contents.Bytes
	if err := m.Act(ctx, "notes", m.Plan.Name, func() error { return m.WriteNotesFrom(m.Run.Dir(), m.NoteOf(&r)) },
		nil); err != nil {
		return err
	}
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error { return t.SaveRedirect(r) })
}

// renewed is the new record of an entry; nil if it is gone.
func (m *renewing) renewed(ctx context.Context, rec *transfer.Record, now *inventory.Entry) (*transfer.Record, error) {
	rotten := rec != nil && codeOf(m.verdict, rec) == finding.Rot
	if now == nil {
		if rotten {
			return rec, nil
		}
		return nil, nil
	}
	if rotten {
		return rec, nil
	}
	if err := now.ReadXattrs(); err != nil {
		return nil, err
	}
	next := &transfer.Record{Path: now.Path, Link: now.Link, Xattrs: now.Xattrs}
	if now.Stat.IsDevice() {
		next.Rdev = now.Stat.Rdev
	}
	snap := transfer.SnapOf(&now.Stat, now.Xattrs).On(m.Plan.IntoUnstable())
	next.Fact = transfer.Fact{Flags: transfer.Copied | transfer.Verified, Source: snap, Copy: snap}
	if !now.Stat.IsRegular() {
		return next, nil
	}
	if rec != nil && rec.IsRegular() && codeOf(m.verdict, rec) == "" && rec.Fact.Sum != (transfer.Sum{}) {
		next.Fact.Digest, next.Fact.Sum = rec.Fact.Digest, rec.Fact.Sum
		return next, nil
	}
	var err error
	next.Fact.Sum, err = late.ReadWith(ctx, m.digester, now.Dir, now.Name, now.Stat.Size)
	next.Fact.Digest = m.digester.Digest()
	return next, inventory.Vanished(err)
}

// codeOf is what became of a record's entry.
func codeOf(v *judge.Verdict, rec *transfer.Record) finding.Code {
	if rec.Ord >= int64(len(v.Codes)) {
		return ""
	}
	return judge.Verdicts[v.Codes[rec.Ord]]
}

// Back has the drive say again what it said before.
func (m *renewing) Back(ctx context.Context) error {
	err := m.Act(ctx, "notes", m.Plan.Name, func() error {
		return m.WriteNotesFrom(m.Ledger.RunDir(m.Plan.Before.Run), m.NoteOf(m.Plan.Before))
	}, nil)
	if err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error { return t.SaveRedirect(*m.Plan.Before) })
}

// Renewing is the job of a new manifest.
func Renewing(m *execute.Execution) execute.Job {
	return &renewing{Basics: execute.Basics{Execution: m}}
}
