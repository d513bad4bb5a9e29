package planning

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/transfer"
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

// A Lending is what is asked of the held original beside the look at the folder itself.
type Lending struct {
	take  bool
	base  *ledger.Held       // nil if none can lend
	loan  transfer.Loan      // once asked is through
	asked errgroup.Group     // empty as long as nothing was asked
	stop  context.CancelFunc // of what was asked
}

// LookAtHeld finds the held original that the target was made from, if it lies at the old
// place's drive. If it is to be taken, what it lends is found out while the caller looks at
// the folder.
func LookAtHeld(ctx context.Context, e *engine.Engine, p *plan.Plan, take bool) (*Lending, error) {
	held, err := findBase(e, p)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	l := &Lending{stop: stop, take: take, base: held}
	if held == nil {
		return l, nil
	}
	p.Base = &plan.Base{Path: held.Path, Run: held.Run, Ino: held.Ino, Copy: held.Copy, Take: take}
	if take {
		l.begin(ctx, e, p)
	}
	return l, nil
}

// begin finds out what is lent, beside what the caller does. A target that is not there is
// the caller's to tell.
func (l *Lending) begin(ctx context.Context, e *engine.Engine, p *plan.Plan) {
	lender, done, err := execute.FindLender(e, p)
	from, block := p.From, max(p.IntoNow.Block, 1)
	l.asked.Go(func() error {
		if err != nil || lender == nil {
			return err
		}
		defer done()
		live, err := handle.OpenReal(from)
		if err != nil {
			return handle.IgnoreMissing(err)
		}
		defer live.Release()
		l.loan, err = lender.Lendable(ctx, live, block)
		return err
	})
}

// Close ends what was asked and lets go of everything.
func (l *Lending) Close() {
	l.stop()
	_ = l.asked.Wait() // nobody wants to know any more
}

// PlanLending counts what is needed at the old place's drive, and what the held original saves
// of it.
func PlanLending(ctx context.Context, e *engine.Engine, p *plan.Plan, l *Lending) error {
	CheckSpace(e, p)
	if l.base == nil {
		if l.take {
			p.Add(finding.New(finding.HeldNotUsable, p.Link, "no held original that %s was made from lies on %s",
				p.From, p.IntoNow.Name()).About(finding.Subject{Name: p.Name, Drive: p.IntoNow.Name()}))
		}
		return nil
	}
	short := slices.IndexFunc(p.Findings, func(f finding.Finding) bool { return f.Code == finding.SpaceShort })
	if !l.take && short < 0 || p.FromIno == 0 {
		return nil
	}
	if !l.take {
		l.begin(ctx, e, p)
	}
	if err := l.asked.Wait(); err != nil {
		return err
	}
	p.Loan = l.loan
	less := preflight.Need(p.Facts.Rounded-p.Loan.Bytes, p.Entries, p.IntoNow.Block)
	if l.take {
		p.Facts.Rounded -= p.Loan.Bytes
		if short >= 0 {
			p.Findings = append(p.Findings[:short], p.Findings[short+1:]...)
		}
		CheckSpace(e, p)
		return nil
	}
	p.Findings[short].Remedy = fmt.Sprintf("free room there; `nexlin discard-original %s` would free %s",
		pathtext.Quote(p.Name), pathtext.Size(l.base.Bytes))
	if p.IntoNow.Short(less) == 0 {
		p.Findings[short].Remedy = fmt.Sprintf(
			"`nexlin bring-back %s --use-held` takes %s that are equal out of the held original, and needs %s",
			pathtext.Quote(p.Name), pathtext.Files(p.Loan.Files), pathtext.Size(less))
	}
	return nil
}
