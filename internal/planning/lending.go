package planning

import (
	"context"
	"fmt"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
)

// findBase picks the held original that can lend to the plan's copy; nil if
// there is none. Where inode numbers say little nothing can be taken for unchanged.
func findBase(e *engine.Engine, p *plan.Plan) (*ledger.Held, error) {
	if p.Before == nil || p.FromUnstable || p.IntoNow.UnstableInodes() {
		return nil, nil
	}
	all, err := e.Ledger.HeldOf(p.Name)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		if h.Run != p.Before.Run || h.Copy || h.Ino == 0 {
			continue
		}
		if d, err := e.Drives.Of(h.Path); err != nil || d.Mount != p.IntoNow.Mount {
			continue
		}
		if st, err := handle.Lstat(h.Path); err == nil && plan.IsFolder(&st, h.Ino) {
			return &h, nil
		}
	}
	return nil, nil
}

// PlanLending finds the held original that the target was made from, if it lies at
// the old place's drive, and counts what is needed there.
func PlanLending(ctx context.Context, e *engine.Engine, p *plan.Plan, take bool) error {
	held, err := findBase(e, p)
	if err != nil {
		return err
	}
	about := finding.Subject{Name: p.Name, Drive: p.IntoNow.Name()}
	if held == nil {
		if take {
			p.Add(finding.New(finding.HeldNotUsable, p.Link, "no held original that %s was made from lies on %s",
				p.From, p.IntoNow.Name()).About(about))
		}
		CheckSpace(e, p)
		return nil
	}
	p.Base = &plan.Base{Path: held.Path, Run: held.Run, Ino: held.Ino, Copy: held.Copy, Take: take}
	CheckSpace(e, p)
	short := -1
	for i, f := range p.Findings {
		if f.Code == finding.SpaceShort {
			short = i
		}
	}
	if !take && short < 0 || p.FromIno == 0 {
		return nil
	}
	if p.LentFiles, p.LentBytes, err = countLendable(ctx, e, p); err != nil {
		return err
	}
	less := preflight.Need(p.Facts.Rounded-p.LentBytes, p.Entries, p.IntoNow.Block)
	if take {
		p.Facts.Rounded -= p.LentBytes
		if short >= 0 {
			p.Findings = append(p.Findings[:short], p.Findings[short+1:]...)
		}
		CheckSpace(e, p)
		return nil
	}
	p.Findings[short].Remedy = fmt.Sprintf("free room there; `nexlin discard-original %s` would free %s",
		pathtext.Quote(p.Name), pathtext.Size(held.Bytes))
	if p.IntoNow.Short(less) == 0 {
		p.Findings[short].Remedy = fmt.Sprintf(
			"`nexlin bring-back %s --use-held` takes %s that are equal out of the held original, and needs %s",
			pathtext.Quote(p.Name), pathtext.Files(p.LentFiles), pathtext.Size(less))
	}
	return nil
}

func countLendable(ctx context.Context, e *engine.Engine, p *plan.Plan) (files, bytes int64, err error) {
	l, done, err := execute.FindLender(e, p)
	if err != nil || l == nil {
		return 0, 0, err
	}
	defer done()
	live, err := handle.OpenReal(p.From)
	if err != nil {
		return 0, 0, err
	}
	defer live.Release()
	return l.Lendable(ctx, live, max(p.IntoNow.Block, 1))
}
