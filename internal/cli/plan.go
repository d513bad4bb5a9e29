package cli

import (
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// showPlan says what is about to happen: the direction, what is moved, the
// numbers of both drives, and everything that was noticed.
func (a *screen) showPlan(p *plan.Plan) {
	target := a.path(p.Copy())
	if p.IntoNow.Mount != "" {
		target = on(&p.IntoNow, p.Copy())
	}
	switch {
	case p.ComesBack():
		a.print("%s   (a real folder again; the data comes from %s)", bold.Render(a.path(p.Link)), a.fromWhere(p))
	case p.MovesOn():
		a.print("%s   (until now %s)", led(p.Methods, a.path(p.Link), target), a.fromWhere(p))
	default:
		a.print("%s", led(p.Methods, a.path(p.Link), target))
	}
	if p.FromNow.Mount != "" && p.IntoNow.Mount != "" {
		a.print("")
		a.planNumbers(p)
	}
	if len(p.Findings) > 0 {
		a.print("")
		a.findings(a.out, p.Findings)
	}
}

func (a *screen) fromWhere(p *plan.Plan) string {
	if p.FromNow.Mount != "" {
		return on(&p.FromNow, p.From)
	}
	return a.path(p.From)
}

func (a *screen) planNumbers(p *plan.Plan) {
	what := plural(p.Files, "file", "files") + ", " + pathtext.Size(p.Bytes)
	if p.Facts.Links > 0 {
		what += ", " + plural(p.Facts.Links, "link", "links")
	}
	a.print("  redirect  %s", p.Name)
	switch {
	case p.Bare:
		a.print("  moves     nothing: the target begins empty, and what is in the folder is held where it is")
	case p.Merges():
		a.print("  merges    %s, into what the target has already; nothing there is replaced", what)
	default:
		a.print("  moves     %s", what)
	}
	a.print("  from      %s", a.path(p.From))
	a.print("  to        %s", a.path(p.Copy()))
	if link.IsJunction(p.LinkText) && !handle.Windows {
		a.print("  as seen   %s, by Windows", a.path(link.Seen(p.LinkText)))
	}
	if p.LentFiles > 0 && p.Base.Take {
		a.print("  takes     %s out of the held original that are equal; they need no room",
			plural(p.LentFiles, "file", "files"))
	}
	a.settingLines(p)
	a.print("")
	into, from := &p.IntoNow, &p.FromNow
	later := fmt.Sprintf("%s, and %s more once the original is discarded", pathtext.Size(from.Free),
		pathtext.Size(p.FreesLater))
	switch {
	case p.Bare:
		later = fmt.Sprintf("%s; the original is the only copy of what is in it", pathtext.Size(from.Free))
	case p.DiscardOld:
		later = fmt.Sprintf("%s, since the original is deleted at the end", pathtext.Size(from.Free+p.FreesLater))
	}
	a.columns(a.out, []string{"drive", "needed", "free now", "free after"}, [][]string{
		{pathtext.Show(into.Name()), pathtext.Size(p.Need), pathtext.Size(into.Free),
			pathtext.Size(into.Free - p.Need)},
		{pathtext.Show(from.Name()), "–", pathtext.Size(from.Free), later},
	}, 1, 2)
}

// spaces prints what both drives had before and have now.
func (a *screen) spaces(o *plan.Outcome) {
	var rows [][]string
	for _, s := range o.Space {
		diff := "unchanged"
		switch d := s.FreeAfter - s.FreeBefore; {
		case d > 0:
			diff = pathtext.Size(d) + " freed"
		case d < 0:
			diff = pathtext.Size(-d) + " taken"
		}
		rows = append(rows, []string{pathtext.Show(s.Drive), pathtext.Size(s.FreeBefore), pathtext.Size(s.FreeAfter),
			diff})
	}
	if len(rows) > 0 {
		a.columns(a.out, []string{"drive", "free before", "free now", ""}, rows, 1, 2)
	}
}

// proof says what was copied and how it was proven.
func (a *screen) proof(o *plan.Outcome) {
	if o.Copied.Files > 0 {
		a.print("  copied    %s, %s in %s", plural(o.Copied.Files, "file", "files"), pathtext.Size(o.Copied.Bytes),
			seconds(o.Copied.Seconds))
	}
	if o.Verified.Files > 0 {
		where := "through the file system (what lies below it may have answered from memory)"
		if o.Device {
			where = "from the device itself"
		}
		a.print("  verified  %s read back %s, every one equal", plural(o.Verified.Files, "file", "files"), where)
	}
}

// news prints the findings that came up during the run.
func (a *screen) news(o *plan.Outcome) {
	var fs []finding.Finding
	for _, f := range o.Findings {
		if f.Code == finding.LateWrite || f.Code == finding.LateConflict || f.Code == finding.Stranger ||
			f.Code == finding.OlderAside || f.Code == finding.GapFilled || f.Code == finding.ArchiveKept {
			fs = append(fs, f)
		}
	}
	if len(fs) > 0 {
		a.print("")
		a.findings(a.out, fs)
	}
}

func (a *screen) showMoved(o *plan.Outcome) {
	p := o.Plan
	name := pathtext.Quote(p.Name)
	a.print("")
	a.print("%s  %s", good.Render("done"), led(p.Methods, a.path(p.Link), on(&p.IntoNow, p.Copy())))
	a.proof(o)
	a.tried(p)
	a.news(o)
	a.print("")
	a.spaces(o)
	a.print("")
	if o.Discarded != nil {
		a.print("%s every file of it was compared once more", caution.Render("the original is deleted:"))
		a.news(o.Discarded)
		a.print("  brings the data back:   nexlin bring-back %s", name)
		return
	}
	a.print("%s the original is held as %s", caution.Render("nothing is freed yet:"), a.path(p.HeldPath()))
	discard := "nexlin discard-original " + name
	if p.Bare {
		a.print("  nothing of it was copied: it is the only copy of what is in it")
		a.print("  deletes that copy, and frees %s on %s:   %s --accept never-copied", pathtext.Size(p.FreesLater),
			pathtext.Show(p.FromNow.Name()), discard)
	} else {
		a.print("  frees %s on %s:   %s", pathtext.Size(p.FreesLater), pathtext.Show(p.FromNow.Name()), discard)
	}
	a.print("  brings the data back:   nexlin bring-back %s", name)
	a.print("  takes this move back:   nexlin undo %s", o.Run)
}

// settingLines says which settings change, and whether a link stays.
func (a *screen) settingLines(p *plan.Plan) {
	for _, s := range p.Settings {
		what := "leads to the new place"
		if s.Back != nil {
			what = "says again what it said before"
		}
		a.print("  setting   %s at %s %s", a.path(s.File), pathtext.Show(s.At), what)
	}
	if p.Linkless() && p.IsFirst() && p.Card == "" {
		a.print("  link      none: programs that have the old path built in will not find the folder (--by " +
			"setting+symlink leads them, too)")
	}
}

// tried says how it was proven that programs are led to the new place.
func (a *screen) tried(p *plan.Plan) {
	switch {
	case p.Linkless():
	case p.ByBytes:
		a.print("  junction  says %s, as it was made; this system does not know that place, so no file was saved "+
			"through it", a.path(link.Seen(p.LinkText)))
	default:
		a.print("  tried     a file saved through the link shows up at the target, and the other way round")
	}
	for _, s := range p.Settings {
		a.print("  setting   %s at %s leads there", a.path(s.File), pathtext.Show(s.At))
	}
}

func (a *screen) showBroughtBack(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	a.print("%s  %s is a real folder again", good.Render("done"), bold.Render(a.path(p.Link)))
	a.proof(o)
	if o.Lent > 0 {
		a.print("  taken     %s out of the original that was held here", plural(o.Lent, "file", "files"))
	}
	a.news(o)
	a.print("")
	a.spaces(o)
	a.print("")
	a.print("%s the data on %s is held as %s", caution.Render("nothing is deleted:"), pathtext.Show(p.FromNow.Name()),
		a.path(p.HeldPath()))
	a.print("  deletes what is held, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	a.print("  takes this bring-back back:              nexlin undo %s", o.Run)
}
