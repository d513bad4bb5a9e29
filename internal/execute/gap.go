package execute

import (
	"context"
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
)

// BackFromGap takes a switch back that was stopped between its two renames.
func (m *switcher) BackFromGap(ctx context.Context) (plan.Position, error) {
	at := plan.Placed
	if m.Plan.Traits().Back {
		at = plan.AsBefore
	}
	return at, m.LeadBack(ctx)
}

// gapFilled tells of what came to stand at the link path in the moment of the switch.
func (m *switcher) gapFilled(name string) {
	at := m.LinkIn.Join(name)
	m.Out.Findings = append(m.Out.Findings, finding.New(finding.GapFilled, at,
		"something was made at %s in the moment of the switch, and is %s now", m.Plan.Link, at).Named(m.Plan.Name))
}

// spareName is a name beside the link that nothing has.
func (m *switcher) spareName() (string, error) {
	stem, end := "."+m.base(), ".gap-"+m.Plan.Run
	for i := 1; ; i++ {
		name := naming.Shorten(stem, end)
		if i > 1 {
			name = naming.Shorten(stem, fmt.Sprintf("%s-%d", end, i))
		}
		if _, err := m.LinkIn.Stat(name); err != nil {
			return name, handle.IgnoreMissing(err)
		}
	}
}

// hideHeld marks what is held as hidden, where a name that begins with a full
// stop is not.
func (m *switcher) hideHeld(ctx context.Context) error {
	hidden, ok, err := m.HeldIn.Hidden(m.Plan.Held)
	if err != nil || hidden || !ok {
		return handle.IgnorePermission(err)
	}
	return m.Act(ctx, "hide", m.Plan.Held, func() error {
		return handle.IgnorePermission(m.HeldIn.Hide(m.Plan.Held, true))
	}, nil)
}

// ShowHeld takes the mark away again, if this run has put it there: the folder
// is about to get its own name.
func (m *switcher) ShowHeld() error {
	hid, err := m.Last("hide", new(string))
	if err != nil || !hid {
		return err
	}
	return handle.IgnorePermission(handle.IgnoreMissing(m.HeldIn.Hide(m.Plan.Held, false)))
}
