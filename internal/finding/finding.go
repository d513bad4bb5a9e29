// Package finding knows the things that inspect, check and discard can
// notice: their codes, how grave each is, and what mends it.
//
// It is the one list of codes; docs/findings.md is written from it. It does
// not look at anything itself and knows no drive, folder or redirect.
package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/pathtext"
)

// A Severity says what a finding stops.
type Severity string

// Info is worth knowing, Warning wants a decision, Blocker ends the act
// before anything has changed.
const (
	Info    Severity = "info"
	Warning Severity = "warning"
	Blocker Severity = "blocker"
)

// A Code names a kind of finding in words.
type Code string

// A Kind is what the list says of a code.
type Kind struct {
	Code     Code
	Severity Severity // as found first; an accepted one is reported as Info
	Meaning  string   // one sentence
	Remedy   string   // what to type or do; NAME, DRIVE and RUN stand for the finding's own
	// Acceptable says that `--accept CODE` may go on past it.
	Acceptable bool
}

// A Finding is one thing noticed about one path.
type Finding struct {
	Code     Code
	Severity Severity
	Message  string
	Remedy   string
	Shows    string   // what programs that use the folder probably show; empty where they show nothing
	Path     string   // the path it is about; the first one where there are several
	Count    int      // how many entries it is about; 0 where that says nothing
	Paths    []string // the first of them, in order; may be empty
	Details  []string // what is to be said of each of Paths; empty if nothing
}

// Subject is what a finding is about, as it is called: the name of a redirect, the
// label of a drive, the id of a run. Any may be empty.
type Subject struct{ Name, Drive, Run string }

// New makes a finding of a listed code with its listed severity and remedy. The
// message is made as by [fmt.Sprintf]; strings, paths and errors in it are hostile
// text and are made safe to show. It panics for a code that is not in the list:
// that is a caller's bug.
func New(code Code, path, format string, args ...any) Finding {
	k, ok := kinds[code]
	if !ok {
		panic("finding: code is not in the list: " + string(code))
	}
	for i, a := range args {
		switch a := a.(type) {
		case string:
			args[i] = pathtext.Show(a)
		case error:
			args[i] = pathtext.Show(a.Error())
		}
	}
	return Finding{Code: code, Severity: k.Severity, Message: fmt.Sprintf(format, args...), Path: path,
		Shows: shows[code], Remedy: remedy(code, here)}
}

// About puts the subject's names where its remedy has words for them, quoted so that
// the command can be typed as it stands. What is empty stays a word.
func (f Finding) About(s Subject) Finding {
	var fill []string
	for _, w := range []struct{ word, of, said string }{
		{"NAME", s.Name, pathtext.Quote(s.Name)}, {"DRIVE", s.Drive, pathtext.Show(s.Drive)},
		{"RUN", s.Run, pathtext.Quote(s.Run)},
	} {
		if w.of != "" && strings.Contains(f.Remedy, w.word) {
			fill = append(fill, w.word, w.said)
		}
	}
	switch len(fill) {
	case 0:
	case 2: // most: nothing has to be prepared for one word
		f.Remedy = strings.ReplaceAll(f.Remedy, fill[0], fill[1])
	default:
		f.Remedy = strings.NewReplacer(fill...).Replace(f.Remedy)
	}
	return f
}

// Named is [Finding.About] a redirect.
func (f Finding) Named(name string) Finding { return f.About(Subject{Name: name}) }

// OnDrive is [Finding.About] a drive.
func (f Finding) OnDrive(label string) Finding { return f.About(Subject{Drive: label}) }

// OfRun is [Finding.About] a run.
func (f Finding) OfRun(id string) Finding { return f.About(Subject{Run: id}) }

// Acceptable reports whether a person may accept findings of this code and
// go on. Losses of content or names are never acceptable.
func Acceptable(code Code) bool { return kinds[code].Acceptable }

// Accepted is the finding after a person accepted it: worth knowing, and no
// more to be done about it.
func (f Finding) Accepted() Finding {
	f.Severity, f.Remedy = Info, "accepted with --accept "+string(f.Code)
	return f
}

// Instead gives the finding a remedy that fits better than the listed one.
func (f Finding) Instead(remedy string) Finding { f.Remedy = remedy; return f }

// As gives the finding another severity.
func (f Finding) As(s Severity) Finding { f.Severity = s; return f }

// Listed is how many paths a finding names, as a rule.
const Listed = 10

// Listing adds the entries it is about: all their number, the first paths.
func (f Finding) Listing(count int, paths []string) Finding {
	f.Count, f.Paths = count, paths
	return f
}

// Kinds is the whole list, by code.
func Kinds() []Kind {
	all := make([]Kind, 0, len(kinds))
	for _, k := range kinds {
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b Kind) int { return cmp.Compare(a.Code, b.Code) })
	return all
}

// Blockers picks the findings that end an act.
func Blockers(fs []Finding) []Finding {
	var out []Finding
	for _, f := range fs {
		if f.Severity == Blocker {
			out = append(out, f)
		}
	}
	return out
}

// Worst orders findings for reading: blockers first, then warnings, each in
// the order they were found.
func Worst(fs []Finding) []Finding {
	rank := map[Severity]int{Blocker: 0, Warning: 1, Info: 2}
	out := slices.Clone(fs)
	slices.SortStableFunc(out, func(a, b Finding) int { return cmp.Compare(rank[a.Severity], rank[b.Severity]) })
	return out
}

// Telling are the blockers among findings, in the order in which they are best told: what
// nobody can go on past first, then what may be accepted.
func Telling(fs []Finding) []Finding {
	out := Blockers(fs)
	slices.SortStableFunc(out, func(a, b Finding) int {
		switch x, y := Acceptable(a.Code), Acceptable(b.Code); {
		case x == y:
			return 0
		case y:
			return -1
		}
		return 1
	})
	return out
}

// Has reports whether one of the findings has the code.
func Has(fs []Finding, code Code) bool {
	return slices.ContainsFunc(fs, func(f Finding) bool { return f.Code == code })
}

// Meaning is the one sentence that a listed code stands for.
func Meaning(code Code) string { return kinds[code].Meaning }
