package screen

import (
	"fmt"
	"runtime"
	"strings"

	"nexlin/internal/card"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
)

// ShowCard shows a card in full, made out for an account.
func (a *Lines) ShowCard(u *planning.CardUse) {
	c := u.Card
	a.Print("%s  %s", Bold.Render(c.Name), pathtext.Show(c.About))
	rows := [][]string{{"family", string(c.Family)}}
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
		rows = append(rows, []string{"at rest if", fmt.Sprintf("`%s` says %q",
			strings.Join(c.InUse.Command.Args(u.Vars), " "), c.InUse.Command.Answer)})
	}
	for _, s := range c.Before {
		rows = append(rows, []string{"first", cardStep(s, u)})
	}
	for _, s := range c.After {
		rows = append(rows, []string{"then", cardStep(s, u)})
	}
	for _, f := range c.Facts {
		rows = append(rows, []string{"compares", pathtext.Show(f.Name)})
	}
	for _, s := range c.Stays {
		if at := s.On(runtime.GOOS); at != "" {
			rows = append(rows, []string{"stays", a.Path(card.Expand(at, u.Vars)) + ": " + pathtext.Show(s.Why)})
		}
	}
	a.Columns(a.Out, nil, rows)
}

func cardStep(s card.Step, u *planning.CardUse) string {
	if s.Ask != "" {
		return "asks: " + pathtext.Show(s.Ask)
	}
	return "runs " + pathtext.Show(strings.Join(s.Args(u.Vars), " "))
}
