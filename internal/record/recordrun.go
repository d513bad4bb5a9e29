package record

import (
	"context"
	"errors"
	"path/filepath"
	"slices"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// Compare holds the original against the copy without taking anything in, and
// adds what it finds to the plan.
func Compare(ctx context.Context, e *engine.Engine, p *plan.Plan) error {
	m := &recording{execute.Basics{Execution: execute.New(e, p)}}
	defer m.Close()
	if err := m.Open(); err != nil {
		return err
	}
	_, err := m.adopt(ctx, 0)
	p.Findings = append(p.Findings, m.Out.Findings...)
	p.Files, p.Bytes = m.Out.Contents.Files, m.Out.Contents.Bytes
	return err
}

// A recording takes in what was moved by hand.
type recording struct{ execute.Basics }

func (m *recording) Where() (plan.Position, error) { return m.WhereLinked() }

// Try tries the link, if it is to be made.
func (m *recording) Try(context.Context) error {
	if m.Plan.From != m.Plan.Link {
		return nil
	}
	return m.TrySwitch()
}

// Ended ends a run that took nothing in as refused, not as stopped.
func (m *recording) Ended(err error) error {
	if refused := (*plan.RefusedError)(nil); errors.As(err, &refused) {
		return errors.Join(err, m.Run.Set(ledger.Refused, refused.Error(), nil))
	}
	return m.SetStopped(err)
}

// Open takes the handles and locks of a record.
func (m *recording) Open() error {
	err := m.OpenAround()
	if err != nil {
		return err
	}
	if m.Into, err = m.OpenReal(m.Plan.Into); err != nil {
		return err
	}
	if err := m.LockCopy(); err != nil {
		return err
	}
	if m.Plan.From == "" {
		return nil
	}
	if m.From, err = m.FindFrom(); err != nil {
		return err
	}
	if m.From == nil {
		return swap.Broken(m.Plan.From, "the original is not there")
	}
	return m.Lock(m.From)
}

// adopt compares original and copy and writes the records of pass n; 0
// writes none. Differences that were not accepted are a *RefusedError.
func (m *recording) adopt(ctx context.Context, n int) (*transfer.Adopted, error) {
	live := m.Locks[0]
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	if m.Progress != nil {
		m.Progress.Phase("compare", 0, 0)
	}
	dir := ""
	if n > 0 {
		dir = m.Run.Dir()
	}
	var content, meta differing
	a, err := transfer.Adopt(ctx, transfer.Adoption{
		Source: m.From, Copy: live, Prove: true, Dir: dir, N: n, Digest: m.Plan.Digest,
		SourceUnstable: m.Plan.FromUnstable, CopyUnstable: m.Plan.IntoUnstable(), Progress: m.Progress,
		Differs: func(path, what string, isContent bool) {
			if isContent {
				content.add(path, what)
			} else {
				meta.add(path, what)
			}
		},
	})
	if err != nil {
		return nil, err
	}
	m.Out.Contents = plan.Count{Files: a.Files, Bytes: a.Bytes}
	found := slices.Concat(content.finding(finding.CopyDiffers, m.Plan), meta.finding(finding.MetaDiffers, m.Plan))
	if n := a.LeadOut; n > 0 && m.From != nil {
		found = append(found, finding.New(finding.HardLinksOut, m.From.Join(a.LeadOutPaths[0]),
			"%s in %s have further names outside of it", pathtext.Entries(n),
			m.From.Path()).Named(m.Plan.Name).As(finding.Blocker).Listing(n,
			late.PathsUnder(m.From.Path(), a.LeadOutPaths)))
	}
	if m.From != nil {
		more, first, err := transfer.Beyond(ctx, m.From, live, finding.Listed)
		if err != nil {
			return a, err
		}
		if more > 0 {
			found = append(found, finding.New(finding.MoreInCopy, filepath.Join(m.Plan.Copy(), first[0]),
				"%s in %s that %s has not", pathtext.Entries(more), m.Plan.Copy(),
				m.Plan.From).Named(m.Plan.Name).
				Listing(more, late.PathsUnder(m.Plan.Copy(), first)))
		}
	}
	check := plan.Plan{
		Header: plan.Header{Kind: plan.KindRecord},
		Seen:   plan.Seen{Findings: found},
	}
	check.AcceptFound(m.Plan.Accepted)
	m.Out.Findings = append(m.Out.Findings, check.Findings...)
	return a, check.Blocked()
}

// differing gathers what an original and its copy do not have alike.
type differing struct {
	n            int
	paths, whats []string
}

func (d *differing) add(path, what string) {
	d.n++
	if len(d.paths) < finding.Listed {
		d.paths, d.whats = append(d.paths, path), append(d.whats, what)
	}
}

func (d *differing) finding(code finding.Code, p *plan.Plan) []finding.Finding {
	if d.n == 0 {
		return nil
	}
	f := finding.New(code, filepath.Join(p.From, d.paths[0]), "%s in %s differ in %s", pathtext.Entries(d.n),
		p.From,
		p.Copy()).Named(p.Name)
	f = f.Listing(d.n, late.PathsUnder(p.From, d.paths))
	f.Details = d.whats
	return []finding.Finding{f}
}

// Forward proves the copy and takes it in; each step may be done already.
func (m *recording) Forward(ctx context.Context) error {
	at, err := m.whereRecord()
	if err != nil {
		return err
	}
	if at == plan.Between {
		if err := m.CloseGap(ctx); err != nil {
			return err
		}
		at = plan.Switched
	}
	if at != plan.Switched {
		if err := handle.InOrder(func() error { return m.prove(ctx) }, func() error { return m.Tag(ctx) },
			func() error { return m.Begin("switch", 0, 0) }, func() error {
				return m.Act(ctx, "switch", m.Plan.LinkText, func() error { return m.recordSwitch(ctx) }, nil)
			}); err != nil {
			return err
		}
	}
	m.Switched = true
	return m.takeIn(ctx)
}

// takeIn tries the link, and writes what was proven to drive and ledger.
func (m *recording) takeIn(ctx context.Context) (err error) {
	if m.Spool == nil {
		if m.Spool, err = m.SpoolOf(m.Plan.Run); err != nil {
			return err
		}
	}
	m.Count()
	if err := m.Begin("try", 0, 0); err != nil {
		return err
	}
	if err := m.TryMended(ctx); err != nil {
		return err
	}
	if err := m.Begin("finish", 0, 0); err != nil {
		return err
	}
	if m.From != nil {
		if err := m.Act(ctx, "late-writes", m.Plan.HeldPath(), func() error { return m.BringLate(ctx) },
			nil); err != nil {
			return err
		}
	}
	if err := m.Act(ctx, "notes", m.Plan.Name, func() error { return m.WriteNotes(note.Here) }, nil); err != nil {
		return err
	}
	if err := m.End(ledger.Done); err != nil {
		return err
	}
	held, err := m.recordHeld(ctx)
	if err != nil {
		return err
	}
	r := m.LedgerRedirect()
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if err := t.SaveRedirect(r); err != nil || held == nil {
			return err
		}
		return t.AddHeld(*held)
	})
}

