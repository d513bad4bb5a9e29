// Package mend puts right what has come off a redirect: link, settings, tag, note.
package mend

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/merge"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
)

// Options says how a redirect is to be mended.
type Options struct {
	Halves     plan.Halves
	Choices    []plan.Choice
	Seen       string // how Windows names the target of a junction now; empty: as before
	WhileInUse bool
	WaitQuiet  time.Duration
	Accept     []finding.Code
	Attach     bool                       // the link of one that is detached is made again
	Progress   func(entries, bytes int64) // of the inspection; may be nil
}

// MakePlan finds out what is to be put right about a redirect: a link that is
// missing or astray, a drive at another place, a real folder in the link's
// place, a tag or note that is gone. The plan is nil if nothing is. What it
// can't mend is a blocker. It changes nothing.
func MakePlan(ctx context.Context, e *engine.Engine, r ledger.Redirect, o Options) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindMend, Made: now, Name: r.Name, Before: &r,
			UID: r.UID, GID: account.Group(r.UID), Account: r.Account, Accepted: o.Accept},
		Route:   plan.Route{Link: r.Link, FromDrive: r.Drive, IntoDrive: r.Drive, Methods: r.Methods},
		Copying: plan.Copying{WhileInUse: o.WhileInUse, WaitQuiet: o.WaitQuiet, InnerLinks: plan.RewriteFor(r)},
		Merging: plan.Merging{Halves: o.Halves, Choices: o.Choices},
		Mend:    &plan.Mending{After: r},
	}
	if err := planning.CheckUnfinished(e, p); err != nil {
		return nil, err
	}
	if r.State == ledger.Ended || plan.Owned(r) {
		return mendHeld(e, p)
	}
	w, err := mendDrive(e, p, o)
	if err != nil {
		return nil, err
	}
	detached := r.State == ledger.Detached && !o.Attach
	if !w.Found {
		return mendAway(e, p, &w, detached)
	}
	if !detached {
		if err := planning.CheckLinkDrive(e, p, &r); err != nil || p.Blocked() != nil {
			return p, err
		}
		p.Mend.After.State = ledger.Linked
	}
	mendPlace(p, w, o.Seen)
	if p.Mend.Held, err = heldMoves(e, r); err != nil {
		return nil, err
	}
	err = mendTarget(p)
	p.AcceptFound(o.Accept)
	if err != nil || p.Blocked() != nil {
		return p, err
	}
	split := false
	if !detached { // what leads there stays away, as it was meant
		if split, err = mendLinkOf(ctx, e, p, r); err != nil || p.Blocked() != nil {
			return p, err
		}
	}
	p.Mend.Note = planning.StaleNote(p.Mend.After) && isNoteKnown(e, r)
	if split {
		if err := merge.MakePlan(ctx, e, p, o.Progress); err != nil {
			return nil, err
		}
	}
	if isNothingToMend(p) {
		return nil, nil
	}
	return p, nil
}

// mendAway plans what can be put right while the drive is away.
func mendAway(e *engine.Engine, p *plan.Plan, w *places.Whereabouts, detached bool) (*plan.Plan, error) {
	if detached {
		return mendHeld(e, p)
	}
	p.Add(e.Absence(w, p.Name, p.Before.Drive, p.Before.Target).As(finding.Blocker))
	return p, nil
}

// mendLinkOf plans how programs are led to the target again. It reports whether a real
// folder stands in the link's place.
func mendLinkOf(ctx context.Context, e *engine.Engine, p *plan.Plan, r ledger.Redirect) (split bool, err error) {
	if err := planning.PlanSettingsOf(p, r, false); err != nil {
		return false, err
	}
	if split, err = mendLink(p); err == nil {
		err = planning.CheckCardProgram(ctx, e, p, r.Card)
	}
	if at := p.Mend.After.Target; err == nil && at != r.Target {
		err = planning.CheckSandboxes(e, p, at)
	}
	p.AcceptFound(p.Accepted)
	return split, err
}

// isNothingToMend says of the plan of a mend that all is as it should be.
func isNothingToMend(p *plan.Plan) bool {
	m := p.Mend
	return p.Blocked() == nil && !p.Traits().Merges && !m.Link && !m.Tag && !m.Note && len(m.Held) == 0 &&
		len(p.Settings) == 0 &&
		sameRedirect(m.After, *p.Before)
}

