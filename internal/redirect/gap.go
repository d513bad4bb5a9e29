package redirect

import (
	"context"
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
)

// backFromGap takes a switch back that was stopped between its two renames.
func (m *switcher) backFromGap(ctx context.Context) (plan.Position, error) {
	at := plan.Placed
	if m.plan.Traits().Back {
		at = plan.AsBefore
	}
	return at, m.leadBack(ctx)
}

// gapFilled tells of what came to stand at the link path in the moment of the switch.
func (m *switcher) gapFilled(name string) {
	at := m.linkIn.Join(name)
	m.out.Findings = append(m.out.Findings, finding.New(finding.GapFilled, at,
		"something was made at %s in the moment of the switch, and is %s now", m.plan.Link, at).Named(m.plan.Name))
}

// spareName is a name beside the link that nothing has.
func (m *switcher) spareName() (string, error) {
	stem, end := "."+m.base(), ".gap-"+m.plan.Run
	for i := 1; ; i++ {
		name := naming.Shorten(stem, end)
		if i > 1 {
			name = naming.Shorten(stem, fmt.Sprintf("%s-%d", end, i))
		}
		if _, err := m.linkIn.Stat(name); err != nil {
			return name, handle.IgnoreMissing(err)
		}
	}
}

// hideHeld marks what is held as hidden, where a name that begins with a full
// stop is not.
func (m *switcher) hideHeld(ctx context.Context) error {
	hidden, ok, err := m.heldIn.Hidden(m.plan.Held)
	if err != nil || hidden || !ok {
		return handle.IgnorePermission(err)
	}
	return m.Act(ctx, "hide", m.plan.Held, func() error {
		return handle.IgnorePermission(m.heldIn.Hide(m.plan.Held, true))
	}, nil)
}

// showHeld takes the mark away again, if this run has put it there: the folder
// is about to get its own name.
func (m *switcher) showHeld() error {
	hid, err := m.Last("hide", new(string))
	if err != nil || !hid {
		return err
	}
	return handle.IgnorePermission(handle.IgnoreMissing(m.heldIn.Hide(m.plan.Held, false)))
}
