package screen

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
)

// ShowTogether says what is about to happen to several folders as one.
func (a *Screen) ShowTogether(p *plan.Plan) {
	t := p.Group
	switch n := len(t.Plans); n {
	case 0:
	case 1:
		a.ShowPlan(t.Plans[0])
	default:
		a.Print("%s, all of them or none:", pathtext.Plural(int64(n), "folder", "folders"))
		a.Print("")
		a.showPlans(t)
	}
	if len(t.Before)+len(t.After)+len(t.Facts) > 0 {
		a.Print("")
	}
	for _, s := range t.Before {
		a.Print("  first     %s", stepText(s))
	}
	for _, s := range t.After {
		a.Print("  then      %s", stepText(s))
	}
	for _, f := range t.Facts {
		must := "must be as before"
		if f.MustBe != nil {
			must = "must be " + pathtext.Show(*f.MustBe) + " afterwards"
		}
		a.Print("  compares  %s: %s", pathtext.Show(f.Name), must)
	}
	if len(p.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, p.Findings)
	}
}

// fewFolders are shown each by itself; of more, a line each.
const fewFolders = 3

// where says where the data of a plan will be, or where it comes from.
func (a *Lines) where(p *plan.Plan) string {
	switch {
	case p.ComesBack():
		return a.fromWhere(p)
	case p.IntoNow.Mount != "":
		return on(&p.IntoNow, p.Copy())
	}
	return a.Path(p.Copy())
}

func (a *Lines) showEach(plans []*plan.Plan) {
	for _, p := range plans {
		if p.ComesBack() {
			a.Print("%s   (a real folder again; the data comes from %s)", Bold.Render(a.Path(p.Link)), a.where(p))
		} else {
			a.Print("%s", led(p.Methods, a.Path(p.Link), a.where(p)))
		}
		a.Print("  redirect  %s: %s, %s", p.Name, pathtext.Files(p.Files), pathtext.Size(p.Bytes))
		a.settingLines(p)
	}
}

// showInBrief shows a line for each folder, the first of very many, and which settings files
// are changed.
func (a *Lines) showInBrief(plans []*plan.Plan) {
	const most = 9
	change := "lead to the new places"
	if plans[0].ComesBack() {
		change = "say again what they said before"
	}
	var rows [][]string
	var files []string
	for _, p := range plans {
		arrow := LedArrow(p.Methods)
		if p.ComesBack() {
			arrow = " comes back from "
		}
		rows = append(rows, []string{Bold.Render(a.Path(p.Link)), strings.TrimSpace(arrow), Bold.Render(a.where(p)),
			pathtext.Files(p.Files), pathtext.Size(p.Bytes)})
		for _, s := range p.Settings {
			if file := a.Path(s.File); !slices.Contains(files, file) {
				files = append(files, file)
			}
		}
	}
	more := len(rows) - most
	if more > 1 {
		rows = rows[:most]
	}
	a.Columns(a.Out, nil, rows, 3, 4)
	if more > 1 {
		a.Print("  and %d more (-v names all)", more)
	}
	for _, file := range files[:min(len(files), 3)] {
		a.Print("  settings in %s %s", file, change)
	}
	if n := len(files) - 3; n > 0 {
		a.Print("  and settings in %s", pathtext.Plural(n, "more file", "more files"))
	}
}

// showPlans shows several plans in short, and their numbers together.
func (a *Screen) showPlans(t *plan.Group) {
	type sums struct {
		d            *drive.Drive
		need, frees  int64
		takes, gives bool
	}
	by := map[string]*sums{}
	var order []*sums
	of := func(d *drive.Drive) *sums {
		if by[d.Mount] == nil {
			by[d.Mount] = &sums{d: d}
			order = append(order, by[d.Mount])
		}
		return by[d.Mount]
	}
	if len(t.Plans) > fewFolders && !a.Verbose {
		a.showInBrief(t.Plans)
	} else {
		a.showEach(t.Plans)
	}
	var all []finding.Finding
	said := map[finding.Code]bool{}
	for _, p := range t.Plans {
		if p.IntoNow.Mount != "" && p.FromNow.Mount != "" {
			into, from := of(&p.IntoNow), of(&p.FromNow)
			into.need, into.takes = into.need+p.Need, true
			from.frees, from.gives = from.frees+p.FreesLater(), true
		}
		for _, f := range p.Findings {
			if f.Severity == finding.Info && said[f.Code] {
				continue // what is worth knowing is told once for all of them
			}
			said[f.Code] = true
			all = append(all, f)
		}
	}
	var rows [][]string
	for _, s := range order {
		later := pathtext.Size(s.d.Free - s.need)
		if s.gives {
			later += fmt.Sprintf(", and %s more after the discard", pathtext.Size(s.frees))
		}
		need := "–"
		if s.takes {
			need = pathtext.Size(s.need)
		}
		rows = append(rows, []string{pathtext.Show(s.d.Name()), need, pathtext.Size(s.d.Free), later})
	}
	if len(rows) > 0 {
		a.Print("")
		a.Columns(a.Out, []string{"drive", "needed", "free now", "free after"}, rows, 1, 2)
	}
	if len(all) > 0 {
		a.Print("")
		a.Findings(a.Out, all)
	}
}

