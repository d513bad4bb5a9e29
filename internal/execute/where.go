package execute

import (
	"encoding/json"
	"errors"
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/shell"
	"nexlin/internal/swap"
)

type Placement struct {
	Part string `json:"part"`
	Ino  uint64 `json:"ino"`
}

func (m *opener) placementOf(st *handle.Stat) Placement {
	d := Placement{naming.Part(m.Plan.Run), st.Ino}
	if m.Plan.IntoUnstable() {
		d.Ino = 0
	}
	return d
}

// WhereLinked is the place of a record by its link alone.
func (m *switcher) WhereLinked() (plan.Position, error) {
	ours, err := m.LinkPlace().Says(m.Plan.LinkText)
	if ours || err != nil {
		return plan.Switched, err
	}
	return plan.AsBefore, nil
}

// copyAt reports whether the copy stands at its final place.
func (m *switcher) copyAt() (bool, error) {
	var d Placement
	known, err := m.Last("place", &d)
	if err != nil || !known || m.Into == nil {
		return false, err
	}
	st, err := m.Into.Stat(m.Plan.Final)
	if handle.Missing(err) {
		return false, nil
	}
	if err != nil || !plan.IsFolder(&st, d.Ino) {
		return false, err
	}
	if d.Ino != 0 {
		return true, nil
	}
	// Without a number to know it by: it has its final name if the part's is gone.
	_, err = m.Into.Stat(naming.Part(m.Plan.Run))
	return handle.Missing(err), handle.IgnoreMissing(err)
}

func (m *switcher) placedOrBefore() (plan.Position, error) {
	at, err := m.copyAt()
	if at {
		return plan.Placed, err
	}
	return plan.AsBefore, err
}

func (m *switcher) WhereMove() (plan.Position, error) {
	s, err := m.swap()
	if err != nil {
		return plan.AsBefore, err
	}
	at, err := s.Where()
	switch {
	case err != nil:
		return plan.AsBefore, m.taken(err)
	case at == swap.Folder:
		if led, err := m.led(); led || err != nil {
			return plan.Led, err
		}
		return m.placedOrBefore()
	case at == swap.Between:
		return plan.Between, nil
	}
	return plan.Switched, nil
}

// taken refuses to go on, or back, while something else stands in the link's place, and
// says how that ends.
func (m *switcher) taken(err error) error {
	var t *swap.TakenError
	if !errors.As(err, &t) {
		return err
	}
	f := finding.New(finding.OldPlaceTaken, t.Path, "something else stands at %s by now, and the folder is %s, whole",
		t.Path, t.Away).Named(m.Plan.Name).OfRun(m.Plan.Run)
	return plan.Refused(f.Instead(fmt.Sprintf("set what stands there aside: `%s`; then `nexlin resume %s` goes "+
		"on, `nexlin undo %[2]s` back", shell.Here.Rename(t.Path, t.Path+".aside-"+m.Plan.Run), m.Plan.Run)))
}

func (m *switcher) WhereMoveOn() (plan.Position, error) {
	if m.Plan.Linkless() {
		// Nothing on the disks says to which of the two settings lead: each is
		// whole, so the journal may.
		back, err := m.Last("switch-back", new(json.RawMessage))
		if err != nil {
			return plan.AsBefore, err
		}
		done, err := m.Finished("switch")
		if err != nil {
			return plan.AsBefore, err
		}
		if done && !back {
			return plan.Switched, nil
		}
		return m.placedOrBefore()
	}
	if ours, err := m.LinkPlace().Says(m.Plan.LinkText); ours || err != nil {
		return plan.Switched, err
	}
	if old, err := m.LinkPlace().Says(m.Plan.OldText); old || err != nil {
		if err != nil {
			return plan.AsBefore, err
		}
		return m.placedOrBefore()
	}
	if half, err := m.LinkPlace().Half(m.Plan.LinkText, m.Plan.OldText); half || err != nil {
		return plan.Between, err
	}
	return plan.AsBefore, swap.Broken(m.Plan.Link, "the link is neither the old one nor the new one")
}

func (m *switcher) WhereBringBack() (plan.Position, error) {
	if at, err := m.copyAt(); at || err != nil {
		return plan.Switched, err
	}
	s, err := m.swap()
	if err != nil {
		return plan.AsBefore, err
	}
	if m.Into != nil {
		at, err := s.Where()
		var taken *swap.TakenError
		switch {
		case errors.As(err, &taken):
			return plan.AsBefore, m.taken(err)
		case err == nil && at == swap.Between:
			return plan.Between, nil
		case err == nil && at == swap.Link:
			return plan.AsBefore, nil
		}
	}
	// The folder that comes back may not be there yet.
	if ours, err := s.Says(m.Plan.LinkText); ours || err != nil {
		return plan.AsBefore, err
	}
	nothing, err := s.Nothing()
	if err == nil && !(nothing && s.MayLack) {
		err = swap.Broken(m.Plan.Link, "it is not the link that Nexlin made")
	}
	return plan.AsBefore, err
}
