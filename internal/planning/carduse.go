package planning

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/account"
	"nexlin/internal/card"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/setting"
)

// A CardUse is a card made out for an account.
type CardUse struct {
	Card card.Card
	Vars map[string]string
	For  run.Actor
}

// Use is how to see that the program is at work.
func (u *CardUse) Use() run.Use {
	out := run.Use{Programs: u.Card.InUse.Programs, Remedy: u.Card.InUse.Remedy}
	if c := u.Card.InUse.Command; c != nil {
		s := u.Command(c)
		out.Command = &s
	}
	return out
}

// Folders are those of the card's folders on this system that are there.
func (u *CardUse) Folders() (out []string) {
	u.eachHere(func(_ *card.Folder, path string, _ handle.Stat) { out = append(out, path) })
	return out
}

// eachHere gives those of the card's folders on this system that are there, each with its path and what stands there.
func (u *CardUse) eachHere(do func(f *card.Folder, path string, st handle.Stat)) {
	for i := range u.Card.Folders {
		f := &u.Card.Folders[i]
		path := card.Expand(f.On(runtime.GOOS), u.Vars)
		if path == "" {
			continue
		}
		if st, err := handle.Lstat(path); err == nil {
			do(f, path, st)
		}
	}
}

// A Known is what a card knows of one of its folders.
type Known struct {
	Card   string
	Growth float64  // by which factor it must be able to grow; 0 says nothing
	Takes  []string // what moving it takes beside the copy, in words; may be empty
}

// Known is what the card knows of those of its folders that are there, by path.
func (u *CardUse) Known() map[string]*Known {
	out := map[string]*Known{}
	u.eachHere(func(f *card.Folder, path string, _ handle.Stat) {
		k := &Known{Card: u.Card.Name, Growth: f.Growth}
		if f.Growth > 0 {
			k.Takes = append(k.Takes, fmt.Sprintf("room to grow %g times", f.Growth))
		}
		k.Takes = append(k.Takes, u.takes()...)
		out[path] = k
	})
	return out
}

// takes is what moving any of the card's folders takes beside the copy and its room.
func (u *CardUse) takes() (out []string) {
	switch asks := slices.ContainsFunc(u.Card.Before, func(s card.Step) bool { return s.Ask != "" }); {
	case asks:
		out = append(out, "asks you to quit it first")
	case len(u.Card.Before) > 0:
		out = append(out, "is stopped first")
	case len(u.Card.InUse.Programs) > 0 || u.Card.InUse.Command != nil:
		out = append(out, "has to be at rest")
	}
	if slices.Contains(CardMethods(&u.Card), plan.BySetting) {
		out = append(out, "its settings are changed")
	}
	return out
}

// AddTo gives a run of several what the card says beside the folders.
func (u *CardUse) AddTo(p *plan.Plan) {
	p.Card = u.Card.Name
	t := p.Group
	t.For, t.InUse = u.For, u.Use()
	t.Before, t.After, t.Facts = u.Steps(u.Card.Before), u.Steps(u.Card.After), u.Facts()
}

func (u *CardUse) Command(c *card.Command) run.Step {
	return run.Step{Args: c.Args(u.Vars), Answer: card.Expand(c.Answer, u.Vars), Within: c.Limit(), Means: c.Means}
}

func (u *CardUse) Facts() []run.Fact {
	var out []run.Fact
	for _, f := range u.Card.Facts {
		fact := run.Fact{Name: f.Name}
		if f.Command != nil {
			fact.Args, fact.Within = f.Command.Args(u.Vars), f.Command.Limit()
		} else {
			fact.Place = u.Place(f.Setting)
		}
		if f.MustBe != "" {
			fact.MustBe = &f.MustBe
		}
		if f.Set != nil {
			fact.Set = f.Set.Args(u.Vars)
		}
		out = append(out, fact)
	}
	return out
}

func (u *CardUse) Place(s *card.Setting) *setting.Place {
	return &setting.Place{File: card.Expand(s.File, u.Vars), Format: s.Format, At: s.At, Optional: s.Optional}
}

func (u *CardUse) step(s card.Step) run.Step {
	if s.Ask != "" {
		return run.Step{Ask: s.Ask}
	}
	return u.Command(&s.Command)
}

func (u *CardUse) Steps(in []card.Step) []run.Step {
	var out []run.Step
	for _, s := range in {
		out = append(out, u.step(s))
	}
	return out
}

func CardMethods(c *card.Card) []string {
	switch {
	case c.By != "":
		return strings.Split(c.By, "+")
	case len(c.Settings) > 0:
		return []string{plan.BySetting}
	}
	return []string{plan.BySymlink}
}

