package screen

import (
	"fmt"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/pathtext"
	"nexlin/internal/preflight"
	"nexlin/internal/selftest"
)

// A selftestDoc is a [selftest.Result] in JSON, with what each drive keeps.
type selftestDoc struct {
	*selftest.Result
	Home   sideDoc `json:"home"`
	Target sideDoc `json:"target"`
}

type sideDoc struct {
	selftest.Side
	Keeps abilitiesDoc `json:"keeps"`
}

// SelftestDoc is the document of a self-test; nothing in it names a person, a folder or a drive.
func SelftestDoc(r *selftest.Result) any {
	return selftestDoc{r, sideDoc{r.Home, abilitiesOf(r.Home.Keeps)}, sideDoc{r.Target, abilitiesOf(r.Target.Keeps)}}
}

// ShowSelftest shows what the two drives keep, how each step went, and what that means.
func (a *Lines) ShowSelftest(r *selftest.Result) {
	a.Print("%s", Bold.Render("What the drives keep"))
	rows := [][]string{
		{"file system", r.Home.FS, r.Target.FS}, {"size", pathtext.Size(r.Home.Size), pathtext.Size(r.Target.Size)},
	}
	for _, k := range kept {
		rows = append(rows, []string{k.name, k.of(&r.Home.Keeps), k.of(&r.Target.Keeps)})
	}
	a.Columns(a.Out, []string{"", "home", "other drive"}, rows)
	a.Print("")
	a.Print("%s", Bold.Render("What was played"))
	rows = nil
	for _, s := range r.Steps {
		rows = append(rows, []string{outcome(s.Outcome), fmt.Sprintf("%.1f s", s.Seconds), s.Name})
	}
	a.Columns(a.Out, nil, rows, 1)
	for _, s := range r.Steps {
		if s.Said != "" {
			a.Print("")
			a.text(a.Out, "  ", s.Name+": "+pathtext.Show(s.Said))
		}
	}
	a.Print("")
	if len(r.LeftOut) > 0 {
		a.text(a.Out, "", "Left out, since one of the drives does not keep it: "+strings.Join(r.LeftOut, ", ")+".")
	}
	if len(r.Accepted) > 0 {
		a.text(a.Out, "", "Accepted for the test, as a move would ask you to: "+strings.Join(r.Accepted, ", ")+".")
	}
	if r.Left != "" {
		a.text(a.Out, "", Caution.Render("Not taken away:")+" "+pathtext.Show(r.Left))
	}
	if !r.Well() {
		a.text(a.Out, "", Bad.Render("Not well:")+" what failed is said above; what comes after it was not tried. "+
			"Nothing of yours was touched. `--report FILE` writes all of this, without names of yours, for sending.")
		return
	}
	a.text(a.Out, "", fmt.Sprintf("%s every one of %s went as it should between these two drives.",
		Good.Render("All well:"), pathtext.Plural(int64(r.Entries), "entry", "entries")))
}

func outcome(o selftest.Outcome) string {
	switch o {
	case selftest.Done:
		return Good.Render(string(o))
	case selftest.Failed:
		return Bad.Render(string(o))
	}
	return Faint.Render(string(o))
}

// kept are the rows of what a drive keeps.
var kept = []struct {
	name string
	of   func(*drive.Abilities) string
}{
	{"symbolic links", func(a *drive.Abilities) string { return yesNo(a.Symlinks) }},
	{"junctions", func(a *drive.Abilities) string { return yesNo(a.Junctions) }},
	{"several names of a file", func(a *drive.Abilities) string { return yesNo(a.HardLinks) }},
	{"FIFOs", func(a *drive.Abilities) string { return yesNo(a.Nodes) }},
	{"permissions", func(a *drive.Abilities) string { return yesNo(a.Modes) }},
	{"owners", func(a *drive.Abilities) string { return yesNo(a.Owners) }},
	{"attributes", func(a *drive.Abilities) string { return yesNo(a.Xattrs) }},
	{"access lists", func(a *drive.Abilities) string { return yesNo(a.ACLs) }},
	{"holes", func(a *drive.Abilities) string { return yesNo(a.Holes) }},
	{"upper and lower case", func(a *drive.Abilities) string { return yesNo(a.CaseSeen) }},
	{"names of any bytes", func(a *drive.Abilities) string { return yesNo(a.Bytes()) }},
	{"link and folder change places at once", func(a *drive.Abilities) string { return yesNo(a.Exchange) }},
	{"times to", func(a *drive.Abilities) string {
		if a.TimeStep == 0 {
			return "not kept"
		}
		return preflight.StepText(a.TimeStep)
	}},
	{"largest file", func(a *drive.Abilities) string {
		if a.MaxFile == 0 {
			return "no limit met"
		}
		return pathtext.Size(a.MaxFile)
	}},
}

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}
