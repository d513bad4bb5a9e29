package cli

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/forget"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/restore"
	"nexlin/internal/transfer"
)

func (a *screen) showRedirect(e *engine.Engine, rep *health.Report) error {
	r := rep.Redirect
	a.print("%s  %s", bold.Render(pathtext.Show(r.Name)), stateWord(rep.State))
	if r.State == ledger.Ended {
		a.print("  it was brought back: %s is a real folder", a.path(r.Link))
	} else {
		a.print("  %s", led(r.Methods, a.path(r.Link), a.onDrive(r)))
	}
	rows := [][]string{
		{"link", a.path(r.Link)}, {"target", a.path(r.Target)}, {"method", strings.Join(r.Methods, "+")},
		{"account", r.Account},
		{"drive", fmt.Sprintf("%s, identity %s", pathtext.Show(r.Drive.Label), orNone(r.Drive.Identity()))},
		{"moved", fmt.Sprintf("%s, %s, on %s", plural(r.Files, "file", "files"), pathtext.Size(r.Bytes),
			day(r.Created))},
	}
	if r.Text != "" {
		rows = append(rows, []string{"junction", "leads to " + pathtext.Show(link.Seen(r.Text)) +
			", as Windows names it"})
	}
	for _, h := range rep.Held {
		rows = append(rows, []string{"held",
			fmt.Sprintf("%s, %s, since %s", a.path(h.Path), pathtext.Size(h.Bytes), day(h.Since))})
	}
	runs, err := e.Ledger.Runs()
	if err != nil {
		return err
	}
	for _, x := range runs {
		if x.Redirect == r.Name {
			rows = append(rows, []string{"run", fmt.Sprintf("%s  %s, %s, %s", x.ID, x.Kind, x.State, day(x.Started))})
		}
	}
	a.columns(a.out, nil, rows)
	if len(rep.Findings) > 0 {
		a.print("")
		a.findings(a.out, rep.Findings)
	}
	return nil
}

