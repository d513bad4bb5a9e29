package group

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/card"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/run"
	"nexlin/internal/setting"
)

// PlanCard inspects a move of all folders of a card, as one. Like
// [redirect.PlanMove] it returns all findings in the plan.
func PlanCard(ctx context.Context, e *engine.Engine, u *planning.CardUse, o planning.MoveOptions) (*plan.Plan, error) {
	var plans []*plan.Plan
	var more []finding.Finding
	by := o.By
	if len(by) == 0 {
		by = planning.CardMethods(&u.Card)
	}
	for _, f := range u.Card.Folders {
		on := f.On(runtime.GOOS)
		if on == "" {
			continue
		}
		path := card.Expand(on, u.Vars)
		if _, err := handle.Lstat(path); handle.Missing(err) && f.Missing == "skip" {
			continue
		}
		one := o
		one.Folder, one.As, one.Growth, one.Card, one.By = path, f.As, f.Growth, u.Card.Name, by
		one.Places, one.Stops = u.Card.Places(f.Name, u.Vars), len(u.Card.Before) > 0
		if one.Name = u.Card.Name; f.Name != "" && len(u.Card.Folders) > 1 {
			one.Name += "-" + f.Name
		}
		if used, err := e.Ledger.Redirect(one.Name); err == nil && used.Link != places.Resolved(path) {
			one.Name = "" // another account's, or one that was brought back elsewhere
		}
		p, err := redirect.PlanMove(ctx, e, one)
		if err != nil {
			return nil, err
		}
		if fs, err := isWhole(ctx, e, u, &f, path); err != nil {
			return nil, err
		} else if p.Findings = append(p.Findings, fs...); len(fs) > 0 {
			p.AcceptFound(o.Accept)
		}
		plans = append(plans, p)
	}
	if len(plans) == 0 {
		more = append(more, finding.New(finding.SourceMissing, "", "none of the folders of card %s is there",
			u.Card.Name))
	}
	t := plan.NewGroup(plan.KindMoveTogether, "card:"+u.Card.Name, plans)
	u.AddTo(t)
	t.Add(more...)
	if len(u.Card.Before) == 0 {
		// With a step that stops it, it is looked at after that step.
		fs, err := e.Commands().AtRest(ctx, u.For, t.Group.InUse)
		if err != nil {
			return nil, err
		}
		t.Add(fs...)
	}
	return t, nil
}

// testKept is what the program says that a folder of a card holds.
func testKept(ctx context.Context, e *engine.Engine, u *planning.CardUse, w *card.Whole) (is string, err error) {
	f := run.Fact{Name: "what is kept"}
	if w.Command != nil {
		f.Args, f.Within = w.Command.Args(u.Vars), w.Command.Limit()
	} else {
		f.Place = u.Place(w.Setting)
	}
	return e.Commands().Value(ctx, u.For, f)
}

// isWhole looks whether a folder of a card holds everything.
func isWhole(ctx context.Context, e *engine.Engine, u *planning.CardUse, f *card.Folder,
	path string) ([]finding.Finding, error) {
	if f.Whole == nil {
		return nil, nil
	}
	is, err := testKept(ctx, e, u, f.Whole)
	if err != nil {
		return []finding.Finding{finding.New(finding.OnDemand, path,
			"whether %s is a whole copy can't be seen: %v", path, handle.Cause(err))}, nil
	}
	if is == f.Whole.Is {
		return nil, nil
	}
	return []finding.Finding{finding.New(finding.OnDemand, path,
		"the program keeps %q in %s, not %q", is, path, f.Whole.Is)}, nil
}

// A CardCheck is one thing that `card test` looks at.
type CardCheck struct {
	What string
	Good bool
	Says string
}

// A cardTest collects what `card test` sees.
type cardTest struct {
	*engine.Engine
	u   *planning.CardUse
	out []CardCheck
}

func (c *cardTest) add(good bool, what, format string, args ...any) {
	c.out = append(c.out, CardCheck{what, good, fmt.Sprintf(format, args...)})
}

// TestCard tries a card's checks for an account and changes nothing: what it
// would stop and start is named, not done.
func TestCard(ctx context.Context, e *engine.Engine, u *planning.CardUse) ([]CardCheck, error) {
	c := &cardTest{Engine: e, u: u}
	for _, f := range u.Card.Folders {
		if err := c.folder(ctx, &f); err != nil {
			return nil, err
		}
	}
	if err := c.rest(ctx); err != nil {
		return nil, err
	}
	for _, f := range u.Facts() {
		v, err := e.Commands().Value(ctx, u.For, f)
		c.add(err == nil, "fact", "%s: %s", f.Name, planning.CmpOr(v, err))
	}
	c.steps("before", u.Steps(u.Card.Before))
	c.steps("after", u.Steps(u.Card.After))
	return c.out, nil
}