// recordHeld is the original as a held one; nil if there is none.
func (m *recording) recordHeld(ctx context.Context) (*ledger.Held, error) {
	if m.From == nil {
		return nil, nil
	}
	h := m.HeldRow()
	if m.Plan.FromUnstable {
		h.Ino = 0
	}
	facts, err := inventory.Measure(ctx, m.From, inventory.Options{SkipDeep: true, Scratch: m.Run.Dir()})
	h.Bytes, h.Files = facts.Allocated, facts.Files
	return &h, err
}

// prove compares the two sides and freezes what was found equal.
func (m *recording) prove(ctx context.Context) error {
	if err := m.Begin("compare", 0, 0); err != nil {
		return err
	}
	if err := transfer.RemoveSpools(m.Run.Dir()); err != nil {
		return err
	}
	a, err := m.adopt(ctx, 1)
	if a != nil && a.Spool != nil {
		m.Spool = a.Spool
	}
	if err != nil {
		return err
	}
	m.Out.Verified = plan.Count{Files: a.Files, Bytes: a.Bytes}
	if err := execute.ComposeFrozen(ctx, m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
		return err
	}
	return run.Point(ctx, "proven")
}

// whereRecord tells whether the link leads to the copy already.
func (m *recording) whereRecord() (plan.Position, error) {
	if m.Plan.From == m.Plan.Link {
		return m.WhereMove()
	}
	ours, err := m.LinkPlace().Says(m.Plan.LinkText)
	if err != nil || !ours {
		return plan.AsBefore, err
	}
	// The link may have been so from the start: then nothing is proven yet.
	done, err := m.Finished("switch")
	if done {
		return plan.Switched, err
	}
	return plan.AsBefore, err
}

// recordSwitch puts our link in the place of the folder or of the link that
// somebody made.
func (m *recording) recordSwitch(ctx context.Context) error {
	if m.Plan.From == m.Plan.Link {
		return m.ToLink(ctx)
	}
	done, err := m.LinkPlace().Says(m.Plan.LinkText)
	if err != nil {
		return err
	}
	if done {
		return m.DropOwn(m.LinkIn)
	}
	return m.LinkPlace().Lead(m.Plan.OldText, m.Plan.LinkText)
}

// Back takes a record back: link and folder are as they were, and the
// ledger forgets both.
func (m *recording) Back(ctx context.Context) error {
	err := m.Act(ctx, "switch-back", m.Plan.OldText, func() error {
		if m.Plan.From == m.Plan.Link {
			return m.ToFolder(ctx)
		}
		ours, err := m.LinkPlace().Says(m.Plan.LinkText)
		if err != nil || !ours {
			return err
		}
		return m.LinkPlace().Lead(m.Plan.LinkText, m.Plan.OldText)
	}, nil)
	if err != nil {
		return err
	}
	m.Switched = false
	if err := m.Untried(m.Locks[0]); err != nil {
		return err
	}
	if err := m.DropOwn(m.LinkIn, m.HeldIn); err != nil {
		return err
	}
	if err := m.ForgetRun(ctx); err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		if err := t.HeldGone(m.Plan.Run, m.Plan.HeldPath()); err != nil {
			return err
		}
		return t.RemoveRedirect(m.Plan.Name)
	})
}

// Recording is the job of a record.
func Recording(m *execute.Execution) execute.Job { return &recording{execute.Basics{Execution: m}} }