// mendDrive finds the drive of the redirect, an older copy of it if that is
// accepted, which gets its tag anew then.
func mendDrive(e *engine.Engine, p *plan.Plan, o Options) (places.Whereabouts, error) {
	w, err := e.Whereabouts(p.Before.Drive, p.Before.Target)
	if err == nil && w.Older != "" && slices.Contains(o.Accept, finding.OlderClone) {
		w.Found, p.Mend.Tag = true, true
		w.Drive, err = e.Drives.Of(w.Older)
	}
	p.Mend.Tag = p.Mend.Tag || w.NoTag
	return w, err
}

// mendPlace has the redirect be where its drive is by now. seen is how Windows names
// the target of a junction; empty: as before.
func mendPlace(p *plan.Plan, w places.Whereabouts, seen string) {
	after := &p.Mend.After
	after.Target, after.Drive.Mount = w.Path(p.Before.Drive, p.Before.Target), w.Drive.Mount
	p.IntoNow, p.IntoDrive = w.Drive, after.Drive
	p.SetInto(&w.Drive)
	if after.Text = planning.TextFor(p.Before, after.Target); seen != "" {
		p.Target = after.Target
		planning.ChooseText(p, "", seen)
		after.Text = p.LinkText
	}
	p.Target, p.LinkText = after.Target, after.LinkText()
	p.Into, p.Final = filepath.Dir(after.Target), filepath.Base(after.Target)
}

func sameRedirect(a, b ledger.Redirect) bool {
	return a.Target == b.Target && a.State == b.State && a.Drive == b.Drive && a.Text == b.Text
}

// isNoteKnown reports whether the ledger has what a target note is made from.
func isNoteKnown(e *engine.Engine, r ledger.Redirect) bool {
	f, err := e.OpenManifest(r)
	if err == nil {
		_ = f.Close() // only looked for
	}
	return err == nil
}

// mendHeld mends a redirect of which there is nothing else to mend: what is held
// may lie on a drive that is elsewhere now.
func mendHeld(e *engine.Engine, p *plan.Plan) (*plan.Plan, error) {
	var err error
	if p.Mend.Held, err = heldMoves(e, *p.Before); err != nil || len(p.Mend.Held) == 0 {
		return nil, err
	}
	return p, nil
}

// heldMoves lists the held originals of a redirect that lie on drives which
// are mounted elsewhere now.
func heldMoves(e *engine.Engine, r ledger.Redirect) ([]plan.HeldMove, error) {
	all, err := e.Ledger.HeldOf(r.Name)
	if err != nil {
		return nil, err
	}
	var out []plan.HeldMove
	for _, h := range all {
		w, err := e.Whereabouts(h.Drive, h.Path)
		if err != nil {
			return nil, err
		}
		if at := w.Path(h.Drive, h.Path); at != h.Path {
			out = append(out, plan.HeldMove{ID: h.ID, Path: at, Was: h.Path, Drive: h.Drive, Mount: w.Drive.Mount})
		}
	}
	return out, nil
}

