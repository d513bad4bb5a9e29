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

// Count takes the numbers of what the folder holds from the records.
func (m *opener) Count() {
	m.Out.Contents = plan.Count{}
	for c := transfer.Read(m.Spool); c.Peek() != nil; c.Next() {
		if r := c.Peek(); r.IsRegular() {
			m.Out.Contents.Files++
			if r.Same == "" {
				m.Out.Contents.Bytes += r.Fact.Source.Size
			}
		}
	}
}
