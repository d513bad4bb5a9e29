package screen

import (
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/card"
	"nexlin/internal/draft"
	"nexlin/internal/group"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
)

// ShowCard shows a card in full, made out for an account.
func (a *Lines) ShowCard(u *planning.CardUse) {
	c := u.Card
	a.Print("%s  %s", Bold.Render(c.Name), pathtext.Show(c.About))
	rows := [][]string{{"family", string(c.Family)}}
	if c.File == "" {
		rows = append(rows, []string{"proven", cmp.Or(c.Proven, "no: it comes from documentation")})
	}
	for _, f := range c.Folders {
		text := a.Path(card.Expand(f.On(runtime.GOOS), u.Vars))
		if f.Growth > 0 {
			text += fmt.Sprintf(", must be able to grow by the factor %g", f.Growth)
		}
		rows = append(rows, []string{strings.TrimSpace("folder " + f.Name), text})
	}
	for _, s := range c.Settings {
		rows = append(rows, []string{"setting",
			fmt.Sprintf("%s at %s (%s)", a.Path(card.Expand(s.File, u.Vars)), s.At, s.Format)})
	}
	if len(c.InUse.Programs) > 0 {
		rows = append(rows, []string{"in use if", strings.Join(c.InUse.Programs, ", ") + " runs"})
	}
	if c.InUse.Command != nil {
		rows = append(rows, []string{"at rest if",
			fmt.Sprintf("%s, and says %q", cardCommand(c.InUse.Command, u), c.InUse.Command.Answer)})
	}
	for _, s := range c.Before {
		rows = append(rows, []string{"first", cardStep(s, u)})
	}
	for _, s := range c.After {
		rows = append(rows, []string{"then", cardStep(s, u)})
	}
	if h := c.Handover; h != nil {
		rows = append(rows, []string{"stores", cardCommand(&h.List, u)},
			[]string{"carries out", cardCommand(&h.CarryOut, u)},
			[]string{"signs off", cardCommand(&h.SignOff, u)},
			[]string{"carries in", cardCommand(&h.CarryIn, u)})
	}
	for _, f := range c.Facts {
		rows = append(rows, []string{"compares", pathtext.Show(f.Name)})
	}
	for _, s := range c.Stays {
		if at := s.On(runtime.GOOS); at != "" {
			rows = append(rows, []string{"stays", a.Path(card.Expand(at, u.Vars)) + ": " + pathtext.Show(s.Why)})
		}
	}
	if c.Away != "" {
		rows = append(rows, []string{"drive away", "it says: " + pathtext.Show(c.Away)})
	}
	a.Columns(a.Out, nil, rows)
}

// CardDocs are the documents about cards, and what is here of what they are about.
func CardDocs(all []planning.OfCard) []Doc {
	docs := make([]Doc, 0, len(all))
	for _, o := range all {
		docs = append(docs, Doc{"name": o.Card.Name, "about": o.Card.About, "family": o.Card.Family, "here": o.Here,
			"bytes": o.Bytes, "files": o.Files, "proven": o.Card.Proven, "file": o.Card.File})
	}
	return docs
}

// CardDoc is the document about one card, made out for an account.
func CardDoc(u *planning.CardUse) Doc {
	folders := []Doc{}
	for _, f := range u.Card.Folders {
		folders = append(folders, Doc{"name": f.Name, "path": card.Expand(f.On(runtime.GOOS), u.Vars),
			"growth": f.Growth})
	}
	return Doc{"name": u.Card.Name, "about": u.Card.About, "family": u.Card.Family, "file": u.Card.File,
		"folders": folders}
}

// ShowChecks shows what the checks of a card said, if people read it, and gives the documents about them;
// bad reports that one was not good.
func ShowChecks(a *Lines, name string, checks []group.CardCheck) (docs []Doc, bad bool) {
	docs = []Doc{}
	for _, c := range checks {
		docs = append(docs, Doc{"what": c.What, "good": c.Good, "says": c.Says})
		bad = bad || !c.Good
		if !a.AsJSON {
			mark := Good.Render("good")
			if !c.Good {
				mark = Caution.Render("look")
			}
			a.Print("%s  %-10s  %s", mark, strings.TrimSpace(c.What), c.Says)
		}
	}
	if !bad && !a.AsJSON {
		a.Print("")
		a.Print("card %s fits this machine; nothing was changed", Bold.Render(name))
	}
	return docs, bad
}

// ShowCards shows cards as a table.
func ShowCards(a *Lines, all []planning.OfCard) {
	var rows [][]string
	for _, o := range all {
		size, whose := "", "not proven"
		if v, _, ok := strings.Cut(o.Card.Proven, " "); ok {
			whose = "proven, " + v
		}
		if o.Here {
			size = pathtext.Size(o.Bytes)
		}
		if o.Card.File != "" {
			whose = "your own"
		}
		rows = append(rows, []string{Bold.Render(o.Card.Name), string(o.Card.Family), size, whose,
			pathtext.Show(o.Card.About)})
	}
	a.Columns(a.Out, []string{"card", "family", "here", "", "about"}, rows, 2)
}

// ShowDraft says what was seen for the draft of a card, and what to do with it.
func ShowDraft(a *Lines, d *draft.Draft, file string) {
	users := append(slices.Clone(d.Programs), d.Services...)
	seen := "no program has anything of it open now"
	switch {
	case len(users) > 0:
		seen = pathtext.Show(strings.Join(users, ", ")) + " has files of it open"
	case !d.Complete:
		seen = "not every program could be looked at: an administrator sees them all"
	}
	rows := [][]string{{"folder", a.Path(d.Folder) + ", " + pathtext.Size(d.Bytes)}, {"in use", seen},
		{"settings", fmt.Sprintf("%s of it, in %s near by", pathtext.Plural(int64(len(d.Settings)), "address",
			"addresses"), pathtext.Plural(int64(d.Looked), "file", "files"))}}
	if g := d.Growth(); g > 0 {
		rows = append(rows, []string{"growth", fmt.Sprintf("%.1f times in a year", g)})
	}
	a.Print("%s  %s", Bold.Render(d.Name), "a draft, to be looked at: "+a.Path(file))
	a.Columns(a.Out, nil, rows)
	a.Print("")
	a.Print("  what is missing:    nexlin card test %s", d.Name)
	a.Print("  to go by it:        nexlin move card:%s --into DIR", d.Name)
}

func cardStep(s card.Step, u *planning.CardUse) string {
	if s.Ask != "" {
		return "asks: " + pathtext.Show(s.Ask)
	}
	return cardCommand(&s.Command, u)
}

// cardCommand is a command in words, if the card has any, and as it is run.
func cardCommand(c *card.Command, u *planning.CardUse) string {
	text := pathtext.Show(strings.Join(c.Args(u.Vars), " "))
	if c.Means != "" {
		return pathtext.Show(c.Means) + ": " + text
	}
	return "runs " + text
}
