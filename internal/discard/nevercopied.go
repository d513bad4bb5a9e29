package discard

import (
	"context"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/judge"
	"nexlin/internal/late"
	"nexlin/internal/pathtext"
)

// What is held of a move that begins empty was never copied: the held original is
// all there is of it. It has a record of its own, taken at the switch, by which
// it is known whether somebody wrote there since, or took something away.

// judgeNeverCopied is the verdict on such a held original: all of it is the only copy,
// and goes only if a person accepts that. What was written there since the switch
// does not go at all.
func judgeNeverCopied(ctx context.Context, e *engine.Engine, d *Plan, v *judge.Verdict, held *handle.Dir) error {
	l := &judge.Listing{}
	err := inventory.Walk(ctx, held, inventory.VisitorFunc(func(e *inventory.Entry) error {
		if l.Frees += e.Stat.Allocated; e.Stat.IsDir() {
			return nil
		}
		if l.Count++; len(l.Paths) < finding.Listed {
			l.Paths = append(l.Paths, filepath.Join(v.Held.Path, e.Path))
		}
		return nil
	}))
	if err != nil {
		return err
	}
	v.Bare = true
	since, err := execute.SinceNeverCopied(ctx, e, v.Held.Run, held, v.Held.Ino == 0)
	if err != nil {
		return err
	}
	if since != nil && since.NWritten > 0 {
		d.Findings = append(d.Findings, finding.New(finding.LateWrite, filepath.Join(v.Held.Path, since.Written[0]),
			"%s written to the held original after the switch, and is nowhere else",
			pathtext.Plural(since.NWritten, "entry was", "entries were")).Named(d.Redirect.Name).
			As(finding.Blocker).Instead("copy what is needed to the folder in use, and take it away there").Listing(
			since.NWritten, late.PathsUnder(v.Held.Path, since.Written)))
	}
	if l.Count == 0 {
		v.Frees = l.Frees
		return nil
	}
	v.Cases = map[finding.Code]*judge.Listing{finding.NeverCopied: l}
	d.cases(v)
	return nil
}
