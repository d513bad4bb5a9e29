package screen

import (
	"cmp"
	"fmt"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// ShowPlan says what is about to happen: the direction, what is moved, the
// numbers of both drives, and everything that was noticed.
func (a *Screen) ShowPlan(p *plan.Plan) {
	target := a.Path(p.Copy())
	if p.IntoNow.Mount != "" {
		target = on(&p.IntoNow, p.Copy())
	}
	switch {
	case p.ComesBack():
		a.Print("%s   (a real folder again; the data comes from %s)", Bold.Render(a.Path(p.Link)), a.fromWhere(p))
	case p.MovesOn():
		a.Print("%s   (until now %s)", led(p.Methods, a.Path(p.Link), target), a.fromWhere(p))
	default:
		a.Print("%s", led(p.Methods, a.Path(p.Link), target))
	}
	if p.FromNow.Mount != "" && p.IntoNow.Mount != "" {
		a.Print("")
		a.planNumbers(p)
	}
	if len(p.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, p.Findings)
	}
}

func (a *Lines) fromWhere(p *plan.Plan) string {
	if p.FromNow.Mount != "" {
		return on(&p.FromNow, p.From)
	}
	return a.Path(p.From)
}

func (a *Screen) planNumbers(p *plan.Plan) {
	what := pathtext.Files(p.Files) + ", " + pathtext.Size(p.Bytes)
	if p.Facts.Links > 0 {
		what += ", " + pathtext.Plural(p.Facts.Links, "link", "links")
	}
	a.Print("  redirect  %s", p.Name)
	switch {
	case p.Bare:
		a.Print("  moves     nothing: the target begins empty, and what is in the folder is held where it is")
	case p.Merges():
		a.Print("  merges    %s, into what the target has already; nothing there is replaced", what)
	default:
		a.Print("  moves     %s", what)
	}
	a.Print("  from      %s", a.Path(p.From))
	a.Print("  to        %s", a.Path(p.Copy()))
	if link.IsJunction(p.LinkText) && !handle.Windows {
		a.Print("  as seen   %s, by Windows", a.Path(link.Seen(p.LinkText)))
	}
	if p.Loan.Files > 0 && p.Base.Take {
		a.Print("  takes     %s out of the held original that are equal; they need no room",
			pathtext.Files(p.Loan.Files))
	}
	a.settingLines(p)
	if !p.Bare {
		a.Print("  proof     %s", digestWords(cmp.Or(p.Digest, transfer.SHA256)))
	}
	a.Print("")
	into, from := &p.IntoNow, &p.FromNow
	later := fmt.Sprintf("%s, and %s more after the discard", pathtext.Size(from.Free),
		pathtext.Size(p.FreesLater()))
	switch {
	case p.Bare:
		later = fmt.Sprintf("%s; the original is the only copy of what is in it", pathtext.Size(from.Free))
	case p.DiscardOld:
		later = fmt.Sprintf("%s, since the original is deleted at the end", pathtext.Size(from.Free+p.FreesLater()))
	}
	a.Columns(a.Out, []string{"drive", "needed", "free now", "free after"}, [][]string{
		{pathtext.Show(into.Name()), pathtext.Size(p.Need), pathtext.Size(into.Free),
			pathtext.Size(into.Free - p.Need)},
		{pathtext.Show(from.Name()), "–", pathtext.Size(from.Free), later},
	}, 1, 2)
}

// Spaces prints what both drives had before and have now.
func (a *Screen) Spaces(o *plan.Outcome) {
	var rows [][]string
	for _, s := range o.Space {
		diff := "unchanged"
		switch d := s.FreeAfter - s.FreeBefore; {
		case d > 0:
			diff = pathtext.Size(d) + " freed"
		case d < 0:
			diff = pathtext.Size(-d) + " taken"
		}
		before, now := pathtext.Size(s.FreeBefore), pathtext.Size(s.FreeAfter)
		if a.outIsTerminal() && s.Size > 0 {
			before, now = Gauge(s.Size, s.FreeBefore)+" "+before, Gauge(s.Size, s.FreeAfter)+" "+now
		}
		rows = append(rows, []string{pathtext.Show(s.Drive), before, now, diff})
	}
	if len(rows) > 0 {
		before := "free before"
		if o.Resumed { // the numbers of before the stop are not known any more
			before = "free before going on"
		}
		a.Columns(a.Out, []string{"drive", before, "free now", ""}, rows, 1, 2)
	}
}

// proof says what was copied and how it was proven.
func (a *Screen) proof(o *plan.Outcome) {
	if o.Copied.Files > 0 && !o.Resumed {
		a.Print("  copied    %s, %s in %s", pathtext.Files(o.Copied.Files), pathtext.Size(o.Copied.Bytes),
			Seconds(o.Copied.Seconds))
	}
	if o.Resumed && o.Verified.Files == 0 && !o.Plan.Bare {
		a.Print("  verified  every file was read back before the run was stopped, every one equal")
	}
	if o.Verified.Files > 0 {
		where := "through the file system"
		switch {
		case o.Device:
			where = "from the device"
		case a.Verbose:
			where += " (what lies below it may have answered from memory)"
		}
		a.Print("  verified  %s read back %s, every one equal", pathtext.Files(o.Verified.Files), where)
	}
}

