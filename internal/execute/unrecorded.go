package execute

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/transfer"
)

// recordNeverCopied writes the record of what is held: names and metadata, no
// content.
func (m *describer) recordNeverCopied(ctx context.Context) error {
	dir := filepath.Join(m.Run.Dir(), heldRecords)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := transfer.RemoveSpools(dir); err != nil { // of a run that was stopped
		return err
	}
	s, err := transfer.Compose(dir, 1, func(put func(*transfer.Record) error) error {
		return inventory.Walk(ctx, m.From, inventory.VisitorFunc(func(e *inventory.Entry) error {
			if err := e.ReadXattrs(); err != nil {
				return err
			}
			rec := transfer.Record{Path: e.Path, Link: e.Link}
			rec.Fact.Source = transfer.SnapOf(&e.Stat, e.Xattrs).On(m.Plan.FromUnstable)
			return put(&rec)
		}))
	})
	if err != nil {
		return err
	}
	return s.Close()
}

// SinceNeverCopied holds such a held original against its record. Nil where an
// older build took none.
func SinceNeverCopied(ctx context.Context, e *engine.Engine, id string, held *handle.Dir, fuse bool) (*sinceHeld,
	error) {
	dir := filepath.Join(e.Ledger.RunDir(id), heldRecords)
	spool, err := transfer.OpenSpool(dir, 1)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer spool.Close()
	out := &sinceHeld{}
	err = transfer.Differences(ctx, held, transfer.Source, spool, func(d transfer.Difference) error {
		switch {
		case d.Now == nil:
			if out.nGone++; len(out.gone) < finding.Listed {
				out.gone = append(out.gone, d.Path)
			}
		case d.Now.Stat.IsDir() && d.Was != nil && d.Was.IsDir():
			// Its times follow from what is in it.
		default:
			if out.NWritten++; len(out.Written) < finding.Listed {
				out.Written = append(out.Written, d.Path)
			}
		}
		return nil
	})
	return out, err
}

// heldRecords is the directory of that record below the run's own.
const heldRecords = "never-copied"

// A sinceHeld says what has happened to a held original that was never copied.
type sinceHeld struct {
	Written []string // made or changed since; the first of them
	gone    []string // taken away; the first of them
	NWritten,
	nGone int
}