func (c *cardTest) folder(ctx context.Context, f *card.Folder) error {
	path := card.Expand(f.On(runtime.GOOS), c.u.Vars)
	what := "folder " + f.Name
	switch st, err := handle.Lstat(path); {
	case path == "":
		c.add(true, what, "the card names none for this system")
		return nil
	case handle.Missing(err) && f.Missing == "skip":
		c.add(true, what, "%s is not there; it is passed over", pathtext.Show(path))
		return nil
	case err != nil:
		c.add(false, what, "%s: %v", pathtext.Show(path), handle.Cause(err))
	case st.IsSymlink():
		c.add(true, what, "%s is a link already", pathtext.Show(path))
	case !st.IsDir():
		c.add(false, what, "%s is no folder", pathtext.Show(path))
	default:
		c.add(true, what, "%s", pathtext.Show(path))
	}
	found, err := isWhole(ctx, c.Engine, c.u, f, path)
	if err != nil {
		return err
	}
	for _, x := range found {
		c.add(false, what, "%s", x.Message)
	}
	for _, s := range c.u.Card.Places(f.Name, c.u.Vars) {
		good, says := testPlace(c.Engine, s, path)
		c.add(good, "setting", "%s", says)
	}
	return nil
}

// rest looks whether the program is at rest, where the card says how to see it.
func (c *cardTest) rest(ctx context.Context) error {
	use := c.u.Use()
	if len(use.Programs) == 0 && use.Command == nil {
		return nil
	}
	found, err := c.Commands().AtRest(ctx, c.u.For, use)
	if err != nil {
		return err
	}
	switch {
	case len(found) == 0:
		c.add(true, "in use", "the program is at rest")
	case len(c.u.Card.Before) > 0:
		c.add(true, "in use", "the program is at work now; what is done first stops it")
	default:
		for _, f := range found {
			c.add(false, "in use", "%s", f.Message)
		}
	}
	return nil
}

func (c *cardTest) steps(when string, steps []run.Step) {
	for _, s := range steps {
		if s.Ask != "" {
			c.add(true, when, "asks: %s", s.Ask)
			continue
		}
		err := testPresence(c.Engine, s.Args[0])
		c.add(err == nil, when, "would run %s%s", strings.Join(s.Args, " "), planning.CmpOr("", err))
	}
}

// testPresence looks for a command in the path of the environment.
func testPresence(e *engine.Engine, name string) error {
	if strings.Contains(name, "/") {
		_, err := handle.Lstat(name)
		return err
	}
	for _, v := range e.Env {
		if dirs, ok := strings.CutPrefix(v, "PATH="); ok {
			for _, d := range filepath.SplitList(dirs) {
				if _, err := handle.Lstat(filepath.Join(d, name)); err == nil {
					return nil
				}
			}
		}
	}
	return fmt.Errorf("no command is called %s", name)
}

func testPlace(e *engine.Engine, s setting.Place, path string) (bool, string) {
	where := pathtext.Show(s.File) + " at " + s.At
	p := &plan.Plan{Route: plan.Route{Link: path, Target: "/"}}
	if err := planning.PlanSettings(e, p, []setting.Place{s}, path); err != nil {
		return false, where + ": " + err.Error()
	}
	if len(p.Settings) > 0 {
		return true, where + " names the folder"
	}
	if len(p.Findings) > 0 {
		return false, p.Findings[0].Message
	}
	return true, where + " does not name the folder, and may not have to"
}

// RedirectsOf gives the redirects that were made by a card.
func RedirectsOf(e *engine.Engine, name string) ([]ledger.Redirect, error) {
	all, err := e.Ledger.Redirects(false)
	return slices.DeleteFunc(all, func(r ledger.Redirect) bool { return r.Card != name }), err
}

