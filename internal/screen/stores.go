package screen

import (
	"errors"
	"fmt"

	"nexlin/internal/handover"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

func (a *Screen) ShowHandover(p *plan.Plan) {
	s := p.Store
	var rows [][]string
	for _, x := range s.Stores {
		mark := ""
		switch {
		case x.Stays:
			mark = "must stay"
		case x.Name == s.Store:
			mark = "is moved"
		}
		rows = append(rows, []string{pathtext.Show(x.Name), pathtext.Show(x.State), a.Path(x.Place), mark})
	}
	a.Columns(a.Out, []string{"store", "state", "place", ""}, rows)
	if p.Target != "" {
		target := a.Path(s.To)
		if p.IntoNow.Mount != "" {
			target = on(&p.IntoNow, s.To)
		}
		a.Print("")
		a.Print("%s ──handover──▶ %s", Bold.Render(a.Path(s.From)), Bold.Render(target))
		a.Print("")
		a.Print("  carries out   to an archive in %s, which is read to its end", a.Path(p.HeldIn))
		a.Print("  signs off     only after that: the engine then deletes the store at the old place")
		a.Print("  carries in    at the new place; if that fails, at the old place again")
		for _, f := range s.Facts {
			a.Print("  compares      %s, and sets it back if the engine has reset it", pathtext.Show(f.Name))
		}
		if p.IntoNow.Mount != "" {
			a.Print("")
			a.Columns(a.Out, []string{"drive", "needed", "free now", "free after"}, [][]string{
				{pathtext.Show(p.IntoNow.Name()), pathtext.Size(p.Need), pathtext.Size(p.IntoNow.Free),
					pathtext.Size(p.IntoNow.Free - p.Need)},
			}, 1, 2)
		}
	}
	if len(p.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, p.Findings)
	}
}

func (a *Screen) ShowHandedOver(o *plan.Outcome) {
	p := o.Plan
	a.Print("")
	a.Print("%s  the engine has %s at %s", Good.Render("done"), Bold.Render(pathtext.Show(p.Store.Store)),
		Bold.Render(on(&p.IntoNow, p.Store.To)))
	for _, f := range o.Facts {
		text := pathtext.Show(f.After)
		if f.Set {
			text += ", set back after the engine had reset it"
		}
		a.Print("  fact      %s: %s", pathtext.Show(f.Name), text)
	}
	a.Print("")
	a.Spaces(o)
	a.Print("")
	a.Print("%s the archive is held as %s", Caution.Render("nothing is deleted but by the engine:"),
		a.Path(p.HeldPath()))
	a.Print("  deletes it, after reading it once more:   nexlin discard-original %s", pathtext.Quote(p.Name))
	if !p.Store.Home {
		a.Print("  brings the store back:                    nexlin bring-back %s", pathtext.Quote(p.Name))
	}
	a.Print("  takes this back:                          nexlin undo %s", o.Run)
}

func StoreDocs(p *plan.Plan) []Doc {
	out := []Doc{}
	for _, s := range p.Store.Stores {
		out = append(out, Doc{"name": s.Name, "state": s.State, "place": s.Place, "stays": s.Stays})
	}
	return out
}

// explainLocked explains a store of which a file stays locked.
func explainLocked(err error, run string) (next string, ok bool) {
	var locked *handover.LockedError
	if !errors.As(err, &locked) {
		return "", false
	}
	return fmt.Sprintf("nexlin resume %s --after-restart   has it go on by itself when the machine was restarted",
		run), true
}
