package redirect

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/setting"
	"nexlin/internal/transfer"
)

// PlanBringBack inspects a bring-back: the target is copied, as it is now,
// to where the link stands. Like [PlanMove] it returns all findings.
func PlanBringBack(ctx context.Context, e *engine.Engine, r ledger.Redirect, o planning.BackOptions) (*plan.Plan,
	error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindBringBack, Made: now, Name: r.Name, Before: &r},
		Route: plan.Route{Link: r.Link, Target: r.Target, From: r.Target, Into: filepath.Dir(r.Link),
			Final: filepath.Base(r.Link), LinkText: r.LinkText(), HeldIn: filepath.Dir(r.Target), Methods: r.Methods},
		Copying: plan.Copying{WhileInUse: o.WhileInUse, Stops: o.Stops, WaitQuiet: o.WaitQuiet,
			Digest: transfer.SHA256, InnerLinks: plan.RewriteFor(r)},
	}
	p.Held = naming.Held(filepath.Base(r.Target), p.Run)
	if row, err := e.Ledger.Run(r.Run); err == nil {
		if made, err := plan.Of(row); err == nil {
			addNotComingBack(p, made)
		}
	}
	if r.State == ledger.Ended {
		f := finding.New(finding.SourceMissing, r.Link, "%s was brought back already: %s is a real folder", r.Name,
			r.Link).Named(r.Name)
		f.Remedy = "nothing needs doing; `nexlin list --held` shows what is still held of it"
		p.Add(f)
		return p, nil
	}
	if err := planning.CheckPresent(e, p, r.Drive, r.Target); err != nil {
		return nil, err
	}
	if err := planning.CheckLinkDrive(e, p, &r); err != nil {
		return nil, err
	}
	if p.Blocked() != nil {
		return p, checkIfLost(e, p)
	}
	if err := checkOldPlace(e, p); err != nil {
		return nil, err
	}
	if err := checkFolder(ctx, e, p, o); err != nil {
		return nil, err
	}
	if err := planning.CheckLinkPlace(p); err != nil {
		return nil, err
	}
	if p.IntoNow.Mount != "" && !p.Exchange && !p.Unlinked() {
		p.Gap = true
		p.AddGap()
	}
	if err := planning.PlanSettingsOf(p, r, true); err != nil {
		return nil, err
	}
	p.AcceptFound(o.Accept)
	p.AllowAccepted()
	p.Accepted = o.Accept
	if err := planning.CheckGranted(e, p); err != nil {
		return nil, err
	}
	return p, planning.CheckUnfinished(e, p)
}

// checkFolder looks at the folder, and at what is held of it, both at once.
func checkFolder(ctx context.Context, e *engine.Engine, p *plan.Plan, o planning.BackOptions) error {
	if p.IntoNow.Mount == "" {
		return planning.CheckFolder(ctx, e, p, o.Progress)
	}
	held, err := planning.LookAtHeld(ctx, e, p, o.UseHeld)
	if err != nil {
		return err
	}
	defer held.Close()
	if err := planning.CheckFolder(ctx, e, p, o.Progress); err != nil {
		return err
	}
	return planning.PlanLending(ctx, e, p, held)
}

// checkIfLost tells, beside where the data is, what is left if the drive never
// comes back: the folder as it was moved.
func checkIfLost(e *engine.Engine, p *plan.Plan) error {
	held, err := e.Ledger.HeldOf(p.Name)
	if err != nil {
		return err
	}
	for i, f := range p.Findings {
		for _, h := range held {
			if st, err := handle.Lstat(h.Path); err != nil || f.Code != finding.DriveAway ||
				!plan.IsFolder(&st, h.Ino) ||
				h.Drive.ID == p.Before.Drive.ID && h.Drive.UUID == p.Before.Drive.UUID {
				continue
			}
			p.Findings[i].Remedy = fmt.Sprintf("%s; if the drive is lost for good, the folder as it was on %s is "+
				"%s: `nexlin detach %s`, then rename it to %s",
				f.Remedy, h.Since.Local().Format("2006-01-02"), pathtext.Show(h.Path), pathtext.Quote(p.Name),
				pathtext.Show(p.Link))
			break
		}
	}
	return nil
}

