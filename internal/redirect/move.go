// Package redirect plans and does what leads a folder elsewhere and back: move, move on,
// bring-back, detach, and settings for what comes.
package redirect

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/merge"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
)

// PlanMove inspects a move and changes nothing but a trial directory that
// it takes away again. All findings are in the plan, blockers too; errors
// are for what could not be looked at.
func PlanMove(ctx context.Context, e *engine.Engine, o planning.MoveOptions) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindMove, Made: now, Card: o.Card},
		Route:  plan.Route{Link: places.Resolved(o.Folder), Into: places.ResolvedDir(o.Into), Methods: o.By},
		Copying: plan.Copying{WhileInUse: o.WhileInUse, Stops: o.Stops, WaitQuiet: o.WaitQuiet,
			Digest: o.Digest.Or(), InnerLinks: cmp.Or(o.InnerLinks, plan.RewriteLinks),
			Growth: o.Growth, Bare: o.StartEmpty},
		DiscardOld: o.Discard,
	}
	p.From = p.Link
	base := filepath.Base(p.Link)
	r, err := e.ByLink(p.Link)
	if err != nil {
		return nil, err
	}
	if r != nil {
		if err := planMoveOn(e, p, r); err != nil {
			return nil, err
		}
	}
	if err := p.ByOthersLinks(preflight.Above(o.Folder), o.Into); err != nil {
		return nil, err
	}
	p.Final = base
	if o.As != "" {
		p.Final = o.As
	}
	p.Target = p.Copy()
	p.HeldIn = filepath.Dir(p.From)
	p.Held = naming.Held(filepath.Base(p.From), p.Run)
	if err := planning.ChooseName(e, p, o.Name, base); err != nil {
		return nil, err
	}
	if (&plan.RefusedError{Findings: p.Findings}).OnlyAway() {
		return p, nil // nothing else can be looked at
	}
	if done, err := pointless(p, r); done || err != nil {
		return p, err
	}
	// The target first: its block size decides what the folder takes there.
	if err := planning.CheckTarget(e, p); err != nil {
		return nil, err
	}
	if p.Blocked() == nil || p.IntoNow.Mount != "" {
		if err := planning.CheckFolder(ctx, e, p, o.Progress); err != nil {
			return nil, err
		}
	}
	planning.CheckPlaces(p)
	planning.CheckSpace(e, p)
	if err := moveLeads(e, p, o); err != nil {
		return nil, err
	}
	if o.Merge {
		if err := moveMerging(ctx, p); err != nil {
			return nil, err
		}
	}
	p.AcceptFound(o.Accept)
	p.AllowAccepted()
	if p.Blocked() == nil && !p.IntoNow.Memory && !p.Bare {
		p.Add(finding.New(finding.BackupReminder, p.Target, "after discarding, the only copy lies on %s",
			p.IntoNow.Name()).Named(p.Name))
	}
	p.Accepted = o.Accept
	return p, nil
}

// pointless finds what says by itself why there is nothing to move: nothing else need be
// looked at.
func pointless(p *plan.Plan, r *ledger.Redirect) (bool, error) {
	switch {
	case r == nil:
		st, err := planning.CheckThere(p)
		return st == nil, err
	case pathtext.Equal(p.Copy(), p.Link):
		p.Add(finding.New(finding.TargetTaken, p.Link, "%s is where the link to its data stands", p.Link).
			Named(p.Name).Instead("`nexlin bring-back " + pathtext.Quote(p.Name) + "` brings the data back there"))
	case pathtext.Equal(p.Copy(), p.From):
		p.Add(finding.New(finding.SameDrive, p.From, "%s leads there already: its data lies at %s", p.Link,
			(&drive.Drive{Label: r.Drive.Label, Mount: r.Drive.Mount}).Display(p.From)).
			Named(p.Name).Instead("there is nothing to do"))
	default:
		return false, nil
	}
	return true, nil
}

// moveLeads looks at how programs will be led to the target, and what could keep
// them from it.
func moveLeads(e *engine.Engine, p *plan.Plan, o planning.MoveOptions) error {
	if err := planning.CheckLinkPlace(p); err != nil {
		return err
	}
	if err := planning.CheckUnfinished(e, p); err != nil {
		return err
	}
	if err := planning.CheckMountPoint(p); err != nil {
		return err
	}
	if err := planning.ChooseMethods(e, p, o); err != nil {
		return err
	}
	planning.ChooseText(p, o.Form, o.Seen)
	planning.ForeseeGap(p)
	planning.KnownToCards(e, p)
	if p.FromIno == 0 || p.IntoNow.Mount == "" {
		return nil
	}
	if err := planning.CheckSandboxes(e, p, p.Copy()); err != nil {
		return err
	}
	f, err := preflight.Shrinks(p.Name, p.From, p.Link, p.Into)
	if f != nil {
		p.Add(*f)
	}
	return err
}

// moveMerging turns the plan of a move into one that merges the folder into a
// target which has entries already, if it has. Entries that both have, with
// other content, are named before anything moves.
func moveMerging(ctx context.Context, p *plan.Plan) error {
	i := slices.IndexFunc(p.Findings,
		func(f finding.Finding) bool { return f.Code == finding.TargetTaken && f.Path == p.Copy() })
	if i < 0 || !p.Traits().First {
		return nil // there is nothing to merge with
	}
	live, err := handle.OpenReal(p.Copy())
	if handle.Absent(err) {
		return nil // what stands there is no folder, and the finding says so
	}
	if err != nil {
		return err
	}
	live.Release()
	p.Findings = slices.Delete(p.Findings, i, i+1)
	now := ledger.Redirect{
		Name: p.Name, State: ledger.Linked, Link: p.Link, Target: p.Target, Methods: p.Methods, Account: p.Account,
		UID:   p.UID,
		Drive: p.IntoDrive, Bytes: p.Bytes, Files: p.Files, Created: p.Made, Run: p.Run, Card: p.Card,
	}
	if len(now.Methods) == 0 {
		now.Methods = []string{plan.BySymlink}
	}
	p.Kind, p.Fresh, p.Halves, p.Before = plan.KindMerge, true, plan.Beside, &now
	p.Mend = &plan.Mending{After: now, Note: true}
	if p.Blocked() != nil {
		return nil
	}
	var both []string
	count := 0
	err = merge.Preview(ctx, p, func(m merge.Entry) error {
		if m.Fate.Conflict() {
			if count++; len(both) < finding.Listed {
				both = append(both, filepath.Join(p.From, m.Path))
			}
		}
		return nil
	})
	if err == nil && count > 0 {
		p.Add(finding.New(finding.MergeConflict, both[0], "%s of %s and of %s have one name and other content",
			pathtext.Entries(count), p.From, p.Copy()).Named(p.Name).Listing(count, both))
	}
	return err
}

// planMoveOn plans the move of a folder that is redirected already: what moves is its
// target.
func planMoveOn(e *engine.Engine, p *plan.Plan, r *ledger.Redirect) error {
	p.Kind, p.Before, p.Name, p.Methods = plan.KindMoveOn, r, r.Name, r.Methods
	if plan.Owned(*r) {
		p.Add(finding.New(finding.MustStay, r.Link, "the engine that owns %s has to move it", r.Name).Named(r.Name).
			Instead("`nexlin move card:" + r.Card + " --store NAME --into DIR`"))
	}
	p.From, p.OldText = r.Target, r.LinkText()
	return handle.InOrder(func() error { return planning.CheckPresent(e, p, r.Drive, r.Target) },
		func() error { return planning.CheckLinkInPlace(e, p, *r) })
}
