package redirect

import (
	"context"
	"path/filepath"

	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// conduct opens what the run needs, records it, and carries it out. What can refuse without
// a trace comes first: the run is not in the ledger yet.
func (m *execution) conduct(ctx context.Context) (*plan.Outcome, error) {
	defer m.close()
	if err := m.openAny(); err != nil {
		return nil, err
	}
	if err := m.job.Try(ctx); err != nil {
		return nil, err
	}
	if err := m.enlist(); err != nil {
		return nil, err
	}
	defer m.Run.Release()
	return m.out, m.carryOn(ctx)
}

// base is the last name of the link path.
func (m *opener) base() string { return filepath.Base(m.plan.Link) }

// count takes the numbers of what was taken in from the records.
func (m *opener) count() {
	m.plan.Files, m.plan.Bytes, m.plan.Entries = 0, 0, 0
	for c := transfer.Read(m.spool); c.Peek() != nil; c.Next() {
		m.plan.Entries++
		if c.Peek().IsRegular() {
			m.plan.Files++
			m.plan.Bytes += c.Peek().Fact.Source.Size
		}
	}
}
