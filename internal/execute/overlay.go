package execute

import (
	"context"
	"errors"
	"syscall"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
)

// swapName is the link that a folder is exchanged with for a trial. It leads to
// its own name, so that the folder is reached by its path at every moment (I1).
func swapName(id string) string { return ".nexlin-swap-" + id }

// tryFolder exchanges the folder itself with a link and back, where only that
// tells whether it can be done: an overlay moves no directory of its lower layers
// (EXDEV, overlayfs: redirect_dir). It comes before the copy; a refusal has
// changed nothing.
func (m *copier) tryFolder(ctx context.Context) error {
	if m.Plan.FromNow.FS != "overlay" || !m.Plan.Exchanges() || m.Plan.Gap {
		return nil
	}
	if done, err := m.Finished("try-folder"); done || err != nil {
		return err
	}
	times, err := m.LinkIn.Self()
	if err != nil {
		return err
	}
	s := m.trialSwap()
	err = m.Act(ctx, "try-folder", s.Name, func() error {
		err := s.ToLink(ctx)
		if err == nil {
			err = run.Point(ctx, "try-folder.swapped")
		}
		return errors.Join(err, m.untryFolder(), handle.IgnorePermission(m.LinkIn.SetTimes(times.Atime, times.Mtime)))
	}, nil)
	if errors.Is(err, syscall.EXDEV) {
		return plan.Refused(finding.New(finding.LinkImpossible, m.Plan.Link,
			"%s lies in a lower layer of an overlay, which can't rename it", m.Plan.Link).Named(m.Plan.Name).
			Instead("move it where the layer itself is mounted, or mount the overlay with redirect_dir=on"))
	}
	return err
}

// trialSwap has the folder change places with a link beside it.
func (m *opener) trialSwap() *swap.Swap {
	name := swapName(m.Plan.Run)
	return &swap.Swap{Place: *m.LinkPlace(), Text: name, Away: m.LinkIn, Name: name, Ino: m.Plan.FromID()}
}

// untryFolder puts right what a trial left that was stopped between its two
// exchanges.
func (m *opener) untryFolder() error {
	s := m.trialSwap()
	if ours, err := s.Says(s.Text); err != nil || !ours {
		return errors.Join(err, s.Tidy())
	}
	return s.ToFolder(context.Background())
}

// refusedEarly ends a run that was refused by a trial that had to be journaled:
// nothing is left of it.
func (m *copier) refusedEarly(err error) (bool, error) {
	var refused *plan.RefusedError
	if !errors.As(err, &refused) {
		return false, err
	}
	done, e := m.begunCopy()
	if done || e != nil {
		return false, errors.Join(err, e)
	}
	m.Out.State = ledger.Refused
	return true, errors.Join(err, m.Run.Set(ledger.Refused, err.Error(), nil))
}

// begunCopy reports whether the run has begun to make anything on the target.
func (m *copier) begunCopy() (bool, error) {
	acts, err := m.Acts()
	for _, a := range acts {
		if a.Name != "try-folder" {
			return true, nil
		}
	}
	return false, err
}
