package screen

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/accounts"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/metrics"
	"nexlin/internal/pathtext"
)

// Accounts is what is shown of many accounts.
type Accounts struct{ *Screen }

// accountWords are what the states of an account's folders are called.
var accountWords = map[accounts.State]string{
	accounts.AsDeclared: "as declared",
	accounts.NotThere:   "passed over",
	accounts.ToMove:     "to be moved",
	accounts.ToMake:     "to be made in advance",
	accounts.ToMoveOn:   "to be moved on",
	accounts.ToRecord:   "to be recorded",
	accounts.ToMend:     "to be mended",
	accounts.ToFinish:   "to be finished",
	accounts.ToDiscard:  "original to be deleted",
	accounts.Away:       "drive away",
	accounts.ForAPerson: "for a person",
}

// accountStates are the states in the order in which they are counted.
var accountStates = []accounts.State{accounts.AsDeclared, accounts.NotThere, accounts.ToMove, accounts.ToMake,
	accounts.ToMoveOn, accounts.ToRecord, accounts.ToMend, accounts.ToFinish, accounts.ToDiscard, accounts.Away,
	accounts.ForAPerson}

// itemLine says which folder an item is about and where it is to lie.
func itemLine(i *accounts.Item) string {
	if i.Part == nil {
		return pathtext.Show(i.Want.String())
	}
	by := i.Methods()
	if i.Redirect != nil {
		by = i.Redirect.Methods
	}
	return led(by, inHome(i), pathtext.Show(i.Shown(i.Part)))
}

// inHome is a link path as the account would name it.
func inHome(i *accounts.Item) string {
	if rel, ok := pathtext.Below(i.Link(), i.Account.Home); ok && rel != "." {
		return pathtext.Show("~/" + rel)
	}
	return pathtext.Show(i.Link())
}

// ShowItems says of every account what is not as it is declared; with Verbose, what is, too.
func (a *Accounts) ShowItems(items []*accounts.Item) {
	last := ""
	for _, i := range items {
		if (i.State == accounts.AsDeclared || i.State == accounts.NotThere) && !a.Verbose {
			continue
		}
		if last != i.Account.Name {
			a.Print("%s", Bold.Render(pathtext.Show(i.Account.Name)))
			last = i.Account.Name
		}
		a.Print("  %s  %s", accountWord(i), itemLine(i))
		if i.Says != "" {
			a.Print("    %s", pathtext.Show(i.Says))
		}
		if i.State == accounts.ForAPerson {
			a.remedies(i.Findings)
		}
	}
	if last != "" {
		a.Print("")
	}
	a.Print("%s", countItems(items))
}

// ShowWithdrawal says what a withdrawal would bring back.
func (a *Accounts) ShowWithdrawal(items []*accounts.Item) {
	last := ""
	for _, i := range items {
		if last != i.Account.Name {
			a.Print("%s", Bold.Render(pathtext.Show(i.Account.Name)))
			last = i.Account.Name
		}
		line := inHome(i)
		if i.Redirect != nil {
			line = itemLine(i)
		}
		a.Print("  %s  %s", Caution.Render("to be brought back"), line)
		if i.Says != "" {
			a.Print("    %s", pathtext.Show(i.Says))
		}
	}
	if len(items) == 0 {
		a.Print("nothing that the file declares is redirected")
	}
}

func accountWord(i *accounts.Item) string {
	word := accountWords[i.State]
	switch {
	case !i.Drifted():
		return Good.Render(word)
	case i.State == accounts.ForAPerson:
		return Bad.Render(word)
	}
	return Caution.Render(word)
}

func (a *Accounts) remedies(fs []finding.Finding) {
	for _, f := range fs {
		if f.Remedy != "" {
			a.Print("    %s %s", Faint.Render("remedy:"), pathtext.Show(f.Remedy))
		}
	}
}

// countItems counts accounts and folders, by their states.
func countItems(items []*accounts.Item) string {
	who, what := counted(items, accountStates,
		func(i *accounts.Item) (*accounts.Item, accounts.State) { return i, i.State },
		func(s accounts.State) string { return accountWords[s] })
	return who + what
}

// counted counts accounts and folders, and then by what each has come to, in the order of all
// that may be.
func counted[T any, K comparable](all []T, order []K, of func(T) (*accounts.Item, K),
	word func(K) string) (who, what string) {
	names, count := map[string]bool{}, map[K]int{}
	for _, x := range all {
		i, k := of(x)
		names[i.Account.Name] = true
		count[k]++
	}
	var parts []string
	for _, k := range order {
		if count[k] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[k], word(k)))
		}
	}
	if len(parts) == 0 {
		return "the file is about no account of this machine", ""
	}
	return pathtext.Plural(len(names), "account", "accounts") + ", " + pathtext.Plural(len(all), "folder", "folders"),
		": " + strings.Join(parts, ", ")
}

// accountEnds are the ends in the order in which they are counted; each is its own word.
var accountEnds = []accounts.End{accounts.Done, accounts.Unchanged, accounts.Waits, accounts.Refused, accounts.Stopped}

