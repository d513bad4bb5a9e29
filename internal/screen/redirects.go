package screen

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/forget"
	"nexlin/internal/health"
	"nexlin/internal/judge"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/restore"
	"nexlin/internal/transfer"
)

func (a *Screen) ShowRedirect(e *engine.Engine, rep *health.Report) error {
	r := rep.Redirect
	a.Print("%s  %s", Bold.Render(pathtext.Show(r.Name)), StateWord(rep.State))
	if r.State == ledger.Ended {
		a.Print("  it was brought back: %s is a real folder", a.Path(r.Link))
	} else {
		a.Print("  %s", led(r.Methods, a.Path(r.Link), a.OnDrive(r)))
	}
	rows := [][]string{
		{"link", a.Path(r.Link)}, {"target", a.Path(r.Target)}, {"method", strings.Join(r.Methods, "+")},
		{"account", r.Account},
		{"drive", fmt.Sprintf("%s, identity %s", pathtext.Show(r.Drive.Label), OrNone(r.Drive.Identity()))},
		{"moved", fmt.Sprintf("%s, %s, on %s", pathtext.Files(r.Files), pathtext.Size(r.Bytes),
			Day(r.Created))},
	}
	if r.Text != "" {
		rows = append(rows, []string{"junction", "leads to " + pathtext.Show(link.Seen(r.Text)) +
			", as Windows names it"})
	}
	for _, h := range rep.Held {
		rows = append(rows, []string{"held",
			fmt.Sprintf("%s, %s, since %s", a.Path(h.Path), pathtext.Size(h.Bytes), Day(h.Since))})
	}
	runs, err := e.Ledger.Runs()
	if err != nil {
		return err
	}
	for _, x := range runs {
		if x.Redirect == r.Name {
			rows = append(rows, []string{"run", fmt.Sprintf("%s  %s, %s, %s", x.ID, x.Kind, x.State, Day(x.Started))})
		}
	}
	a.Columns(a.Out, nil, rows)
	if len(rep.Findings) > 0 {
		a.Print("")
		for _, f := range finding.Worst(rep.Findings) {
			a.finding(a.Out, f, "")
		}
	}
	return nil
}

