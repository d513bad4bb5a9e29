package screen

import (
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/dustin/go-humanize"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// The few styles: words carry the meaning, colour only helps the eye.
var (
	Bold    = lipgloss.NewStyle().Bold(true)
	Faint   = lipgloss.NewStyle().Faint(true)
	Good    = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	Caution = lipgloss.NewStyle().Foreground(lipgloss.Color("3"))
	Bad     = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
)

// Path writes a path the way people know it: ~ for their own home.
func (a *Lines) Path(p string) string {
	if a.Home == "" || pathtext.IsRoot(a.Home) || runtime.GOOS == "windows" { // where no shell knows ~
		return pathtext.Show(p)
	}
	switch rest, ok := pathtext.Below(p, a.Home); {
	case rest == ".":
		return "~"
	case ok:
		return "~/" + pathtext.Show(rest)
	}
	return pathtext.Show(p)
}

// Typed writes a path as it can be typed, with ~ for the home.
func (a *Lines) Typed(p string) string {
	if rest, ok := strings.CutPrefix(p, a.Home+"/"); ok && a.Home != "" && runtime.GOOS != "windows" {
		return "~/" + pathtext.Quote(rest)
	}
	return pathtext.Quote(p)
}

// on writes a path on a drive by the drive's label.
func on(d *drive.Drive, p string) string { return pathtext.Show(d.Display(p)) }

// Columns prints a table without lines: headers, if there are any, then
// rows. Columns named in right are set flush right. What does not fit on the terminal is
// shortened, see [fitted].
func (a *Lines) Columns(w io.Writer, headers []string, rows [][]string, right ...int) {
	all := rows
	if headers != nil {
		all = append([][]string{headers}, rows...)
	}
	if n := a.width(w); n > 0 {
		all = fitted(all, right, n-2, 2)
	}
	wide := widths(all)
	for i, row := range all {
		line := " "
		for c, text := range row {
			pad := strings.Repeat(" ", wide[c]-lipgloss.Width(text))
			if i == 0 && headers != nil {
				text = Faint.Render(text)
			}
			if slices.Contains(right, c) {
				text, pad = pad, text
			}
			line += " " + text + pad + " "
		}
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// Findings prints what was noticed: the gravest first, each with its remedy. What mounts a
// drive at the next start is for [Screen.ShowRedirect] and [Screen.ShowChecked] to say.
func (a *Lines) Findings(w io.Writer, fs []finding.Finding) {
	for _, f := range finding.Worst(fs) {
		if f.Code != finding.NotAtStart {
			a.finding(w, f, "")
		}
	}
}

// finding prints one; concerns are the names of those that it is about, where there are
// several to choose from.
func (a *Lines) finding(w io.Writer, f finding.Finding, concerns string) {
	mark := map[finding.Severity]string{
		finding.Blocker: Bad.Render("in the way"), finding.Warning: Caution.Render("warning"),
		finding.Info: Faint.Render("info"),
	}[f.Severity]
	a.text(w, mark+"  ", a.Said(f.Message)+coded(f))
	a.morePaths(w, f)
	if concerns != "" {
		a.text(w, "           "+Faint.Render("concerns:")+" ", concerns)
	}
	if f.Shows != "" && f.Severity == finding.Warning {
		a.text(w, "           "+Faint.Render("programs show:")+" ", f.Shows)
	}
	a.text(w, "         → ", f.Remedy)
}

// Notices prints what was noticed and stands in nobody's way.
func (a *Lines) Notices(fs []finding.Finding) {
	a.Findings(a.Out, slices.DeleteFunc(slices.Clone(fs), func(f finding.Finding) bool {
		return f.Severity == finding.Blocker
	}))
}

// morePaths prints the first paths of a finding, and says how many more there are.
func (a *Lines) morePaths(w io.Writer, f finding.Finding) {
	shown := a.findingPaths(w, f)
	if f.Count > shown && shown > 0 {
		fmt.Fprintf(w, "           and %s more\n", pathtext.Count(int64(f.Count-shown)))
	}
}

// Said is a sentence with paths below the person's own home written as ~. A command that one
// may type stays as it is: no shell knows a ~ in quotes.
func (a *Lines) Said(text string) string {
	if a.Home == "" || len(a.Home) < 4 || runtime.GOOS == "windows" {
		return text
	}
	var out strings.Builder
	for {
		before, after, found := strings.Cut(text, a.Home)
		out.WriteString(before)
		if !found {
			return out.String()
		}
		begins := before == "" || strings.ContainsAny(before[len(before)-1:], " (")
		ends := after == "" || strings.ContainsAny(after[:1], "/ ,;:)")
		if begins && ends {
			out.WriteString("~")
		} else {
			out.WriteString(a.Home)
		}
		text = after
	}
}

// findingPaths prints the first paths of a finding, fewer of one that only
// informs, and returns how many.
func (a *Lines) findingPaths(w io.Writer, f finding.Finding) (shown int) {
	most := 10
	if f.Severity == finding.Info {
		most = 3
	}
	for i, p := range f.Paths[:min(len(f.Paths), most)] {
		line := a.Path(p)
		if len(f.Details) > i {
			line += " " + f.Details[i]
		} else if f.Count == 1 && p == f.Path && strings.Contains(f.Message, pathtext.Show(p)) {
			break // it was said already
		}
		fmt.Fprintf(w, "           %s\n", line)
		shown++
	}
	return shown
}

func Ago(t time.Time) string { return humanize.Time(t) }

func Day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func Seconds(s float64) string {
	if s < 10 {
		return fmt.Sprintf("%.1f s", s)
	}
	return time.Duration(s * float64(time.Second)).Round(time.Second).String()
}

// led is the arrow of a redirect or a plan: a link, or a setting where there
// is none.
func led(methods []string, from, to string) string {
	return Bold.Render(from) + LedArrow(methods) + Bold.Render(to)
}

func LedArrow(methods []string) string {
	if slices.Contains(methods, plan.ByHandover) {
		return " ──handover──▶ "
	}
	if plan.Linkless(methods) {
		return " ──setting──▶ "
	}
	if slices.Contains(methods, plan.ByJunction) {
		return " ──junction──▶ "
	}
	return " ──link──▶ "
}
