package execute

import (
	"context"
	"errors"
	"fmt"

	"nexlin/internal/handle"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// tryIt proves that the link path leads to the copy. What a trial that was
// stopped left behind is taken away first.
func (m *switcher) tryIt(ctx context.Context) error {
	target, err := m.Live()
	if err != nil {
		return err
	}
	defer target.Release()
	if err := dropProbes(m.Journal, target); err != nil {
		return err
	}
	return m.Job.(copyJob).TryLink(ctx, target)
}

// tryPlace proves that what stands at the link path leads to the copy.
func (m *switcher) tryPlace(ctx context.Context, target *handle.Dir) error {
	names := probeNames()
	via, err := m.via(target)
	if err != nil {
		return err
	}
	return m.Act(ctx, "try", names, func() error {
		return errors.Join(try(via, target, names), m.timesAgain(target))
	}, nil)
}

// via is the path that the trial goes through.
func (m *switcher) via(target *handle.Dir) (via string, err error) {
	at, err := m.LinkIn.Stat(m.base())
	if m.Plan.Linkless() && (handle.Missing(err) || err == nil && !at.IsSymlink() && !m.Plan.Traits().Back) {
		return m.Plan.Target, nil // the way programs are led by settings
	}
	if m.Plan.Traits().Back {
		return m.Plan.Link, nil
	}
	via, m.Plan.ByBytes, err = way(m.LinkIn, m.base(), m.Plan.LinkText, target)
	return via, err
}

// dropProbes removes the probes of this run's last trial from the copy.
func dropProbes(j *run.Journal, target *handle.Dir) error {
	var names [2]string
	known, err := j.Last("try", &names)
	if err != nil || !known {
		return err
	}
	return errors.Join(dropProbe(target, names[0]), dropProbe(target, names[1]))
}

// timesAgain gives the copy its times again, which a trial that was stopped
// had changed: where nobody has made or removed anything in it since.
func (m *switcher) timesAgain(target *handle.Dir) error {
	root := transfer.Read(m.Spool).Peek()
	if root == nil || root.Fact.Copy.Mtime == (handle.Time{}) {
		return nil
	}
	st, err := target.Self()
	if err != nil || st.Mtime == root.Fact.Copy.Mtime {
		return err
	}
	same, err := m.Spool.SameNames(target)
	if err != nil || !same {
		return err
	}
	return handle.IgnorePermission(target.SetTimes(st.Atime, root.Fact.Copy.Mtime))
}

// tryFailed switches back at once. Only a move that was not yet used by
// anybody can do that without asking.
func (m *switcher) tryFailed(ctx context.Context, why error) error {
	if !m.Plan.Exchanges() {
		return fmt.Errorf("the trial failed: %w", why)
	}
	if err := m.LeadBack(ctx); err != nil {
		return errors.Join(fmt.Errorf("the trial failed: %w", why), err)
	}
	m.Switched = false
	if m.Plan.SettingsFirst() {
		if err := m.SettingsBack(ctx); err != nil {
			return errors.Join(fmt.Errorf("the trial failed: %w", why), err)
		}
	}
	return fmt.Errorf("the trial failed, and the folder is back in its place: %w", why)
}
