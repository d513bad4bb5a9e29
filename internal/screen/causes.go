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

// A cause is what was found at one redirect, or at several for the same reason.
type cause struct {
	found finding.Finding
	of    []*health.Report
}

// ofDrive are the findings that say of a redirect what is so of its drive.
var ofDrive = []finding.Code{finding.DriveAway, finding.DriveElsewhere, finding.DriveSwapped, finding.Covered,
	finding.DriveReadOnly, finding.SpaceLow, finding.NotAtStart, finding.MountOpen, finding.BelowMount,
	finding.TagMissing}

// causesOf puts together what was found for the same reason, in the order of the reports.
func causesOf(reports []*health.Report) (out []*cause) {
	known := map[string]*cause{}
	for _, r := range reports {
		for _, f := range r.Findings {
			key := string(f.Code) + " "
			switch {
			case slices.Contains(ofDrive, f.Code):
				key += r.Redirect.Drive.Identity() + r.Redirect.Drive.Label
			case f.Code != finding.HeldWaiting:
				out = append(out, &cause{f, []*health.Report{r}})
				continue
			}
			if c := known[key]; c == nil {
				known[key] = &cause{f, []*health.Report{r}}
				out = append(out, known[key])
			} else if c.of[len(c.of)-1] != r {
				c.of = append(c.of, r)
				if c.found.Remedy != f.Remedy { // what is to be done is told in general
					c.found.Remedy = finding.New(f.Code, "", "").OnDrive(r.Redirect.Drive.Label).Remedy
				}
			}
		}
	}
	for _, c := range out {
		c.found.Message = c.message()
	}
	return out
}

// message says of several what was found.
func (c *cause) message() string {
	if len(c.of) == 1 {
		return c.found.Message
	}
	switch c.found.Code {
	case finding.DriveAway:
		return fmt.Sprintf("%s is not here, and %d redirects lie on it", pathtext.Show(c.of[0].Redirect.Drive.Label),
			len(c.of))
	case finding.HeldWaiting:
		var held []ledger.Held
		for _, r := range c.of {
			held = append(held, r.Held...)
		}
		return fmt.Sprintf("%d held originals, %s, wait to be discarded", len(held),
			pathtext.Size(ledger.HeldBytes(held)))
	}
	return c.found.Message
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
			what := fmt.Sprintf("%s, %s, and held against the manifest", Plural(r.Deep.Files, "file", "files"),
				pathtext.Size(r.Deep.Bytes))
			if !r.Deep.Since.IsZero() {
				what += ", going on with the check of " + Day(r.Deep.Since)
			}
			read = append(read, []string{"read", name, what})
		}
	}
	a.Columns(a.Out, nil, append(rows, read...))
	causes := causesOf(reports)
	for _, severity := range []finding.Severity{finding.Blocker, finding.Warning, finding.Info} {
		for _, c := range causes {
			if c.found.Severity != severity || grave && severity == finding.Info {
				continue
			}
			var names []string
			for _, r := range c.of {
				names = append(names, pathtext.Show(r.Redirect.Name))
			}
			if len(reports) == 1 {
				names = nil
			}
			a.finding(a.Out, c.found, strings.Join(names, ", "))
		}
	}
}