// News prints the findings that came up during the run.
func (a *Screen) News(o *plan.Outcome) {
	var fs []finding.Finding
	for _, f := range o.Findings {
		if f.Code == finding.LateWrite || f.Code == finding.LateConflict || f.Code == finding.Stranger ||
			f.Code == finding.OlderAside || f.Code == finding.GapFilled || f.Code == finding.ArchiveKept {
			fs = append(fs, f)
		}
	}
	if len(fs) > 0 {
		a.Print("")
		a.Findings(a.Out, fs)
	}
}

func (a *Screen) ShowMoved(o *plan.Outcome) {
	p := o.Plan
	name := pathtext.Quote(p.Name)
	a.Print("")
	a.Print("%s  %s", Good.Render("done"), led(p.Methods, a.Path(p.Link), on(&p.IntoNow, p.Copy())))
	a.proof(o)
	a.tried(p)
	a.News(o)
	a.Print("")
	a.Spaces(o)
	a.Print("")
	if o.Discarded != nil {
		a.Print("%s every file of it was compared once more", Caution.Render("the original is deleted:"))
		a.News(o.Discarded)
		a.Print("  brings the data back:   nexlin bring-back %s", name)
		return
	}
	a.Print("%s the original is held as %s", Caution.Render("nothing is freed yet:"), a.Path(p.HeldPath()))
	discard := "nexlin discard-original " + name
	if p.Bare {
		a.Print("  nothing of it was copied: it is the only copy of what is in it")
		a.Print("  deletes that copy, and frees %s on %s:   %s --accept never-copied", pathtext.Size(p.FreesLater()),
			pathtext.Show(p.FromNow.Name()), discard)
	} else {
		a.Print("  frees %s on %s:   %s", pathtext.Size(p.FreesLater()), pathtext.Show(p.FromNow.Name()), discard)
	}
	a.Print("  brings the data back:   nexlin bring-back %s", name)
	a.Print("  takes this move back:   nexlin undo %s", o.Run)
}

// ShowDiscarded says what was deleted of what was held, and what was not.
func (a *Screen) ShowDiscarded(o *plan.Outcome) {
	name := Bold.Render(pathtext.Show(o.Plan.Name))
	if len(o.Remains) == 0 {
		a.Print("%s  the held original of %s is deleted", Good.Render("done"), name)
	} else {
		a.Print("%s  what was proven equal of the held original of %s is deleted", Good.Render("done"), name)
	}
	for _, h := range o.Remains {
		a.Print("  held still   %s, %s, %s", a.Path(h.Path), pathtext.Files(h.Files), pathtext.Size(h.Bytes))
	}
	a.News(o)
}

// settingLines says which settings change, and whether a link stays.
func (a *Lines) settingLines(p *plan.Plan) {
	for _, s := range p.Settings {
		what := "leads to the new place"
		if s.Back != nil {
			what = "says again what it said before"
		}
		a.Print("  setting   %s at %s %s", a.Path(s.File), pathtext.Show(s.At), what)
	}
	if p.Linkless() && p.IsFirst() && p.Card == "" {
		a.Print("  link      none: programs that have the old path built in will not find the folder (--by " +
			"setting+symlink leads them, too)")
	}
}

// tried says how it was proven that programs are led to the new place.
func (a *Screen) tried(p *plan.Plan) {
	switch {
	case p.Linkless():
	case p.ByBytes:
		a.Print("  junction  says %s, as it was made; this system does not know that place, so no file was saved "+
			"through it", a.Path(link.Seen(p.LinkText)))
	default:
		a.Print("  tried     a file saved through the link shows up at the target, and the other way round")
	}
	for _, s := range p.Settings {
		a.Print("  setting   %s at %s leads there", a.Path(s.File), pathtext.Show(s.At))
	}
}

func (a *Screen) ShowBroughtBack(o *plan.Outcome) {
	p := o.Plan
	a.Print("")
	a.Print("%s  %s is a real folder again", Good.Render("done"), Bold.Render(a.Path(p.Link)))
	a.proof(o)
	if o.Lent > 0 {
		a.Print("  taken     %s out of the original that was held here", pathtext.Files(o.Lent))
	}
	a.News(o)
	a.Print("")
	a.Spaces(o)
	a.Print("")
	a.Print("%s the data on %s is held as %s", Caution.Render("nothing is deleted:"), pathtext.Show(p.FromNow.Name()),
		a.Path(p.HeldPath()))
	a.Print("  deletes what is held, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	a.Print("  takes this bring-back back:              nexlin undo %s", o.Run)
}

// digestWords say which digest every file gets, and why.
func digestWords(d transfer.Digest) string {
	name := map[transfer.Digest]string{transfer.SHA256: "SHA-256", transfer.BLAKE3: "BLAKE3"}[d]
	why := ""
	if d == transfer.Best() {
		why = map[transfer.Digest]string{transfer.SHA256: " (fast here)", transfer.BLAKE3: " (faster here)"}[d]
	}
	return "every file is read back; the manifest has its " + name + why
}
