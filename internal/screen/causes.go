package screen

import (
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// A Cause is what was found at one redirect, or at several for the same reason.
type Cause struct {
	Found finding.Finding
	Of    []*health.Report
}

// Names are those of the redirects.
func (c *Cause) Names() (out []string) {
	for _, r := range c.Of {
		out = append(out, r.Redirect.Name)
	}
	return out
}

// ofDrive are the findings that say of a redirect what is so of its drive.
var ofDrive = []finding.Code{finding.DriveAway, finding.DriveElsewhere, finding.DriveSwapped, finding.Covered,
	finding.DriveReadOnly, finding.SpaceLow, finding.NotAtStart, finding.MountOpen, finding.BelowMount,
	finding.TagMissing, finding.NoOtherCopy}

// causesOf puts together what was found for the same reason, in the order of the reports.
func causesOf(reports []*health.Report) (out []*Cause) {
	known := map[string]*Cause{}
	for _, r := range reports {
		for _, f := range r.Findings {
			key := string(f.Code) + " "
			switch {
			case slices.Contains(ofDrive, f.Code):
				key += r.Redirect.Drive.Identity() + r.Redirect.Drive.Label
			case f.Code == finding.Unseen:
				key += f.Message // one place that can't be looked at hinders all who ask for it
			case f.Code != finding.HeldWaiting:
				out = append(out, &Cause{f, []*health.Report{r}})
				continue
			}
			if c := known[key]; c == nil {
				known[key] = &Cause{f, []*health.Report{r}}
				out = append(out, known[key])
			} else if c.Of[len(c.Of)-1] != r {
				c.Of = append(c.Of, r)
				if c.Found.Remedy != f.Remedy { // what is to be done is told in general
					c.Found.Remedy = finding.New(f.Code, "", "").OnDrive(r.Redirect.Drive.Label).Remedy
				}
			}
		}
	}
	for _, c := range out {
		c.Found.Message = c.message()
	}
	return out
}

// message says of several what was found.
func (c *Cause) message() string {
	if len(c.Of) == 1 {
		return c.Found.Message
	}
	switch c.Found.Code {
	case finding.DriveAway:
		return fmt.Sprintf("%s is not here, and %d redirects lie on it", pathtext.Show(c.Of[0].Redirect.Drive.Label),
			len(c.Of))
	case finding.NoOtherCopy:
		return fmt.Sprintf("%s holds the only copy of %s folders: no archive of them was made lately",
			pathtext.Show(c.Of[0].Redirect.Drive.Label), pathtext.Count(int64(len(c.Of))))
	case finding.HeldWaiting:
		var held []ledger.Held
		for _, r := range c.Of {
			held = append(held, r.Held...)
		}
		return fmt.Sprintf("%d held originals, %s, wait to be discarded", len(held),
			pathtext.Size(ledger.HeldBytes(held)))
	}
	return c.Found.Message
}

// ShowChecked shows what a check has found: the redirects, then each cause once with those
// that it concerns, the gravest first. grave leaves out what only informs.
func (a *Screen) ShowChecked(reports []*health.Report, grave bool) {
	if len(reports) == 0 {
		return
	}
	var rows, read [][]string
	for _, r := range reports {
		line := a.Path(r.Redirect.Link) + LedArrow(r.Redirect.Methods) + a.OnDrive(r.Redirect)
		if r.Redirect.State == ledger.Ended {
			line = a.Path(r.Redirect.Link) + " is a real folder again"
		}
		name := Bold.Render(pathtext.Show(r.Redirect.Name))
		rows = append(rows, []string{StateWord(r.State), name, line})
		if r.Deep != nil {
			what := fmt.Sprintf("%s, %s, and held against the manifest", pathtext.Files(r.Deep.Files),
				pathtext.Size(r.Deep.Bytes))
			if !r.Deep.Since.IsZero() {
				what += ", going on with the check of " + Day(r.Deep.Since)
			}
			read = append(read, []string{"read", name, what})
		}
	}
	a.Columns(a.Out, nil, append(rows, read...))
	for _, c := range Causes(reports, grave) {
		a.ShowCause(c, len(reports) > 1)
	}
}

// Causes puts together what was found for the same reason, the gravest first. grave leaves out
// what only informs.
func Causes(reports []*health.Report, grave bool) (out []*Cause) {
	causes := causesOf(reports)
	for _, severity := range []finding.Severity{finding.Blocker, finding.Warning, finding.Info} {
		for _, c := range causes {
			if c.Found.Severity == severity && !(grave && severity == finding.Info) {
				out = append(out, c)
			}
		}
	}
	return out
}

// mostConcerned is how many redirects a cause names; the rows above name all.
const mostConcerned = 20

// ShowCause shows a cause; named, with the redirects that it concerns.
func (a *Lines) ShowCause(c *Cause, named bool) {
	var names []string
	if named {
		names = c.Names()
	}
	more := ""
	if n := len(names) - mostConcerned; n > 0 && !a.Verbose {
		names, more = names[:mostConcerned], fmt.Sprintf(", and %d more (-v names all)", n)
	}
	a.finding(a.Out, c.Found, pathtext.Show(strings.Join(names, ", "))+more)
}
