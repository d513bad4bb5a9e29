package planning

import (
	"context"
	"fmt"
	"slices"

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
	stop    context.CancelFunc // of what was asked
	take    bool
	base    *ledger.Held // nil if none can lend
	loan    transfer.Loan
	err     error
	settled chan struct{} // closed once the two above are there; nil if that was not asked
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
	l.settled = make(chan struct{})
	lender, done, err := execute.FindLender(e, p)
	if err != nil || lender == nil {
		l.err = err
		close(l.settled)
		return
	}
	from, block := p.From, max(p.IntoNow.Block, 1)
	go func() {
		defer close(l.settled)
		defer done()
		live, err := handle.OpenReal(from)
		if err != nil {
			l.err = handle.IgnoreMissing(err)
			return
		}
		defer live.Release()
		l.loan, l.err = lender.Lendable(ctx, live, block)
	}()
}

// Close ends what was asked and lets go of everything.
func (l *Lending) Close() {
	l.stop()
	if l.settled != nil {
		<-l.settled
	}
}

// wait gives what is lent.
func (l *Lending) wait() (transfer.Loan, error) {
	<-l.settled
	return l.loan, l.err
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
	var err error
	if p.Loan, err = l.wait(); err != nil {
		return err
	}
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
