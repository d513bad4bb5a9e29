package screen

import (
	"fmt"
	"path/filepath"
	"strings"

	"nexlin/internal/discard"
	"nexlin/internal/finding"
	"nexlin/internal/link"
	"nexlin/internal/merge"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// ShowMending says what is going to be put right.
func (a *Screen) ShowMending(p *plan.Plan) {
	if p.Into == "" || p.LinkText == "" || p.StaysDetached() {
		a.Print("%s", Bold.Render(p.Name))
	} else {
		a.Print("%s", led(p.Methods, a.Path(p.Link), on(&p.IntoNow, p.Target)))
	}
	m := p.Mend
	if m.After.Drive.Mount != p.Before.Drive.Mount {
		a.Print("  place     %s is at %s now, until now %s", pathtext.Show(p.Before.Drive.Label),
			a.Path(m.After.Drive.Mount), a.Path(p.Before.Drive.Mount))
	}
	switch {
	case m.Link && p.OldText != "":
		a.Print("  link      leads to %s now, and will lead to %s", a.Path(link.Seen(p.OldText)),
			a.Path(link.Seen(p.LinkText)))
	case m.Link:
		a.Print("  link      is made: nothing stands at %s now", a.Path(p.Link))
	}
	for _, s := range p.Settings {
		a.Print("  setting   %s at %s leads to %s again", a.Path(s.File), pathtext.Show(s.At), a.Path(s.To))
	}
	if m.Tag {
		a.Print("  drive     its tag is written anew")
	}
	if m.Note {
		a.Print("  note      the target note is written anew")
	}
	if n := len(m.Held); n > 0 {
		a.Print("  held      %s on the drive, recorded at the new place",
			pathtext.Plural(int64(n), "held original", "held originals"))
	}
	if p.Merges() {
		a.Print("  halves    the real folder at %s (%s, %s) is merged into the target,", a.Path(p.From),
			pathtext.Files(p.Files), pathtext.Size(p.Bytes))
		a.Print("            the link takes its place, and it is held as %s", a.Path(p.HeldPath()))
	}
	if len(p.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, p.Findings)
	}
}

var fates = map[merge.Fate]string{
	merge.FateNew:     "goes over",
	merge.FateEqual:   "equal",
	merge.FateName:    "both differ",
	merge.FateBeside:  "both differ",
	merge.FateReplace: "both differ",
	merge.FateHeld:    "both differ",
}

// fewEntries is how many are named of each sort before a question, so that it stays in sight
// of what it is about.
const fewEntries = 6

// ShowMerge names the entries that a merge is about and what becomes of them, all or a few of
// each sort, and gives those that both halves have.
func (a *Screen) ShowMerge(all bool, preview func(visit func(merge.Entry) error) error) (out []Doc,
	conflicts []merge.Entry, err error) {
	over, equal, told := int64(0), int64(0), false
	shown := map[bool]int{} // of those that both halves have, and of the others
	more := 0
	err = preview(func(m merge.Entry) error {
		if !told {
			a.Say("")
		}
		told = true
		switch {
		case a.AsJSON:
			out = append(out, Doc{"path": m.Path, "fate": m.Fate, "bytes": m.Bytes, "beside": m.Beside})
		case m.Fate == merge.FateInside || m.Dir && m.Fate == merge.FateNew:
		case !all && shown[m.Fate.Conflict()] == fewEntries:
			more++
		default:
			shown[m.Fate.Conflict()]++
			a.Print("  %-12s %s%s", fates[m.Fate], pathtext.Show(m.Path), keepsBoth(m))
		}
		switch {
		case m.Dir:
		case m.Fate == merge.FateNew:
			over++
		case m.Fate == merge.FateEqual:
			equal++
		}
		if m.Fate.Conflict() {
			conflicts = append(conflicts, m)
		}
		return nil
	})
	if more > 0 {
		a.Say("  and %s more (--preview names all)", pathtext.Count(int64(more)))
	}
	if told {
		a.Say("")
		a.Say("  %s over, %s equal, %s in both halves with other content", pathtext.Plural(over, "goes", "go"),
			pathtext.Plural(equal, "is", "are"), pathtext.Plural(len(conflicts), "is", "are"))
	}
	return out, conflicts, err
}

// keepsBoth says how both of two entries are kept.
func keepsBoth(m merge.Entry) string {
	beside := pathtext.Show(filepath.Base(m.Beside))
	switch m.Fate {
	case merge.FateName:
		return fmt.Sprintf(": the younger one, of the real folder, takes the name; the target's stays as %s", beside)
	case merge.FateBeside:
		return fmt.Sprintf(": the target's keeps the name; the one of the real folder goes beside it as %s", beside)
	case merge.FateReplace:
		return ": the one of the real folder takes the name; the target's is set aside"
	case merge.FateHeld:
		return ": the target's keeps the name; the one of the real folder stays held"
	}
	return ""
}

func (a *Screen) ShowMended(o *plan.Outcome) {
	p := o.Plan
	a.Print("")
	if p.LinkText == "" {
		a.Print("%s  %s", Good.Render("done"), Bold.Render(p.Name))
		return
	}
	if p.StaysDetached() {
		a.Print("%s  %s stays detached; its data is at %s", Good.Render("done"), Bold.Render(p.Name),
			on(&p.IntoNow, p.Target))
	} else {
		a.Print("%s  %s", Good.Render("done"), led(p.Methods, a.Path(p.Link), on(&p.IntoNow, p.Target)))
		a.proof(o)
		a.tried(p)
	}
	a.News(o)
	if p.Merges() {
		a.Print("")
		a.Print("%s the real folder is held as %s", Caution.Render("nothing is deleted:"), a.Path(p.HeldPath()))
		a.Print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
	a.Print("  takes this back:               nexlin undo %s", o.Run)
}

func (a *Screen) ShowDiscard(d *discard.Plan) {
	a.Print("%s   in use: %s", Bold.Render(pathtext.Show(d.Redirect.Name)), a.Path(d.Live))
	for _, v := range d.Verdicts {
		a.Print("  held since %s: %s", Day(v.Held.Since), a.Path(v.Held.Path))
		switch {
		case v.IsArchive():
			a.Print("  an archive: it was carried in, and reads to its end")
		case v.Proven > 0:
			a.Print("  proven to be in the folder in use: %s, %s", pathtext.Files(v.Proven),
				pathtext.Size(v.Bytes))
		}
	}
	if n := d.Frees(); n > 0 {
		a.Print("  deleting frees about %s", pathtext.Size(n))
	}
	if len(d.Findings) > 0 {
		a.Print("")
		a.Notices(d.Findings)
	}
}

func AcceptFlags(codes []finding.Code) string {
	var out []string
	for _, c := range codes {
		out = append(out, "--accept "+string(c))
	}
	return strings.Join(out, " ")
}