// PrintManifest prints the manifest frozen at the switch, or its digests as a list.
func (a *Screen) PrintManifest(ctx context.Context, e *engine.Engine, r ledger.Redirect, format string) error {
	if format == "mtree" {
		f, err := e.OpenManifest(r)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(a.RawOut, f)
		return err
	}
	return judge.EachDigest(ctx, e, r, transfer.Digest(format), func(path string, digest [32]byte) error {
		// sha256sum(1), and b3sum alike: a name with a newline or a backslash is escaped, and
		// a backslash before the line says so.
		name, mark := path, ""
		if strings.ContainsAny(path, "\\\n\r") {
			name, mark = strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(path), `\`
		}
		if a.outIsTerminal() { // what is read by a program has the bytes as they are
			name = pathtext.Show(name)
		}
		_, err := fmt.Fprintf(a.RawOut, "%s%s  %s\n", mark, hex.EncodeToString(digest[:]), name)
		return err
	})
}

// ShowManaged says what an administrator has redirected for this account.
func (a *Lines) ShowManaged(reports []*health.Report) {
	a.Print("")
	a.Print("redirected by the administrator, who alone can change it:")
	for _, r := range reports {
		a.Print("  %s  %s  %s", StateWord(r.State), Bold.Render(pathtext.Show(r.Redirect.Name)),
			led(r.Redirect.Methods, a.Path(r.Redirect.Link), a.Path(r.Redirect.Target)))
		for _, f := range r.Findings {
			if f.Severity != finding.Info {
				a.Print("    %s", pathtext.Show(f.Message))
			}
		}
	}
}

// HeldLine reminds of what is held, of redirects that ended too.
func (a *Screen) HeldLine(e *engine.Engine) error {
	all, err := e.Ledger.HeldOf("")
	if err != nil || len(all) == 0 {
		return err
	}
	a.Print("")
	a.Print("  %s held, %s: nexlin list --held", pathtext.Plural(len(all), "original is", "originals are"),
		pathtext.Size(ledger.HeldBytes(all)))
	return nil
}

// OnDrive writes the target by the label its drive had.
func (a *Screen) OnDrive(r ledger.Redirect) string {
	mount := r.Drive.Mount
	if rel, ok := pathtext.Below(r.Target, mount); ok && r.Drive.Label != mount {
		return pathtext.Show(r.Drive.Label + ":/" + filepath.ToSlash(rel))
	}
	return a.Path(r.Target)
}

func StateWord(s health.State) string {
	switch s {
	case health.Good:
		return Good.Render(string(s))
	case health.Detached:
		return string(s)
	case health.Away, health.Elsewhere, health.Unfinished:
		return Caution.Render(string(s))
	}
	return Bad.Render(string(s))
}

func RunWord(s string) string {
	switch s {
	case ledger.Done:
		return Good.Render(s)
	case ledger.Stopped:
		return Bad.Render(s)
	}
	return s
}

func (a *Screen) ShowTrial(t *health.Trial) {
	r := t.Redirect
	a.Print("%s", led(r.Methods, a.Path(r.Link), a.OnDrive(r)))
	switch {
	case t.Report.State != health.Good:
		a.Print("%s  nothing was tried", StateWord(t.Report.State))
		a.Findings(a.Out, t.Report.Findings)
	case t.Err != nil:
		var trial *execute.TrialError
		if errors.As(t.Err, &trial) {
			a.Print("%s  %s", Bad.Render("failed"), pathtext.Show(trial.Error()))
		}
	case plan.Linkless(r.Methods):
		a.Print("  saved at %s and read back   %s", a.Path(r.Target), Good.Render("yes"))
		a.Print("  programs are led there by their settings, and no link stands at %s", a.Path(r.Link))
	case t.ByBytes:
		a.Print("  the junction says %s, as it was made   %s", a.Path(link.Seen(r.LinkText())), Good.Render("yes"))
		a.Print("  this system does not know that place, so no file was saved through it; a file was saved at %s "+
			"and read back", a.Path(r.Target))
	default:
		a.Print("  saved through %s, seen at %s   %s", a.Path(r.Link), a.Path(r.Target), Good.Render("yes"))
		a.Print("  saved at %s, seen through %s   %s", a.Path(r.Target), a.Path(r.Link), Good.Render("yes"))
		a.Print("  the test files are gone again")
	}
}

func RoomLine(where string, r health.Room) string {
	change := "nothing taken"
	switch n := r.Taken(); {
	case n > 0:
		change = pathtext.Size(n) + " taken"
	case n < 0:
		change = pathtext.Size(-n) + " freed"
	}
	return fmt.Sprintf("%s %-8s %9s free, %-15s", where, pathtext.Show(r.Drive), pathtext.Size(r.Now), change)
}

func (a *Screen) ShowRestore(d *drive.Drive, r *restore.Restore) {
	a.Print("%s", led(nil, a.Path(r.Link), on(d, r.Target)))
	whose := r.Account
	if r.Account != r.Note.Account {
		whose += ", there " + r.Note.Account
	}
	a.Print("  %s   %s, %s, of %s on %s, account %s", pathtext.Show(r.Name), pathtext.Files(r.Note.Files),
		pathtext.Size(r.Note.Bytes),
		r.Note.Made.Local().Format("2006-01-02"), pathtext.Show(r.Note.Machine), pathtext.Show(whose))
	a.Findings(a.Out, r.Findings)
}

func RestoreDoc(r *restore.Restore) Doc {
	return Doc{
		"name": r.Name, "link": r.Link, "target": r.Target, "account": r.Account,
		"known": r.Known, "files": r.Note.Files, "bytes": r.Note.Bytes, "findings": FindingDocs(r.Findings),
	}
}

func (a *Screen) ShowRecord(p *plan.Plan) {
	target := a.Path(p.Target)
	if p.IntoNow.Mount != "" {
		target = on(&p.IntoNow, p.Target)
	}
	a.Print("%s", led(p.Methods, a.Path(p.Link), target))
	a.Print("  redirect  %s", p.Name)
	switch {
	case p.From == p.Link && p.From != "":
		a.Print("  original  %s: the folder itself, which is exchanged for the link and held", a.Path(p.From))
	case p.From != "":
		a.Print("  original  %s, which is held where it is", a.Path(p.From))
	}
	if p.OldText != "" && p.OldText != p.LinkText {
		a.Print("  link      says %s now, and will say %s", a.Path(p.OldText), a.Path(p.LinkText))
	}
	if len(p.Findings) > 0 {
		a.Print("")
		a.Findings(a.Out, p.Findings)
	}
}

func (a *Screen) ShowRecovery(r *execute.Recovery, forward bool) {
	p := r.Plan
	what := map[string]string{
		plan.KindMove: "move", plan.KindMoveOn: "move on", plan.KindBringBack: "bring-back",
		plan.KindDetach: "detach", plan.KindDiscard: "discard of the held original",
		plan.KindMend: "mend", plan.KindMerge: "merge of the two halves",
		plan.KindRecord: "record", plan.KindRestore: "making again",
		plan.KindRenew: "update of the manifest", plan.KindFuture: "change of location settings",
		plan.KindPack: "pack", plan.KindUnpack: "unpack", plan.KindHandover: "handover",
		plan.KindAhead: "making in advance",
	}[p.Kind]
	a.Print("run %s: %s of %s, %s", Bold.Render(r.Run.ID), what, Bold.Render(a.Path(p.Link)), r.Run.State)
	if r.Run.Message != "" && r.Run.State == ledger.Stopped {
		a.Print("  it stopped because    %s", pathtext.Show(r.Run.Message))
	}
	if p.Small() {
		return
	}
	at, end := "the link path still leads to the old place", " leads to "+a.Path(p.Copy())
	if r.Switched {
		at = "the link path leads to the new place"
	}
	if p.Traits().Back {
		at, end = "programs are still led to "+a.Path(p.From), " is a real folder again"
		if r.Switched {
			at = "the folder stands at the link path again"
		}
	}
	if r.Aside != "" {
		at = fmt.Sprintf("between two renames: nothing stands at the link path, and the folder is %s", a.Path(r.Aside))
	}
	a.Print("  how far it got        %s", at)
	if forward {
		a.Print("  when it is finished   %s", a.Path(p.Link)+end)
	} else {
		a.Print("  when it is undone     %s is as it was before the run", a.Path(p.Link))
	}
}

// linkAgain is how things are once what took a link away is undone.
const linkAgain = "is the link again"

func (a *Screen) ShowUndone(o *plan.Outcome) {
	p := o.Plan
	a.Print("")
	state := map[string]string{
		plan.KindMove: "is the real folder again", plan.KindMoveOn: "leads to where it led before",
		plan.KindBringBack: linkAgain, plan.KindDetach: linkAgain,
		plan.KindMend: "is as it was before the mend", plan.KindMerge: "is the real folder again",
		plan.KindRecord: "is as it was before it was recorded", plan.KindRestore: "is as it was",
		plan.KindRenew: "has its old manifest again", plan.KindFuture: "is where new things go again",
		plan.KindPack:     "is as it was; nothing is left of the archive",
		plan.KindUnpack:   "is as it was; nothing is left of what was unpacked",
		plan.KindHandover: "is where the engine has the store again",
		plan.KindDiscard: "is in use as before: the discard is ended, what it had deleted stays deleted, and " +
			"the rest stays held",
	}[p.Kind]
	if p.Linkless() && state == linkAgain {
		state = "is led by its settings again to " + a.Path(p.Target)
	}
	if o.Stays != "" {
		state = "is as it was; " + a.Path(o.Stays) +
			" was whole and had its name already: it stays, and is yours to keep or to delete"
	}
	a.Print("%s  %s %s", Good.Render("undone"), Bold.Render(a.Path(p.Link)), state)
	a.News(o)
	if o.SetAside != "" {
		a.Print("  the copy is held as  %s", a.Path(o.SetAside))
		a.Print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
}

func (a *Screen) ShowForgetting(f *forget.Forgetting) {
	a.Print("%s   goes out of Nexlin's records; nothing else is touched", Bold.Render(pathtext.Show(f.Name)))
	var rows [][]string
	r := f.Redirect
	if f.Link != "" {
		rows = append(rows, []string{"link path", a.Path(f.Link), map[string]string{
			forget.AtLink: "the link stays", forget.AtFolder: "a real folder, which stays",
			forget.AtNone: "nothing stands there", forget.AtOther: "something else than its link, which stays",
		}[f.At]})
	}
	if r != nil && r.State != ledger.Ended {
		stays := "stays there"
		if !f.Here {
			stays = pathtext.Show(r.Drive.Label) + " is not here; what is on it stays"
		}
		rows = append(rows, []string{"data", a.Path(r.Target), stays})
	}
	for _, h := range f.Held {
		rows = append(rows, []string{"held", a.Path(h.Path), "stays, yours to delete"})
	}
	for _, p := range f.Parts {
		rows = append(rows, []string{"unfinished copy", a.Path(p), "stays, yours to delete"})
	}
	if n := len(f.Runs); n > 0 {
		rows = append(rows, []string{"runs", pathtext.Plural(int64(n), "run", "runs"), "can't be undone any more"})
	}
	if slices.ContainsFunc(f.Runs, func(r ledger.RunRow) bool { return r.Redirect != f.Name }) {
		rows = append(rows, []string{"others", "what went with it as one", "is taken back by itself from now on"})
	}
	a.Columns(a.Out, nil, rows)
	a.Notices(f.Findings)
}

func ForgettingDoc(f *forget.Forgetting, rep *health.Report, preview bool) Doc {
	d := Doc{"name": f.Name, "link": f.Link, "at_link": f.At, "parts": append([]string{}, f.Parts...),
		"findings": FindingDocs(f.Findings)}
	if preview {
		d["preview"] = true
	}
	if rep != nil {
		d["redirect"] = ReportDoc(rep, false)
	}
	runs := []RunDoc{}
	for _, r := range f.Runs {
		runs = append(runs, RunDoc{r.ID, r.Kind, r.State, []PhaseDoc{}})
	}
	d["runs"] = runs
	return d
}

func (a *Screen) ShowRecorded(o *plan.Outcome) {
	p := o.Plan
	a.Print("")
	a.Print("%s  %s", Good.Render("recorded"), led(p.Methods, a.Path(p.Link), on(&p.IntoNow, p.Copy())))
	what := "read, and taken in as they are"
	if p.From != "" {
		what = "compared with the original, every one equal"
	}
	a.Print("  proven    %s, %s: %s", pathtext.Files(o.Contents.Files), pathtext.Size(o.Contents.Bytes), what)
	a.Print("  tried     a file saved through the link shows up at the target, and the other way round")
	if len(o.Findings) > len(p.Findings) {
		a.Print("")
		a.Findings(a.Out, o.Findings[len(p.Findings):])
	}
	a.Print("")
	if p.From != "" {
		a.Print("%s the original is held as %s", Caution.Render("nothing is freed yet:"), a.Path(p.HeldPath()))
		a.Print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
	a.Print("  brings the data back:          nexlin bring-back %s", pathtext.Quote(p.Name))
	a.Print("  takes this back:               nexlin undo %s", o.Run)
}