// addNotComingBack takes over what the run that made the redirect decided: the digest
// that was chosen for the folder stays with it, and what its drive did not
// keep is told.
func addNotComingBack(p *plan.Plan, made *plan.Plan) {
	p.Digest = cmp.Or(made.Digest, p.Digest)
	var less []string
	for what, lost := range map[string]bool{
		"permissions": made.Allow.Modes, "owners": made.Allow.Owners, "access lists": made.Allow.ACLs,
		"extended attributes": made.Allow.Xattrs, "names of one file": made.Allow.Links,
		"exact times": made.Allow.TimeStep > 0,
	} {
		if lost {
			less = append(less, what)
		}
	}
	if len(less) > 0 {
		slices.Sort(less)
		p.Add(finding.New(finding.NotComingBack, p.From, "%s does not keep %s: the folder comes back as the drive "+
			"shows it", made.IntoDrive.Label, strings.Join(less, ", ")).Named(p.Name))
	}
}

// checkOldPlace looks at what stands where the folder is to come back to.
func checkOldPlace(e *engine.Engine, p *plan.Plan) error {
	parent, err := handle.OpenReal(p.Into)
	if err != nil {
		p.Add(finding.New(finding.TargetNoWrite, p.Into, "%s can't be opened: %v", p.Into, handle.Cause(err)))
		return nil
	}
	defer parent.Release()
	if p.IntoNow, err = e.Drives.Of(p.Into); err != nil {
		return err
	}
	p.IntoDrive = places.Ref(&p.IntoNow)
	if parent.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		p.Add(finding.New(finding.TargetNoWrite, p.Into, "this account may not write in %s", p.Into))
		return nil
	}
	ours, err := link.Is(parent, p.Final, p.LinkText)
	if err != nil {
		return err
	}
	_, err = parent.Stat(p.Final)
	if gone := handle.Missing(err); !ours && !gone || gone && p.Before.State != ledger.Detached && !p.Linkless() {
		what := "something else than our link stands at " + pathtext.Show(p.Link)
		if gone {
			what = "the link at " + pathtext.Show(p.Link) + " is gone"
		}
		f := finding.New(finding.OldPlaceTaken, p.Link, "%s", what).Named(p.Name)
		if gone {
			f.Remedy = fmt.Sprintf("`nexlin detach %s` records that, then `nexlin bring-back %s` works",
				pathtext.Quote(p.Name), pathtext.Quote(p.Name))
		}
		p.Add(f)
	} else if err != nil && !gone {
		return err
	}
	return planning.CheckAbilities(p, parent)
}

// A DetachPlan is what a detach is about.
type DetachPlan struct {
	Redirect ledger.Redirect
	Findings []finding.Finding
	Gone     bool // the link is gone already
	Settings []setting.Change
}