// PlanBack plans to bring back redirects as one, with what the card
// that made them says, if it is still known.
func PlanBack(ctx context.Context, e *engine.Engine, name string, rs []ledger.Redirect,
	o planning.BackOptions) (*plan.Plan, error) {
	c, err := planning.FindCard(e, name)
	var unknown *card.NotFoundError
	known := !errors.As(err, &unknown) && len(rs) > 0
	if err != nil && known {
		return nil, err
	}
	o.Stops = known && len(c.Before) > 0
	var plans []*plan.Plan
	for _, r := range rs {
		p, err := redirect.PlanBringBack(ctx, e, r, o)
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	t := plan.NewGroup(plan.KindBackTogether, "card:"+name, plans)
	if !known {
		return t, nil
	}
	u, err := planning.CardFor(c, e.HomeOf(rs[0].Link))
	if err != nil {
		return nil, err
	}
	u.AddTo(t)
	if len(c.Before) == 0 {
		fs, err := e.Commands().AtRest(ctx, u.For, t.Group.InUse)
		if err != nil {
			return nil, err
		}
		t.Add(fs...)
	}
	return t, nil
}

// Growth is the factor by which the target of a redirect must be able to grow,
// as the run that made it was told; 0 says nothing.
func Growth(e *engine.Engine, r ledger.Redirect) (float64, error) {
	if r.Card == "" {
		return 0, nil
	}
	p, err := plan.OfRun(e.Ledger, r.Run)
	if errors.Is(err, ledger.ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return p.Growth, nil
}

// PlanFolders inspects a move of several folders as one: all of them, or none.
func PlanFolders(ctx context.Context, e *engine.Engine, folders []string, o planning.MoveOptions) (*plan.Plan, error) {
	var plans []*plan.Plan
	for _, folder := range folders {
		one := o
		one.Folder = folder
		p, err := redirect.PlanMove(ctx, e, one)
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	return plan.NewGroup(plan.KindMoveTogether, "several folders", plans), nil
}

// passedOver are profile folders that are not moved with the others, by the reason.
type passedOver struct {
	whys []string
	by   map[string][]setting.Profile
}

func (o *passedOver) add(p setting.Profile, why string) {
	if o.by == nil {
		o.by = map[string][]setting.Profile{}
	}
	if o.by[why] == nil {
		o.whys = append(o.whys, why)
	}
	o.by[why] = append(o.by[why], p)
}

// findings tells each reason once.
func (o *passedOver) findings() (out []finding.Finding) {
	for _, why := range o.whys {
		var kinds []string
		for _, p := range o.by[why] {
			kinds = append(kinds, p.Kind)
		}
		first := o.by[why][0].Path
		f := finding.New(finding.PassedOver, first, "%s, %s, %s", kinds[0], first, why)
		if len(kinds) > 1 {
			f = finding.New(finding.PassedOver, first, "%s: each %s", strings.Join(kinds, ", "), why)
		}
		out = append(out, f)
	}
	return out
}

// PlanProfile inspects a move of profile folders of one home, as one: those
// of the kinds, or all. A folder that has no setting is told with what to do
// instead.
func PlanProfile(ctx context.Context, e *engine.Engine, home string, kinds []string,
	o planning.MoveOptions) (*plan.Plan, error) {
	home = places.Resolved(home)
	profiles, err := setting.Profiles(home)
	if err != nil {
		return nil, err
	}
	var plans []*plan.Plan
	var more []finding.Finding
	var past passedOver
	all := slices.Contains(kinds, planning.EveryProfile)
	for _, p := range profiles {
		if !all && !slices.Contains(kinds, p.Kind) {
			continue
		}
		if all { // one that was asked for by name is not passed over
			passed, err := planning.PassedOver(p.Path, home)
			if err != nil {
				return nil, err
			}
			if passed != "" {
				past.add(p, passed)
				continue
			}
		}
		one := o
		one.Folder = p.Path
		planned, err := redirect.PlanMove(ctx, e, one)
		if err != nil {
			return nil, err
		}
		for i, f := range planned.Findings {
			if f.Code == finding.TargetTaken {
				planned.Findings[i].Remedy = "with `--per-account` each account's folders go into a directory of its " +
					"own; or name another directory"
			}
		}
		plans = append(plans, planned)
	}
	more = append(more, past.findings()...)
	more = append(more, redirect.WithoutProfile(home, kinds, profiles)...)
	if len(plans) == 0 && len(finding.Blockers(more)) == 0 {
		more = append(more, finding.New(finding.SourceMissing, home,
			"none of the profile folders is there to be moved"))
	}
	t := plan.NewGroup(plan.KindMoveTogether, "profile folders", plans)
	t.Add(more...)
	return t, nil
}
