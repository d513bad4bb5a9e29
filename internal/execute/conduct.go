package execute

import (
	"context"
	"path/filepath"

	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// Conduct opens what the run needs, records it, and carries it out. What can refuse without
// a trace comes first: the run is not in the ledger yet.
func (m *Execution) Conduct(ctx context.Context) (*plan.Outcome, error) {
	defer m.Close()
	if err := m.OpenAny(); err != nil {
		return nil, err
	}
	if err := m.Job.Try(ctx); err != nil {
		return nil, err
	}
	if err := m.Enlist(); err != nil {
		return nil, err
	}
	defer m.Run.Release()
	return m.Out, m.carryOn(ctx)
}

// base is the last name of the link path.
func (m *opener) base() string { return filepath.Base(m.Plan.Link) }

// Count takes the numbers of what was taken in from the records.
func (m *opener) Count() {
	m.Plan.Files, m.Plan.Bytes, m.Plan.Entries = 0, 0, 0
	for c := transfer.Read(m.Spool); c.Peek() != nil; c.Next() {
		m.Plan.Entries++
		if c.Peek().IsRegular() {
			m.Plan.Files++
			m.Plan.Bytes += c.Peek().Fact.Source.Size
		}
	}
}
