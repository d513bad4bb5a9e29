package cli

import (
	"errors"
	"fmt"

	"nexlin/internal/handover"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

func (a *screen) showHandover(p *plan.Plan) {
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
		rows = append(rows, []string{pathtext.Show(x.Name), pathtext.Show(x.State), a.path(x.Place), mark})
	}
	a.columns(a.out, []string{"store", "state", "place", ""}, rows)
	if p.Target != "" {
		target := a.path(s.To)
		if p.IntoNow.Mount != "" {
			target = on(&p.IntoNow, s.To)
		}
		a.print("")
		a.print("%s ──handover──▶ %s", bold.Render(a.path(s.From)), bold.Render(target))
		a.print("")
		a.print("  carries out   to an archive beside the new place, which is read to its end")
		a.print("  signs off     only after that: the engine then deletes the store at the old place")
		a.print("  carries in    at the new place; if that fails, at the old place again")
		for _, f := range s.Facts {
			a.print("  compares      %s, and sets it back if the engine has reset it", pathtext.Show(f.Name))
		}
		if p.IntoNow.Mount != "" {
			a.print("")
			a.columns(a.out, []string{"drive", "needed", "free now", "free after"}, [][]string{
				{pathtext.Show(p.IntoNow.Name()), pathtext.Size(p.Need), pathtext.Size(p.IntoNow.Free),
					pathtext.Size(p.IntoNow.Free - p.Need)},
			}, 1, 2)
		}
	}
	if len(p.Findings) > 0 {
		a.print("")
		a.findings(a.out, p.Findings)
	}
}

func (a *screen) showHandedOver(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	a.print("%s  the engine has %s at %s", good.Render("done"), bold.Render(pathtext.Show(p.Store.Store)),
		bold.Render(on(&p.IntoNow, p.Store.To)))
	for _, f := range o.Facts {
		text := pathtext.Show(f.After)
		if f.Set {
			text += ", set back after the engine had reset it"
		}
		a.print("  fact      %s: %s", pathtext.Show(f.Name), text)
	}
	a.print("")
	a.spaces(o)
	a.print("")
	a.print("%s the archive is held as %s", caution.Render("nothing is deleted but by the engine:"),
		a.path(p.HeldPath()))
	a.print("  deletes it, after reading it once more:   nexlin discard-original %s", pathtext.Quote(p.Name))
	if !p.Store.Home {
		a.print("  brings the store back:                    nexlin bring-back %s", pathtext.Quote(p.Name))
	}
	a.print("  takes this back:                          nexlin undo %s", o.Run)
}

func storeDocs(p *plan.Plan) []doc {
	out := []doc{}
	for _, s := range p.Store.Stores {
		out = append(out, doc{"name": s.Name, "state": s.State, "place": s.Place, "stays": s.Stays})
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
