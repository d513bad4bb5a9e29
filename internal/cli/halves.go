package cli

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

// showMending says what is going to be put right.
func (a *screen) showMending(p *plan.Plan) {
	if p.Into == "" || p.LinkText == "" || p.StaysDetached() {
		a.print("%s", bold.Render(p.Name))
	} else {
		a.print("%s", led(p.Methods, a.path(p.Link), on(&p.IntoNow, p.Target)))
	}
	m := p.Mend
	if m.After.Drive.Mount != p.Before.Drive.Mount {
		a.print("  place     %s is at %s now, until now %s", pathtext.Show(p.Before.Drive.Label),
			a.path(m.After.Drive.Mount), a.path(p.Before.Drive.Mount))
	}
	switch {
	case m.Link && p.OldText != "":
		a.print("  link      leads to %s now, and will lead to %s", a.path(link.Seen(p.OldText)),
			a.path(link.Seen(p.LinkText)))
	case m.Link:
		a.print("  link      is made: nothing stands at %s now", a.path(p.Link))
	}
	for _, s := range p.Settings {
		a.print("  setting   %s at %s leads to %s again", a.path(s.File), pathtext.Show(s.At), a.path(s.To))
	}
	if m.Tag {
		a.print("  drive     its tag is written anew")
	}
	if m.Note {
		a.print("  note      the target note is written anew")
	}
	if n := len(m.Held); n > 0 {
		a.print("  held      %s on the drive, recorded at the new place",
			plural(int64(n), "held original", "held originals"))
	}
	if p.Merges() {
		a.print("  halves    the real folder at %s (%s, %s) is merged into the target,", a.path(p.From),
			plural(p.Files, "file", "files"), pathtext.Size(p.Bytes))
		a.print("            the link takes its place, and it is held as %s", a.path(p.HeldPath()))
	}
	if len(p.Findings) > 0 {
		a.print("")
		a.findings(a.out, p.Findings)
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

// showMerge names every entry that a merge is about and what becomes of it, and
// gives those that both halves have.
func (a *screen) showMerge(preview func(visit func(merge.Entry) error) error) (out []doc,
	conflicts []merge.Entry, err error) {
	over, equal, told := int64(0), int64(0), false
	err = preview(func(m merge.Entry) error {
		if !told {
			a.say("")
		}
		told = true
		switch {
		case a.json:
			out = append(out, doc{"path": m.Path, "fate": m.Fate, "bytes": m.Bytes, "beside": m.Beside})
		case m.Fate == merge.FateInside || m.Dir && m.Fate == merge.FateNew:
		default:
			a.print("  %-12s %s%s", fates[m.Fate], pathtext.Show(m.Path), keepsBoth(m))
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
	if told {
		a.say("")
		a.say("  %s over, %s equal, %s in both halves with other content", plural(over, "goes", "go"),
			plural(equal, "is", "are"), plural(int64(len(conflicts)), "is", "are"))
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

func (a *screen) showMended(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	if p.LinkText == "" {
		a.print("%s  %s", good.Render("done"), bold.Render(p.Name))
		return
	}
	if p.StaysDetached() {
		a.print("%s  %s stays detached; its data is at %s", good.Render("done"), bold.Render(p.Name),
			on(&p.IntoNow, p.Target))
	} else {
		a.print("%s  %s", good.Render("done"), led(p.Methods, a.path(p.Link), on(&p.IntoNow, p.Target)))
		a.proof(o)
		a.tried(p)
	}
	a.news(o)
	if p.Merges() {
		a.print("")
		a.print("%s the real folder is held as %s", caution.Render("nothing is deleted:"), a.path(p.HeldPath()))
		a.print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
	a.print("  takes this back:               nexlin undo %s", o.Run)
}

func (a *screen) showDiscard(d *discard.Plan) {
	a.print("%s   in use: %s", bold.Render(pathtext.Show(d.Redirect.Name)), a.path(d.Live))
	for _, v := range d.Verdicts {
		a.print("  held since %s: %s", day(v.Held.Since), a.path(v.Held.Path))
		switch {
		case v.IsArchive():
			a.print("  an archive: it was carried in, and reads to its end")
		case v.Proven > 0:
			a.print("  proven to be in the folder in use: %s, %s", plural(v.Proven, "file", "files"),
				pathtext.Size(v.Bytes))
		}
	}
	if n := d.Frees(); n > 0 {
		a.print("  deleting frees about %s", pathtext.Size(n))
	}
	if len(d.Findings) > 0 {
		a.print("")
		a.findings(a.out, d.Findings)
	}
}

func acceptFlags(codes []finding.Code) string {
	var out []string
	for _, c := range codes {
		out = append(out, "--accept "+string(c))
	}
	return strings.Join(out, " ")
}