// KnownToCards holds a folder against the cards: a place that must stay is a
// blocker; a folder that a card knows is told.
func KnownToCards(e *engine.Engine, p *plan.Plan) {
	home := e.HomeOf(p.Link)
	if home == "" || !p.Traits().First {
		return
	}
	vars, err := card.Variables(home)
	if err != nil {
		return // its user-dirs.dirs can't be read: then no card fits
	}
	path := p.Link
	for _, c := range e.Cards {
		for _, s := range c.Stays {
			at := card.Expand(s.On(runtime.GOOS), vars)
			if _, err := handle.Lstat(at); at == "" || err != nil {
				continue
			}
			if pathtext.Within(path, at) || pathtext.Within(at, path) {
				what := "must stay where it is"
				if path != at && pathtext.Within(at, path) {
					what = "holds " + pathtext.Show(at) + ", which must stay where it is"
				}
				p.Add(finding.New(finding.MustStay, path, "%s %s: %s (card %s)", path, what, s.Why, c.Name))
			}
		}
		if p.Card == "" && slices.ContainsFunc(c.Folders, func(f card.Folder) bool {
			return f.On(runtime.GOOS) != "" && card.Expand(f.On(runtime.GOOS), vars) == path
		}) {
			p.Add(finding.New(finding.CardKnown, path, "card %s knows this folder: %s", c.Name, c.About).
				Instead("`nexlin move card:" + c.Name + " --into …` goes by it"))
		}
	}
}

// CheckCardProgram looks whether the program of the card that a folder was moved by is at work, where settings of its
// are changed again: it may hold them in memory, and write over them when it ends.
func CheckCardProgram(ctx context.Context, e *engine.Engine, p *plan.Plan, name string) error {
	home := e.HomeOf(p.Link)
	if name == "" || home == "" || len(p.Settings) == 0 {
		return nil
	}
	c, err := FindCard(e, name)
	if err != nil {
		return nil // a card that is gone says nothing
	}
	u, err := CardFor(c, home)
	if err != nil {
		return err
	}
	found, err := e.Commands().AtRest(ctx, u.For, u.Use())
	for _, f := range found {
		if p.WhileInUse {
			f = f.As(finding.Warning)
		}
		p.Add(f)
	}
	return err
}

// CheckSandboxes finds programs in sandboxes, and confined services, that see the folder
// where it is and would not see it at target: they follow no link out of what they see.
func CheckSandboxes(e *engine.Engine, p *plan.Plan, target string) error {
	home, kind := e.HomeOf(p.Link), ""
	if home != "" {
		var err error
		if kind, _, _, err = setting.Location(home, p.Link); err != nil {
			return err
		}
	}
	cut, err := inuse.Sandbox{Root: "/", Home: home}.Cut(p.Link, target, kind)
	if err != nil || len(cut) == 0 {
		return err
	}
	names, grants := commandsOf(cut)
	f := finding.New(finding.SandboxCut, target, "%s may see %s and not %s", names, p.Link, target).Named(p.Name)
	if grants != "" {
		f = f.Instead(grants)
	}
	p.Add(f)
	return nil
}

// commandsOf names programs, and the commands about their permissions.
func commandsOf(all []inuse.Sandboxed) (names, commands string) {
	var ns, cs []string
	for _, c := range all {
		ns = append(ns, pathtext.Show(c.Program))
		if c.Grant != "" {
			cs = append(cs, "`"+pathtext.Show(c.Grant)+"`")
		}
	}
	return strings.Join(ns, ", "), strings.Join(cs, ", ")
}

// CheckGranted finds programs in sandboxes that were given the permission to see the place that the folder leaves.
func CheckGranted(e *engine.Engine, p *plan.Plan) error {
	home := e.HomeOf(p.Link)
	if home == "" {
		return nil
	}
	granted, err := inuse.Sandbox{Root: "/", Home: home}.Granted(p.From)
	if err == nil && len(granted) > 0 {
		names, commands := commandsOf(granted)
		p.Add(finding.New(finding.SandboxGrant, p.From, "%s may see %s, which the folder leaves", names, p.From).
			Named(p.Name).Instead(commands))
	}
	return err
}

// CardFor makes a card out for the account that owns a home.
func CardFor(c card.Card, home string) (*CardUse, error) {
	home = places.Resolved(home)
	vars, err := card.Variables(home)
	if err != nil {
		return nil, err
	}
	u := &CardUse{Card: c, Vars: vars}
	st, err := handle.Lstat(home)
	if err != nil {
		return nil, err
	}
	u.For = run.Actor{UID: st.UID, GID: st.GID, Name: account.Name(st.UID), Home: home}
	return u, nil
}

// FindCard gives the card of a name. The error is a *card.NotFoundError with
// near names.
func FindCard(e *engine.Engine, name string) (card.Card, error) {
	miss := &card.NotFoundError{Name: name}
	for _, c := range e.Cards {
		if c.Name == name {
			return c, nil
		}
		if naming.Near(name, c.Name) {
			miss.Known = append(miss.Known, c.Name)
		}
	}
	return card.Card{}, miss
}

func CmpOr(v string, err error) string {
	if err != nil {
		return ": " + err.Error()
	}
	return pathtext.Show(v)
}
