package redirect

import (
	"context"
	"errors"
	"syscall"

	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
)

// swapName is the link that a folder is exchanged with for a trial. It leads to
// its own name, so that the folder is reached by its path at every moment (I1).
func swapName(run string) string { return ".nexlin-swap-" + run }

// tryFolder exchanges the folder itself with a link and back, where only that
// tells whether it can be done: an overlay moves no directory of its lower layers
// (EXDEV, overlayfs: redirect_dir). It comes before the copy; a refusal has
// changed nothing.
func (m *mover) tryFolder(ctx context.Context) error {
	if m.p.FromNow.FS != "overlay" || !m.p.exchanges() || m.p.Gap {
		return nil
	}
	if done, err := m.finished("try-folder"); done || err != nil {
		return err
	}
	name := swapName(m.p.Run)
	times, err := m.linkIn.Self()
	if err != nil {
		return err
	}
	err = m.act(ctx, "try-folder", name, func() error {
		if err := link.MakeFor(m.linkIn, name, name, m.owner()); err != nil {
			return err
		}
		err := link.Exchange(m.linkIn, m.base(), m.linkIn, name)
		if err == nil {
			if err = step(ctx, "try-folder.swapped"); err == nil {
				err = link.Exchange(m.linkIn, m.base(), m.linkIn, name)
			}
		}
		return errors.Join(err, m.untryFolder(), ignorePermission(m.linkIn.SetTimes(times.Atime, times.Mtime)))
	}, nil)
	if errors.Is(err, syscall.EXDEV) {
		return &RefusedError{[]finding.Finding{finding.New(finding.LinkImpossible, m.p.Link, "%s lies in a lower layer of an overlay, which can't rename it", m.p.Link).Named(m.p.Name).
			Instead("move it where the layer itself is mounted, or mount the overlay with redirect_dir=on")}}
	}
	return err
}

// untryFolder puts right what a trial left that was stopped between its two
// exchanges.
func (m *mover) untryFolder() error {
	name, at := swapName(m.p.Run), m.linkIn
	ours, err := link.Is(at, m.base(), name)
	if err == nil && ours {
		if err = link.Exchange(at, m.base(), at, name); err == nil {
			err = at.Sync()
		}
	}
	if err != nil {
		return err
	}
	if ours, err = link.Is(at, name, name); err != nil || !ours {
		return err
	}
	return flushed(link.Remove(at, name, name), at)
}

// refusedEarly ends a run that was refused by a trial that had to be journaled:
// nothing is left of it.
func (m *mover) refusedEarly(err error) (bool, error) {
	var refused *RefusedError
	if !errors.As(err, &refused) {
		return false, err
	}
	done, e := m.begunCopy()
	if done || e != nil {
		return false, errors.Join(err, e)
	}
	m.out.State = ledger.Refused
	return true, errors.Join(err, m.run.Set(ledger.Refused, err.Error(), nil))
}

// begunCopy reports whether the run has begun to make anything on the target.
func (m *mover) begunCopy() (bool, error) {
	acts, err := m.Ledger.Acts(m.p.Run)
	for _, a := range acts {
		if a.Name != "try-folder" {
			return true, nil
		}
	}
	return false, err
}