// printManifest prints the manifest frozen at the switch.
func (a *screen) printManifest(e *engine.Engine, r ledger.Redirect, format string) error {
	if format == "mtree" {
		f, err := e.OpenManifest(r)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(a.rawOut, f)
		return err
	}
	err := e.EachFile(r, transfer.Digest(format), func(path string, digest [32]byte) error {
		// sha256sum(1), and b3sum alike: a name with a newline or a backslash is escaped, and
		// a backslash before the line says so.
		name, mark := path, ""
		if strings.ContainsAny(path, "\\\n\r") {
			name, mark = strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(path), `\`
		}
		if a.outIsTerminal() { // what is read by a program has the bytes as they are
			name = pathtext.Show(name)
		}
		_, err := fmt.Fprintf(a.rawOut, "%s%s  %s\n", mark, hex.EncodeToString(digest[:]), name)
		return err
	})
	if errors.Is(err, engine.ErrOtherDigest) {
		other := map[string]transfer.Digest{"sha256": transfer.BLAKE3, "blake3": transfer.SHA256}[format]
		return &usageError{fmt.Sprintf("%s has other digests than %s: --manifest %s prints them", r.Name, format,
			other)}
	}
	return err
}

// heldLine reminds of what is held, of redirects that ended too.
func (a *screen) heldLine(e *engine.Engine) error {
	all, err := e.Ledger.HeldOf("")
	if err != nil || len(all) == 0 {
		return err
	}
	a.print("")
	a.print("  %s held, %s: nexlin list --held", plural(int64(len(all)), "original is", "originals are"),
		pathtext.Size(heldBytes(all)))
	return nil
}

func heldBytes(hs []ledger.Held) (n int64) {
	for _, h := range hs {
		n += h.Bytes
	}
	return n
}

// onDrive writes the target by the label its drive had.
func (a *screen) onDrive(r ledger.Redirect) string {
	mount := r.Drive.Mount
	if rel, ok := pathtext.Below(r.Target, mount); ok && r.Drive.Label != mount {
		return pathtext.Show(r.Drive.Label + ":/" + filepath.ToSlash(rel))
	}
	return a.path(r.Target)
}

func stateWord(s health.State) string {
	switch s {
	case health.Good:
		return good.Render(string(s))
	case health.Detached:
		return string(s)
	case health.Away, health.Elsewhere, health.Unfinished:
		return caution.Render(string(s))
	}
	return bad.Render(string(s))
}

func runWord(s string) string {
	switch s {
	case ledger.Done:
		return good.Render(s)
	case ledger.Stopped:
		return bad.Render(s)
	}
	return s
}

func (a *screen) showTrial(t *health.Trial) {
	r := t.Redirect
	a.print("%s", led(r.Methods, a.path(r.Link), a.onDrive(r)))
	switch {
	case t.Report.State != health.Good:
		a.print("%s  nothing was tried", stateWord(t.Report.State))
		a.findings(a.out, t.Report.Findings)
	case t.Err != nil:
		var trial *execute.TrialError
		if errors.As(t.Err, &trial) {
			a.print("%s  %s", bad.Render("failed"), pathtext.Show(trial.Error()))
		}
	case plan.Linkless(r.Methods):
		a.print("  saved at %s and read back   %s", a.path(r.Target), good.Render("yes"))
		a.print("  programs are led there by their settings, and no link stands at %s", a.path(r.Link))
	case t.ByBytes:
		a.print("  the junction says %s, as it was made   %s", a.path(link.Seen(r.LinkText())), good.Render("yes"))
		a.print("  this system does not know that place, so no file was saved through it; a file was saved at %s "+
			"and read back", a.path(r.Target))
	default:
		a.print("  saved through %s, seen at %s   %s", a.path(r.Link), a.path(r.Target), good.Render("yes"))
		a.print("  saved at %s, seen through %s   %s", a.path(r.Target), a.path(r.Link), good.Render("yes"))
		a.print("  the test files are gone again")
	}
}

func roomLine(where string, r health.Room) string {
	change := "nothing taken"
	switch n := r.Taken(); {
	case n > 0:
		change = pathtext.Size(n) + " taken"
	case n < 0:
		change = pathtext.Size(-n) + " freed"
	}
	return fmt.Sprintf("%s %-8s %9s free, %-15s", where, pathtext.Show(r.Drive), pathtext.Size(r.Now), change)
}

func (a *screen) showRestore(d *drive.Drive, r *restore.Restore) {
	a.print("%s", led(nil, a.path(r.Link), on(d, r.Target)))
	whose := r.Account
	if r.Account != r.Note.Account {
		whose += ", there " + r.Note.Account
	}
	a.print("  %s   %s, %s, of %s on %s, account %s", pathtext.Show(r.Name), plural(r.Note.Files, "file", "files"),
		pathtext.Size(r.Note.Bytes),
		r.Note.Made.Local().Format("2006-01-02"), pathtext.Show(r.Note.Machine), pathtext.Show(whose))
	a.findings(a.out, r.Findings)
}

func restoreDoc(r *restore.Restore) doc {
	return doc{
		"name": r.Name, "link": r.Link, "target": r.Target, "account": r.Account,
		"known": r.Known, "files": r.Note.Files, "bytes": r.Note.Bytes, "findings": findingDocs(r.Findings),
	}
}

func (a *screen) showRecord(p *plan.Plan) {
	target := a.path(p.Target)
	if p.IntoNow.Mount != "" {
		target = on(&p.IntoNow, p.Target)
	}
	a.print("%s", led(p.Methods, a.path(p.Link), target))
	a.print("  redirect  %s", p.Name)
	switch {
	case p.From == p.Link && p.From != "":
		a.print("  original  %s: the folder itself, which is exchanged for the link and held", a.path(p.From))
	case p.From != "":
		a.print("  original  %s, which is held where it is", a.path(p.From))
	}
	if p.OldText != "" && p.OldText != p.LinkText {
		a.print("  link      says %s now, and will say %s", a.path(p.OldText), a.path(p.LinkText))
	}
	if len(p.Findings) > 0 {
		a.print("")
		a.findings(a.out, p.Findings)
	}
}

func (a *screen) showRecovery(r *execute.Recovery, forward bool) {
	p := r.Plan
	what := map[string]string{
		plan.KindMove: "move", plan.KindMoveOn: "move on", plan.KindBringBack: "bring-back",
		plan.KindDetach: "detach", plan.KindDiscard: "discard of the held original",
		plan.KindMend: "mend", plan.KindMerge: "merge of the two halves",
		plan.KindRecord: "record", plan.KindRestore: "making again",
		plan.KindRenew: "update of the manifest", plan.KindFuture: "change of location settings",
		plan.KindPack: "pack", plan.KindUnpack: "unpack", plan.KindHandover: "handover",
	}[p.Kind]
	a.print("run %s: %s of %s, %s", bold.Render(r.Run.ID), what, bold.Render(a.path(p.Link)), r.Run.State)
	if r.Run.Message != "" && r.Run.State == ledger.Stopped {
		a.print("  it stopped because    %s", pathtext.Show(r.Run.Message))
	}
	if p.Small() {
		return
	}
	at := "the link path still leads to the old place"
	if r.Switched {
		at = "the link path leads to the new place"
	}
	if r.Aside != "" {
		at = fmt.Sprintf("between two renames: nothing stands at the link path, and the folder is %s", a.path(r.Aside))
	}
	a.print("  how far it got        %s", at)
	if forward {
		a.print("  when it is finished   %s", a.path(p.Link)+" leads to "+a.path(p.Copy()))
	} else {
		a.print("  when it is undone     %s is as it was before the run", a.path(p.Link))
	}
}

func (a *screen) showUndone(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	state := map[string]string{
		plan.KindMove: "is the real folder again", plan.KindMoveOn: "leads to where it led before",
		plan.KindBringBack: "is the link again", plan.KindDetach: "is the link again",
		plan.KindMend: "is as it was before the mend", plan.KindMerge: "is the real folder again",
		plan.KindRecord: "is as it was before it was recorded", plan.KindRestore: "is as it was",
		plan.KindRenew: "has its old manifest again", plan.KindFuture: "is where new things go again",
		plan.KindPack:     "is as it was; nothing is left of the archive",
		plan.KindUnpack:   "is as it was; nothing is left of what was unpacked",
		plan.KindHandover: "is where the engine has the store again",
		plan.KindDiscard: "is in use as before: the discard is ended, what it had deleted stays deleted, and " +
			"the rest stays held",
	}[p.Kind]
	if o.Stays != "" {
		state = "is as it was; " + a.path(o.Stays) +
			" was whole and had its name already: it stays, and is yours to keep or to delete"
	}
	a.print("%s  %s %s", good.Render("undone"), bold.Render(a.path(p.Link)), state)
	a.news(o)
	if o.SetAside != "" {
		a.print("  the copy is held as  %s", a.path(o.SetAside))
		a.print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
}

func (a *screen) showForgetting(f *forget.Forgetting) {
	a.print("%s   goes out of Nexlin's records; nothing else is touched", bold.Render(pathtext.Show(f.Name)))
	var rows [][]string
	r := f.Redirect
	if f.Link != "" {
		rows = append(rows, []string{"link path", a.path(f.Link), map[string]string{
			forget.AtLink: "the link stays", forget.AtFolder: "a real folder, which stays",
			forget.AtNone: "nothing stands there", forget.AtOther: "something else than its link, which stays",
		}[f.At]})
	}
	if r != nil && r.State != ledger.Ended {
		stays := "stays there"
		if !f.Here {
			stays = pathtext.Show(r.Drive.Label) + " is not here; what is on it stays"
		}
		rows = append(rows, []string{"data", a.path(r.Target), stays})
	}
	for _, h := range f.Held {
		rows = append(rows, []string{"held", a.path(h.Path), "stays; it is yours to look at and to delete"})
	}
	for _, p := range f.Parts {
		rows = append(rows, []string{"unfinished copy", a.path(p), "stays; it is yours to delete"})
	}
	if n := len(f.Runs); n > 0 {
		rows = append(rows, []string{"runs", plural(int64(n), "run", "runs"), "can't be undone any more"})
	}
	a.columns(a.out, nil, rows)
	a.findings(a.out, f.Findings)
}

func forgettingDoc(f *forget.Forgetting, rep *health.Report, preview bool) doc {
	d := doc{"name": f.Name, "link": f.Link, "at_link": f.At, "parts": append([]string{}, f.Parts...),
		"findings": findingDocs(f.Findings)}
	if preview {
		d["preview"] = true
	}
	if rep != nil {
		d["redirect"] = reportDoc(rep, false)
	}
	runs := []runDoc{}
	for _, r := range f.Runs {
		runs = append(runs, runDoc{r.ID, r.Kind, r.State, []phaseDoc{}})
	}
	d["runs"] = runs
	return d
}

func (a *screen) showRecorded(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	a.print("%s  %s", good.Render("recorded"), led(p.Methods, a.path(p.Link), on(&p.IntoNow, p.Copy())))
	what := "read, and taken in as they are"
	if p.From != "" {
		what = "compared with the original, every one equal"
	}
	a.print("  proven    %s, %s: %s", plural(p.Files, "file", "files"), pathtext.Size(p.Bytes), what)
	a.print("  tried     a file saved through the link shows up at the target, and the other way round")
	if len(o.Findings) > len(p.Findings) {
		a.print("")
		a.findings(a.out, o.Findings[len(p.Findings):])
	}
	a.print("")
	if p.From != "" {
		a.print("%s the original is held as %s", caution.Render("nothing is freed yet:"), a.path(p.HeldPath()))
		a.print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
	a.print("  brings the data back:          nexlin bring-back %s", pathtext.Quote(p.Name))
	a.print("  takes this back:               nexlin undo %s", o.Run)
}
