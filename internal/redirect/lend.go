package redirect

import (
	"context"
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/preflight"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// A Base is the held original that a bring-back makes its copy from, where it
// is equal to the target.
type Base struct {
	Path string `json:"path"`
	Run  string `json:"run"` // which made the target from it
	Ino  uint64 `json:"ino"`
	Copy bool   `json:"copy"` // see ledger.Held
	Take bool   `json:"take"` // --use-held: rename, do not copy
}

// lend finds the held original that the target was made from, if it lies at
// the old place's drive, and counts what is needed there.
func (e *Engine) lend(ctx context.Context, p *Plan, take bool) error {
	held, err := e.baseOf(p)
	if err != nil {
		return err
	}
	about := finding.Subject{Name: p.Name, Drive: p.IntoNow.Name()}
	if held == nil {
		if take {
			p.find(finding.New(finding.HeldNotUsable, p.Link, "no held original that %s was made from lies on %s",
				p.From, p.IntoNow.Name()).About(about))
		}
		e.space(p)
		return nil
	}
	p.Base = &Base{Path: held.Path, Run: held.Run, Ino: held.Ino, Copy: held.Copy, Take: take}
	e.space(p)
	short := -1
	for i, f := range p.Findings {
		if f.Code == finding.SpaceShort {
			short = i
		}
	}
	if !take && short < 0 || p.FromIno == 0 {
		return nil
	}
	if p.LentFiles, p.LentBytes, err = e.lendable(ctx, p); err != nil {
		return err
	}
	less := preflight.Need(p.Facts.Rounded-p.LentBytes, p.Entries, p.IntoNow.Block)
	if take {
		p.Facts.Rounded -= p.LentBytes
		if short >= 0 {
			p.Findings = append(p.Findings[:short], p.Findings[short+1:]...)
		}
		e.space(p)
		return nil
	}
	p.Findings[short].Remedy = fmt.Sprintf("free room there; `nexlin discard-original %s` would free %s",
		pathtext.Quote(p.Name), pathtext.Size(held.Bytes))
	if less+p.IntoNow.Reserve() <= p.IntoNow.Free {
		p.Findings[short].Remedy = fmt.Sprintf(
			"`nexlin bring-back %s --use-held` takes %s that are equal out of the held original, and needs %s",
			pathtext.Quote(p.Name), fileCount(p.LentFiles), pathtext.Size(less))
	}
	return nil
}

func fileCount(n int64) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// baseOf picks the held original that can lend to the plan's copy; nil if
// there is none. Where inode numbers say little nothing can be taken for unchanged.
func (e *Engine) baseOf(p *Plan) (*ledger.Held, error) {
	if p.Before == nil || p.FromFuse || p.IntoNow.Fuse {
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
		if st, err := handle.Lstat(h.Path); err == nil && isDir(&st, h.Ino) {
			return &h, nil
		}
	}
	return nil, nil
}

func (e *Engine) lendable(ctx context.Context, p *Plan) (files, bytes int64, err error) {
	l, done, err := e.lender(p)
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

// lender opens what a plan's copy may be made from; nil if it is gone or its
// record can't be read: then all of it is copied from the target.
func (e *Engine) lender(p *Plan) (*transfer.Lender, func(), error) {
	if p.Base == nil {
		return nil, nil, nil
	}
	acts, err := e.Ledger.Acts(p.Base.Run)
	if err != nil {
		return nil, nil, err
	}
	s, err := stepsOf(acts)
	if err != nil {
		return nil, nil, err
	}
	l := &transfer.Lender{Take: p.Base.Take, Digest: p.Digest}
	for _, a := range acts {
		if a.Name == "place" { // of several the first: nobody worked in the copy before
			t := a.Intent.Add(-max(s.Into, transfer.LeastStep))
			l.Before = handle.Time{Sec: t.Unix(), Nsec: uint32(t.Nanosecond())}
			break
		}
	}
	if made, err := planOfRun(e.Ledger, p.Base.Run); err == nil {
		l.Digest = made.Digest
	}
	if l.Held, err = handle.OpenReal(p.Base.Path); err != nil {
		return nil, nil, handle.IgnoreMissing(err)
	}
	st, err := l.Held.Self()
	if err == nil && !isDir(&st, p.Base.Ino) {
		err = swap.Broken(p.Base.Path, "another directory than the held original stands there")
	}
	if err == nil {
		l.Spool, err = e.spoolOf(p.Base.Run)
	}
	if err != nil {
		l.Held.Release()
		if recordBroken(err) && !p.Base.Take {
			err = nil
		}
		return nil, nil, err
	}
	return l, func() {
		l.Held.Release()
		_ = l.Spool.Close() // only read
	}, nil
}

// openLender opens it for a run, and locks it.
func (m *execution) openLender() (err error) {
	if m.lender, m.lenderDone, err = m.Engine.lender(m.p); err != nil || m.lender == nil {
		return err
	}
	if err := m.lender.Held.Lock(true); err != nil {
		if handle.IsLocked(err) {
			return m.busy(m.p.Base.Path)
		}
		return err
	}
	return nil
}

// taking reports that files of the part may be the held original's own.
func (m *execution) taking() bool { return m.lender != nil && m.lender.Take }

// giveBack puts what was taken from the held original back there, wherever
// the copy stands by now.
func (m *execution) giveBack(ctx context.Context) error {
	if !m.taking() || m.into == nil {
		return nil
	}
	return m.Act(ctx, "give-back", m.p.Base.Path, func() error {
		for _, name := range []string{m.copyAside(), naming.Part(m.p.Run)} {
			if err := m.lender.GiveBack(m.into, name); err != nil {
				return err
			}
		}
		return nil
	}, nil)
}

// heldNow is the record of the held original with the room that it takes now
// that files were taken from it, or given back; nil if none were.
func (m *execution) heldNow(ctx context.Context) (*ledger.Held, error) {
	if !m.taking() {
		return nil, nil
	}
	all, err := m.Ledger.HeldOf(m.p.Name)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		if h.Path != m.p.Base.Path {
			continue
		}
		facts, err := inventory.Measure(ctx, m.lender.Held, inventory.Options{Scratch: m.Run.Dir()})
		h.Bytes, h.Files = facts.Allocated, facts.Files
		return &h, err
	}
	return nil, nil
}