// ShowResults says what became of the folders of one account; explain tells of an error.
func (a *Accounts) ShowResults(results []*accounts.Result, explain func(error) Fault) {
	shown := false
	for _, r := range results {
		if r.End == accounts.Unchanged && !a.Verbose || a.Quiet && r.Err == nil {
			continue
		}
		if !shown {
			a.Print("%s", Bold.Render(pathtext.Show(r.Account.Name)))
			shown = true
		}
		word := string(r.End)
		switch r.End {
		case accounts.Done, accounts.Unchanged:
			word = Good.Render(word)
		case accounts.Waits:
			word = Caution.Render(word)
		default:
			word = Bad.Render(word)
		}
		line := itemLine(r.Item)
		if r.Part != nil && r.End == accounts.Done && r.Withdrawn {
			line = Bold.Render(inHome(r.Item)) + " is as it was, or a real folder again"
		}
		a.Print("  %s  %s", word, line)
		if r.Err == nil {
			continue
		}
		f := explain(r.Err)
		a.Print("    %s", f.Message)
		for _, n := range f.Next {
			a.Print("    %s %s", Faint.Render("hint:"), n)
		}
	}
}

// CountResults counts what became of all folders.
func (a *Accounts) CountResults(results []*accounts.Result) {
	if a.Quiet {
		return
	}
	if slices.ContainsFunc(results, changed) {
		a.Print("")
	}
	a.Print("%s", countedResults(results))
}

func changed(r *accounts.Result) bool { return r.End != accounts.Unchanged }

func countedResults(results []*accounts.Result) string {
	who, what := counted(results, accountEnds,
		func(r *accounts.Result) (*accounts.Item, accounts.End) { return r.Item, r.End },
		func(e accounts.End) string { return string(e) })
	if len(results) > 0 && !slices.ContainsFunc(results, changed) {
		what = ": nothing had to be changed"
	}
	return who + what
}

// ItemDocs is what a check of an accounts file found, by account.
func ItemDocs(items []*accounts.Item) []Doc {
	return byAccount(items, func(i *accounts.Item) *accounts.Item { return i }, func(*accounts.Item, Doc) {})
}

// ResultDocs is what became of the folders, by account.
func ResultDocs(results []*accounts.Result, explain func(error) Fault) []Doc {
	return byAccount(results, func(r *accounts.Result) *accounts.Item { return r.Item },
		func(r *accounts.Result, d Doc) {
			d["end"] = r.End
			if r.Err != nil {
				d["error"] = FaultDoc(explain(r.Err))
			}
		})
}

func byAccount[T any](all []T, item func(T) *accounts.Item, more func(T, Doc)) []Doc {
	out := []Doc{}
	for k, x := range all {
		i := item(x)
		if k == 0 || item(all[k-1]).Account.Name != i.Account.Name {
			out = append(out, Doc{"account": i.Account.Name, "home": i.Account.Home, "folders": []Doc{}})
		}
		d := Doc{"link": i.Link(), "target": "", "state": i.State, "drifted": i.Drifted(), "says": i.Says,
			"findings": FindingDocs(slices.Clone(i.Findings))}
		if i.Part != nil {
			d["target"] = i.Shown(i.Part)
		}
		if i.Redirect != nil {
			d["name"] = i.Redirect.Name
		}
		more(x, d)
		o := out[len(out)-1]
		o["folders"] = append(o["folders"].([]Doc), d)
	}
	return out
}

// ShowFacts says what a machine is, in few lines.
func (a *Accounts) ShowFacts(f *metrics.Facts) {
	var rows [][]string
	for _, d := range f.Drives {
		row := []string{pathtext.Show(cmp.Or(d.Label, d.Mount, Short(d.ID))), "away", "", "",
			pathtext.Count(int64(d.Redirects))}
		if d.Present {
			row[1], row[2], row[3] = "here", pathtext.Size(d.Size), pathtext.Size(d.Free)
		}
		rows = append(rows, row)
	}
	a.Columns(a.Out, []string{"drive", "", "size", "free", "redirects"}, rows, 2, 3, 4)
	var states []string
	for _, st := range health.States() {
		if n := f.Redirects[st]; n > 0 {
			states = append(states, fmt.Sprintf("%d %s", n, st))
		}
	}
	if len(states) == 0 {
		states = []string{"none"}
	}
	a.Print("redirects: %s; %s of data", strings.Join(states, ", "), pathtext.Size(f.Bytes))
	a.Print("held: %s", pathtext.Size(f.Held))
}

// FactsDoc is what a machine is, for programs.
func FactsDoc(f *metrics.Facts) Doc {
	drives := []Doc{}
	for _, d := range f.Drives {
		drives = append(drives, Doc{"label": d.Label, "id": d.ID, "present": d.Present, "mount": d.Mount, "fs": d.FS,
			"size": d.Size, "free": d.Free, "redirects": d.Redirects})
	}
	return Doc{"drives": drives, "redirects": f.Redirects, "redirected_bytes": f.Bytes, "held_bytes": f.Held,
		"findings": []Doc{}}
}