// mendTarget wants the target to be there: a link must not lead nowhere.
func mendTarget(p *plan.Plan) error {
	d, err := handle.OpenReal(p.Target)
	if handle.Absent(err) {
		p.Add(finding.New(finding.TargetMissing, p.Target, "%s is here, but the target %s is not", p.IntoDrive.Label,
			p.Target).Named(p.Name).As(finding.Blocker))
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Release()
	return planning.CheckOwners(p, d)
}

// mendLink looks at what stands at the link path and whether this account may
// change it. split says that a real folder stands there.
func mendLink(p *plan.Plan) (split bool, err error) {
	parent, err := handle.OpenReal(filepath.Dir(p.Link))
	if err != nil {
		f := finding.New(finding.LinkImpossible, filepath.Dir(p.Link), "%s can't be opened: %v", filepath.Dir(p.Link),
			handle.Cause(err)).Named(p.Name)
		p.Add(f.Instead("make the directory again, or run as the account that owns it"))
		return false, nil
	}
	defer parent.Release()
	base := filepath.Base(p.Link)
	st, err := parent.Stat(base)
	switch {
	case handle.Missing(err) && p.Linkless():
	case handle.Missing(err):
		p.Mend.Link = true
	case err != nil:
		return false, err
	case st.IsDir():
		return true, nil
	case !st.IsSymlink():
		p.Add(finding.New(finding.OldPlaceTaken, p.Link, "a file stands at %s, where the link belongs",
			p.Link).Named(p.Name))
		return false, nil
	default:
		text, err := parent.Readlink(base)
		if err != nil {
			return false, err
		}
		if text == p.LinkText {
			return false, nil
		}
		p.OldText, p.Mend.Link = text, true
	}
	p.HeldIn = filepath.Dir(p.Link)
	if err := planning.CheckOwners(p, parent); err != nil {
		return false, err
	}
	return false, planning.CheckLinkPlace(p)
}

// A mending puts small things right.
type mending struct{ execute.Basics }

// Open takes the handles of a mend.
func (m *mending) Open() error { return m.OpenMended(!m.Plan.StaysDetached()) }

// Forward puts the small things right, one after the other; each may be done
// already.
func (m *mending) Forward(ctx context.Context) error {
	if m.Plan.Mend.Tag {
		if err := m.newTag(ctx); err != nil {
			return err
		}
	}
	if m.Plan.Mend.Link {
		if err := m.Act(ctx, "link", m.Plan.LinkText, m.LeadLink, nil); err != nil {
			return err
		}
	}
	if err := m.ChangeSettings(ctx); err != nil {
		return err
	}
	if m.Plan.Into != "" {
		if err := m.TryMended(ctx); err != nil {
			return err
		}
	}
	if err := m.RenewNote(ctx); err != nil {
		return err
	}
	var err error
	if m.Plan.Mend.After.Settings, err = m.SettingRecords(); err != nil {
		return err
	}
	return m.Run.Set(ledger.Done, "", m.SaveMended)
}

// newTag writes the drive tag anew: with the id that the ledger knows, and
// counting on from what it knows.
func (m *mending) newTag(ctx context.Context) error {
	ref := &m.Plan.Mend.After.Drive
	known, err := m.Counter(ref.ID)
	if err != nil {
		return err
	}
	place := filepath.Join(ref.Mount, ref.TagPlace)
	count := max(known, ref.Counter) + 1
	err = m.Act(ctx, "tag", map[string]any{"in": place, "counter": count}, func() error {
		d, by, err := m.OpenForTag(place, *ref)
		if err != nil {
			return err
		}
		defer d.Release()
		return drive.WriteTag(d, drive.Tag{Version: 1, ID: ref.ID, Label: ref.Label,
			Made: time.Now().UTC().Truncate(time.Second), Counter: count}, by)
	}, nil)
	if err == nil {
		ref.Counter = count
	}
	return err
}

// Back takes a mend back: the link says again what it said, or goes.
func (m *mending) Back(ctx context.Context) error {
	if m.Plan.Mend.Link {
		err := m.Act(ctx, "unlink", m.Plan.OldText, func() error {
			ours, err := m.LinkPlace().Says(m.Plan.LinkText)
			if err != nil {
				return err
			}
			if !ours {
				return m.DropOwn(m.LinkIn) // it was not made yet, or is another's by now
			}
			if m.Plan.OldText != "" {
				return m.LinkPlace().Lead(m.Plan.LinkText, m.Plan.OldText)
			}
			return m.LinkPlace().Remove(m.Plan.LinkText)
		}, nil)
		if err != nil {
			return err
		}
	}
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	if m.Into != nil {
		target, err := m.Live()
		if err == nil {
			err = m.Untried(target)
			target.Release()
		}
		if handle.IgnoreMissing(err) != nil {
			return err
		}
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		for _, h := range m.Plan.Mend.Held {
			if err := t.MoveHeld(h.ID, h.Was, h.Drive); err != nil {
				return err
			}
		}
		return t.SaveRedirect(*m.Plan.Before)
	})
}

// Mending is the job of a mend.
func Mending(m *execute.Execution) execute.Job { return &mending{execute.Basics{Execution: m}} }
