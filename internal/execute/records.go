package execute

import (
	"context"
	"errors"

	"nexlin/internal/handle"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// AmendRecords takes changes into the spool and the frozen manifest of a run and
// returns the new spool. The old one goes last: it is the one that agrees with
// the frozen manifest until that is composed anew.
func (m *describer) AmendRecords(ctx context.Context, id string, digest transfer.Digest, live *handle.Dir,
	spool *transfer.Spool, changes []transfer.Record) (*transfer.Spool, error) {
	return m.RewriteRecords(ctx, id, digest, live, func(dir string, n int) (*transfer.Spool, error) {
		return transfer.Amend(spool, dir, n, changes)
	})
}

// RewriteRecords has the spool of a run made anew and composes the frozen manifest
// from it.
func (m *describer) RewriteRecords(ctx context.Context, id string, digest transfer.Digest, live *handle.Dir,
	make func(dir string, n int) (*transfer.Spool, error)) (*transfer.Spool, error) {
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	dir := m.Ledger.RunDir(id)
	all := transfer.Spools(dir)
	next, err := make(dir, all[len(all)-1]+1)
	if err != nil {
		return nil, err
	}
	err = run.Point(ctx, "amended")
	if err == nil {
		err = ComposeFrozen(ctx, dir, next, digest)
	}
	if err == nil {
		err = run.Point(ctx, "frozen")
	}
	for _, n := range all {
		if err == nil {
			err = transfer.RemoveSpool(dir, n)
		}
	}
	if err != nil {
		return nil, errors.Join(err, next.Close())
	}
	return next, nil
}
