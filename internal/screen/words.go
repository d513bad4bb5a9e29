package screen

import (
	"slices"
	"strings"

	"nexlin/internal/card"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
)

// Words that a shell completes are a word, a tab, and what it stands for. What can't be read
// offers none.

// RedirectWords are the names of redirects.
func (a *Lines) RedirectWords(e *engine.Engine) (out []string) {
	all, _ := e.Ledger.Redirects(false)
	for _, r := range all {
		out = append(out, r.Name+"\t"+a.Path(r.Link)+" on "+pathtext.Show(r.Drive.Label))
	}
	return out
}

// RunWords are the ids of runs that can be taken back; without a look at that, those that were
// stopped.
func RunWords(may func(*ledger.Ledger, ledger.RunRow) error) func(*engine.Engine) []string {
	return func(e *engine.Engine) (out []string) {
		all, _ := e.Ledger.Runs()
		for _, r := range all {
			if r.State == ledger.Stopped || may != nil && may(e.Ledger, r) == nil {
				out = append(out, r.ID+"\t"+r.Kind+" of "+strings.TrimPrefix(r.Redirect, "-")+", "+r.State)
			}
		}
		return out
	}
}

// DriveWords are the labels of drives, with what is to stand behind each.
func DriveWords(behind string) func(*engine.Engine) []string {
	return func(e *engine.Engine) (out []string) {
		all, _ := e.Drives.List(false)
		for _, d := range all {
			if naming.Valid(d.Label) { // a label is written by whoever had the drive, and a shell would act on it
				out = append(out, d.Label+behind+"\t"+pathtext.Size(d.Free)+" free")
			}
		}
		return out
	}
}

// MovedCardWords are the cards by which something was moved.
func MovedCardWords(e *engine.Engine) (out []string) {
	all, _ := e.Ledger.Redirects(false)
	for _, r := range all {
		if word := engine.CardPrefix + r.Card; r.Card != "" && !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	return out
}

// CardWords are the names of cards, with what is to stand before each.
func CardWords(all []card.Card, before string) (out []string) {
	for _, c := range all {
		out = append(out, before+c.Name+"\t"+pathtext.Show(c.About))
	}
	return out
}

// CodeWords are the codes of findings that may be accepted.
func CodeWords() (out []string) {
	for _, k := range finding.Kinds() {
		if k.Acceptable {
			out = append(out, string(k.Code)+"\t"+k.Meaning)
		}
	}
	return out
}