func (a *Screen) ShowTogetherDone(o *plan.Outcome) {
	word := Good.Render("done")
	if o.State == ledger.Undone {
		word = Good.Render("undone")
	}
	for i, m := range o.Members {
		if m == nil {
			continue
		}
		p := m.Plan
		if i == 0 {
			a.Print("")
		}
		switch {
		case o.State == ledger.Undone:
			a.Print("%s  %s is as it was before the run", word, Bold.Render(a.Path(p.Link)))
			if m.SetAside != "" {
				a.Print("  the copy is held as  %s", a.Path(m.SetAside))
			}
		case p.ComesBack():
			a.Print("%s  %s is a real folder again", word, Bold.Render(a.Path(p.Link)))
			a.proof(m)
		default:
			a.Print("%s  %s", word, led(p.Methods, a.Path(p.Link), on(&p.IntoNow, p.Copy())))
			a.proof(m)
		}
		a.News(m)
	}
	for _, f := range o.Facts {
		text := pathtext.Show(f.After)
		if f.Set {
			text += ", set back after the move had changed it"
		}
		a.Print("  fact      %s: %s", pathtext.Show(f.Name), text)
	}
	if len(o.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, o.Findings)
	}
	if o.State == ledger.Undone {
		return
	}
	for i := range slices.Backward(o.Members) {
		if m := o.Members[i]; m != nil && len(m.Space) > 0 {
			a.Print("")
			a.Spaces(m)
			break
		}
	}
	a.Print("")
	if !o.Plan.ComesBack() {
		var freed int64
		var names []string
		for _, p := range o.Plan.Folders() {
			freed += p.FreesLater()
			names = append(names, pathtext.Quote(p.Name))
		}
		a.Print("%s the originals are held beside their old places", Caution.Render("nothing is freed yet:"))
		a.Print("  frees %s:   nexlin discard-original %s", pathtext.Size(freed), strings.Join(names, " "))
		back := strings.Join(names, " ")
		if o.Plan.Card != "" {
			back = "card:" + o.Plan.Card
		}
		a.Print("  brings the data back:   nexlin bring-back %s", back)
	} else {
		a.Print("%s the data on the drive is held until discard-original", Caution.Render("nothing is deleted:"))
	}
	a.Print("  takes all of it back:   nexlin undo %s", o.Run)
}

// ShowTogetherRecovery says how far a run of several got.
func (a *Screen) ShowTogetherRecovery(e *engine.Engine, r *execute.Recovery) {
	a.Print("run %s: %s of %s, %s", Bold.Render(r.Run.ID), r.Run.Kind, Bold.Render(pathtext.Show(r.Run.Redirect)),
		r.Run.State)
	if r.Run.Message != "" && r.Run.State == ledger.Stopped {
		a.Print("  it stopped because    %s", pathtext.Show(r.Run.Message))
	}
	for _, p := range r.Plan.Folders() {
		state := "not begun"
		if row, err := e.Ledger.Run(p.Run); err == nil {
			state = map[string]string{ledger.Done: "leads to the new place",
				ledger.Stopped: "still leads to the old place", ledger.Undone: "taken back"}[row.State]
		}
		a.Print("  %s   %s", a.Path(p.Link), state)
	}
}

// togetherDoc is the document of what a run of several did.
func (a *Screen) togetherDoc(e *engine.Engine, o *plan.Outcome) Doc {
	runs := []Doc{}
	for _, m := range o.Members {
		if m != nil {
			runs = append(runs, a.OutcomeDoc(e, m))
		}
	}
	return Doc{"run": RunDoc{o.Run, o.Kind, o.State, []PhaseDoc{}}, "runs": runs, "facts": factDocs(o.Facts),
		"findings": FindingDocs(slices.Concat(o.Plan.Findings, o.Findings))}
}

func factDocs(in []run.FactResult) []Doc {
	out := []Doc{}
	for _, f := range in {
		out = append(out, Doc{"name": f.Name, "before": f.Before, "after": f.After, "set_back": f.Set})
	}
	return out
}

func togetherPlanDoc(p *plan.Plan) Doc {
	plans := []Doc{}
	for _, f := range p.Folders() {
		plans = append(plans, PlanDoc(f))
	}
	return Doc{"preview": true, "plan": Doc{"kind": p.Kind, "name": p.Name, "plans": plans},
		"findings": FindingDocs(p.Findings)}
}

func stepText(s run.Step) string {
	if s.Ask != "" {
		return "asks you: " + pathtext.Show(s.Ask)
	}
	if s.Means != "" {
		return pathtext.Show(s.Means)
	}
	return "runs " + pathtext.Show(s.String())
}

// explainTogether explains the errors of runs of several.
func (a *Explainer) explainTogether(err error) (Fault, bool) {
	var back *plan.TakenBackError
	var step *run.StepError
	var fact *run.FactError
	switch {
	case errors.As(err, &back):
		f := a.Explain(back.Err)
		f.Code, f.Exit, f.Path = "taken-back", ExitFailed, back.At
		f.Message = fmt.Sprintf("%s failed, so all of run %s was taken back: %s", a.Path(back.At), back.Run, f.Message)
		f.State = "every folder is at its old place, as it was"
		f.Next = append(slices.DeleteFunc(f.Next, func(s string) bool {
			return strings.HasPrefix(s, "nexlin resume") || strings.HasPrefix(s, "nexlin undo")
		}), "put that right and try again")
		return f, true
	case errors.As(err, &step):
		return Fault{Code: string(finding.StepFailed), Message: pathtext.Show(step.Error()), State: Untouched,
			Exit: ExitRefused,
			Next: []string{"do this step by hand, see what it says, and try again"}}, true
	case errors.As(err, &fact):
		return Fault{Code: "fact-differs", Message: pathtext.Show(fact.Error()), State: Untouched, Exit: ExitRefused,
			Next: []string{"put it right, and try again"}}, true
	}
	return Fault{}, false
}
