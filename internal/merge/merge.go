// Package merge brings the entries of a folder that stands in a link's place into the target,
// and takes that back.
package merge

import (
	"context"
	"errors"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/late"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/transfer"
)

// A Fate is what a merge does with an entry of the half.
type Fate string

// The fates.
const (
	FateNew     Fate = "new"         // the target has nothing of the name: it goes over
	FateEqual   Fate = "equal"       // the target has the same
	FateInside  Fate = "inside"      // a directory that both have: what is in it is merged
	FateName    Fate = "takes-name"  // it takes the name, the target's stays beside it
	FateBeside  Fate = "goes-beside" // the target's keeps the name, it goes beside it
	FateReplace Fate = "replaces"    // it takes the name, the target's is set aside
	FateHeld    Fate = "stays-held"  // the target's keeps the name, it stays held
)

// Conflict reports that both halves have the entry, with other content.
func (f Fate) Conflict() bool { return f != FateNew && f != FateEqual && f != FateInside }

// A Entry is one entry of the half in a preview.
type Entry struct {
	Path   string // relative to the folder
	Fate   Fate
	Dir    bool
	Bytes  int64
	Beside string // relative path of what is kept beside it; empty if nothing is
}

// MakePlan inspects the merging of a real folder into the target: it is
// copied like the folder of a move, and then its entries get their places.
func MakePlan(ctx context.Context, e *engine.Engine, p *plan.Plan, progress func(entries, bytes int64)) error {
	p.Kind, p.From, p.HeldIn = plan.KindMerge, p.Link, filepath.Dir(p.Link)
	p.Held = naming.Held(filepath.Base(p.Link), p.Run)
	p.TagIn = filepath.Join(p.IntoDrive.Mount, p.IntoDrive.TagPlace)
	if made, err := plan.OfRun(e.Ledger, p.Before.Run); err == nil {
		p.Digest = made.Digest
	}
	if p.Digest == "" {
		p.Digest = transfer.SHA256
	}
	dir, err := handle.OpenReal(p.Into)
	if err != nil {
		return err
	}
	defer dir.Release()
	if dir.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		p.Add(finding.New(finding.TargetNoWrite, p.Into, "this account may not write in %s", p.Into).Named(p.Name))
		return nil
	}
	if err := planning.CheckAbilities(p, dir); err != nil {
		return err
	}
	if err := planning.CheckFolder(ctx, e, p, progress); err != nil {
		return err
	}
	p.Account, p.UID = p.Before.Account, p.Before.UID
	planning.CheckPlaces(p)
	planning.CheckSpace(e, p)
	if err := planning.CheckLinkPlace(p); err != nil {
		return err
	}
	planning.ForeseeGap(p)
	p.AcceptFound(p.Accepted)
	p.AllowAccepted()
	return nil
}

// fateOf decides what becomes of an entry of the half at path, given what the
// target has of that name. equal is asked only for entries of one kind.
func fateOf(p *plan.Plan, path string, half, target *handle.Stat, equal func() (bool, error)) (Fate, error) {
	switch {
	case p.Halves == plan.HoldAll && (target == nil || !half.IsDir() || !target.IsDir()):
		return FateHeld, nil
	case target == nil:
		return FateNew, nil
	case half.IsDir() && target.IsDir():
		return FateInside, nil
	case half.Type() != target.Type():
		return FateBeside, nil // a file and a directory: neither is the younger one of the two
	}
	if same, err := equal(); same || err != nil {
		return FateEqual, err
	}
	if p.Halves == plan.Beside {
		return FateBeside, nil
	}
	younger := half.Mtime.After(target.Mtime)
	keep := plan.KeepBothOf
	switch {
	case p.Halves == plan.Newer && younger:
		keep = plan.KeepHalf
	case p.Halves == plan.Newer:
		keep = plan.KeepTarget
	}
	for _, c := range p.Choices {
		if c.Path == path {
			keep = c.Keep
		}
	}
	switch {
	case keep == plan.KeepHalf:
		return FateReplace, nil
	case keep == plan.KeepTarget:
		return FateHeld, nil
	case younger:
		return FateName, nil
	}
	return FateBeside, nil
}

// Preview calls visit for every entry of the half, in the one order,
// with what a merge would do with it. It reads what both have and changes
// nothing.
func Preview(ctx context.Context, p *plan.Plan, visit func(Entry) error) error {
	half, err := handle.OpenReal(p.From)
	if err != nil {
		return err
	}
	defer half.Release()
	live, err := handle.OpenReal(p.Target)
	if err != nil {
		return err
	}
	defer live.Release()
	return inventory.Walk(ctx, half, &mergePreview{ctx: ctx, p: p, live: live, visit: visit})
}

type mergePreview struct {
	ctx   context.Context
	p     *plan.Plan
	live  *handle.Dir
	visit func(Entry) error
	moves string // the last directory that goes over as a whole
}

// Visit implements [inventory.Visitor].
func (v *mergePreview) Visit(h *inventory.Entry) (bool, error) {
	if h.Path == "." {
		return true, nil
	}
	m := Entry{Path: h.Path, Fate: FateNew, Dir: h.Stat.IsDir(), Bytes: h.Stat.Size}
	if m.Dir {
		m.Bytes = 0
	}
	if v.moves != "" && handle.Within(h.Path, v.moves) {
		return true, v.visit(m)
	}
	dir, name, err := v.live.Parent(h.Path)
	if err != nil {
		return false, err
	}
	defer dir.Release()
	var target *handle.Stat
	if st, err := dir.Stat(name); err == nil {
		target = &st
	} else if !handle.Missing(err) {
		return false, err
	}
	m.Fate, err = fateOf(v.p, h.Path, &h.Stat, target, func() (bool, error) {
		switch {
		case h.Stat.IsSymlink():
			text, err := dir.Readlink(name)
			made, _ := execute.Rewritten(v.p, h.Path, h.Link)
			return text == h.Link || text == made, err
		case h.Stat.IsRegular():
			if h.Stat.Size != target.Size {
				return false, nil
			}
			return late.SameContent(v.ctx, h.Dir, h.Name, dir, name, h.Stat.Size)
		}
		return h.Stat.Rdev == target.Rdev, nil
	})
	switch m.Fate {
	case FateBeside:
		m.Beside = filepath.Join(filepath.Dir(h.Path), v.p.Beside(name, plan.OfHalf))
	case FateName:
		m.Beside = filepath.Join(filepath.Dir(h.Path), v.p.Beside(name, plan.OfTarget))
	}
	if m.Dir && m.Fate != FateInside {
		v.moves = h.Path
	}
	return true, errors.Join(err, v.visit(m))
}

// Leave implements [inventory.Visitor].
func (v *mergePreview) Leave(*inventory.Entry) error { return nil }