// PlanDetach inspects a detach. The drive need not be here: only the link
// is taken away.
func PlanDetach(e *engine.Engine, r ledger.Redirect) (*DetachPlan, error) {
	d := &DetachPlan{Redirect: r}
	if r.State != ledger.Linked {
		f := finding.New(finding.LinkMissing, r.Link, "%s has no link: it is %s", r.Name,
			map[string]string{ledger.Detached: "detached already", ledger.Ended: "brought back"}[r.State]).Named(r.Name)
		f.Remedy = "nothing needs doing"
		d.Findings = append(d.Findings, f.As(finding.Blocker))
		return d, nil
	}
	var err error
	if d.Findings, err = execute.StoppedRunsOf(e, &r); err != nil || len(d.Findings) > 0 {
		return d, err
	}
	if f, err := e.LinkDriveAway(&r); f != nil || err != nil {
		if f != nil {
			d.Findings = append(d.Findings, *f)
		}
		return d, err
	}
	parent, err := handle.OpenReal(filepath.Dir(r.Link))
	if err != nil {
		return nil, err
	}
	defer parent.Release()
	base := filepath.Base(r.Link)
	ours, err := link.Is(parent, base, r.LinkText())
	if err != nil {
		return nil, err
	}
	var p plan.Plan
	if err := planning.PlanSettingsOf(&p, r, true); err != nil {
		return nil, err
	}
	d.Settings, d.Findings = p.Settings, append(d.Findings, p.Findings...)
	if _, err := parent.Stat(base); handle.Missing(err) {
		d.Gone = !plan.Linkless(r.Methods)
	} else if !ours {
		d.Findings = append(d.Findings, finding.New(finding.OldPlaceTaken, r.Link,
			"something else than our link stands at %s", r.Link).Named(r.Name))
	}
	if f, err := preflight.OthersDirectory(parent); err != nil {
		return nil, err
	} else if f != nil {
		d.Findings = append(d.Findings, *f)
	}
	// Only the link is taken away: the drive need not be here.
	if _, found, err := e.Locate(r.Drive, r.Target); err != nil {
		return nil, err
	} else if !found {
		f := finding.New(finding.DriveAway, r.Target, "%s is not here; the data stays on it, and the link goes all "+
			"the same", r.Drive.Label).Named(r.Name).OnDrive(r.Drive.Label).As(finding.Info)
		f.Remedy = "nothing needs doing"
		d.Findings = append(d.Findings, f)
	}
	if parent.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		d.Findings = append(d.Findings, finding.New(finding.LinkImpossible, filepath.Dir(r.Link),
			"this account may not remove the link from %s", filepath.Dir(r.Link)).Named(r.Name))
	}
	return d, nil
}

// ToRun is the plan of the run that takes the link away and leaves the data where it is.
func (d *DetachPlan) ToRun() *plan.Plan {
	now := time.Now()
	r := d.Redirect
	return &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindDetach, Made: now, Name: r.Name, Before: &r,
			UID: r.UID, GID: account.Group(r.UID), Account: r.Account},
		Route: plan.Route{Link: r.Link, Target: r.Target, LinkText: r.LinkText(), FromDrive: r.Drive,
			Methods: r.Methods, Settings: d.Settings},
		Seen: plan.Seen{Findings: d.Findings},
	}
}

func (m *detaching) detach(ctx context.Context) error {
	parent, err := m.OpenReal(filepath.Dir(m.Plan.Link))
	if err != nil {
		return err
	}
	defer parent.Release()
	begun, err := m.Last("unlink", new(json.RawMessage))
	if err != nil {
		return err
	}
	err = m.Act(ctx, "unlink", m.Plan.LinkText, func() error {
		err := m.PlaceIn(parent).Remove(m.Plan.LinkText)
		if begun && errors.Is(err, link.ErrNotOurs) {
			err = nil // the link is gone: what stands there by now is somebody's own
		}
		return err
	}, nil)
	if err != nil {
		return err
	}
	if err := m.ChangeSettings(ctx); err != nil {
		return err
	}
	r := *m.Plan.Before
	r.State = ledger.Detached
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error { return t.SaveRedirect(r) })
}

// attach puts the link of a detach back, where nothing stands.
func (m *detaching) attach(ctx context.Context) error {
	parent, err := m.OpenReal(filepath.Dir(m.Plan.Link))
	if err != nil {
		return err
	}
	defer parent.Release()
	ours, err := m.PlaceIn(parent).Says(m.Plan.LinkText)
	if err != nil {
		return err
	}
	if !ours && !m.Plan.Linkless() {
		err = m.Act(ctx, "link", m.Plan.LinkText, func() error {
			return m.PlaceIn(parent).Make(m.Plan.LinkText)
		}, nil)
		if errors.Is(err, syscall.EEXIST) {
			return plan.Refused(finding.New(finding.OldPlaceTaken, m.Plan.Link,
				"something stands at %s by now", m.Plan.Link).Named(m.Plan.Name))
		}
		if err != nil {
			return err
		}
	}
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error { return t.SaveRedirect(*m.Plan.Before) })
}
