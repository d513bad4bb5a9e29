package screen

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"
)

// width is how many columns a line may take; 0 where nobody looks at it on a terminal, and
// lines are as long as they are.
func (a *Lines) width(w io.Writer) int {
	f := a.RawOut
	if w == a.Err {
		f = a.RawErr
	}
	if f == nil || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	n, _, err := term.GetSize(int(f.Fd()))
	if err != nil || n < 40 { // narrower than this no text can be read
		return 0
	}
	return n
}

// text prints a paragraph after what stands before it, broken at words where the terminal is
// narrower; further lines begin under its first word.
func (a *Lines) text(w io.Writer, before, paragraph string) {
	fmt.Fprintln(w, before+wrapped(paragraph, a.width(w), lipgloss.Width(before)))
}

// wrapped breaks a text at words so that no line is wider than width when each stands behind
// that many columns. A command between backquotes, or one before three blanks, is one word,
// so that it can be copied; what is wider than a line stays whole.
func wrapped(text string, width, indent int) string {
	if width == 0 || indent+lipgloss.Width(text) <= width {
		return text
	}
	var b strings.Builder
	room := width - indent
	for i, word := range words(text) {
		n := lipgloss.Width(word)
		switch {
		case i == 0:
		case n+1 > room:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			room = width - indent
		default:
			b.WriteByte(' ')
			room--
		}
		b.WriteString(word)
		room -= n
	}
	return b.String()
}

// words parts a text into what may not be broken.
func words(text string) (out []string) {
	command, rest, found := strings.Cut(text, "   ")
	if found {
		return append([]string{command + "  "}, words(strings.TrimLeft(rest, " "))...)
	}
	quoted := false
	for word := range strings.SplitSeq(text, " ") {
		if quoted {
			out[len(out)-1] += " " + word
		} else {
			out = append(out, word)
		}
		if strings.Count(word, "`")%2 == 1 {
			quoted = !quoted
		}
	}
	return out
}

// label is what stands before the text of a line: blanks, a few words, two blanks or more.
var label = regexp.MustCompile(`^( *\S+(?: \S+){0,3} {2,}| +)`)

// Print prints lines for people; one that is wider than the terminal is broken at words, and
// goes on below where its text begins.
func (a *Lines) Print(format string, args ...any) {
	for line := range strings.SplitSeq(fmt.Sprintf(format, args...), "\n") {
		before := label.FindString(line)
		if lipgloss.Width(before) > 16 {
			before = ""
		}
		a.text(a.Out, before, line[len(before):])
	}
}

// entry is what stands before the description of a command or an option.
var entry = regexp.MustCompile(`^ +\S+(?: \S+)* {2,}`)

// Help prints a page of the help. On a terminal its paragraphs are broken anew, and what
// describes a command or an option goes on below where it begins.
func (a *Lines) Help(page string) {
	if a.width(a.Out) == 0 {
		fmt.Fprint(a.Out, page)
		return
	}
	paragraph := ""
	flush := func() {
		if paragraph != "" {
			a.text(a.Out, "", paragraph)
		}
		paragraph = ""
	}
	for line := range strings.SplitSeq(strings.TrimRight(page, "\n"), "\n") {
		if line != "" && line[0] != ' ' && line[0] != '\t' && !strings.HasSuffix(line, ":") {
			paragraph = strings.TrimSpace(paragraph + " " + line)
			continue
		}
		flush()
		before := entry.FindString(line)
		if lipgloss.Width(before) > a.width(a.Out)/2 {
			before = ""
		}
		a.text(a.Out, before, line[len(before):])
	}
	flush()
}

// fitted gives the cells of a table so much room that its rows are no wider than so many
// columns: the widest cells that are no numbers lose their middle first, then columns are
// given up from the right, but for the first two. gap is between two columns.
func fitted(rows [][]string, right []int, width, gap int) [][]string {
	wide := widths(rows)
	total := func() (n int) {
		for _, w := range wide {
			n += w + gap
		}
		return n
	}
	const least = 14 // a path is known by no less
	for over := total() - width; over > 0; over = total() - width {
		widest := -1
		for i, w := range wide {
			if !slices.Contains(right, i) && w > least && (widest < 0 || w > wide[widest]) {
				widest = i
			}
		}
		switch {
		case widest >= 0:
			wide[widest] = max(least, wide[widest]-over)
		case len(wide) > 2:
			wide = wide[:len(wide)-1]
		default:
			return rows
		}
	}
	out := make([][]string, len(rows))
	for r, row := range rows {
		for i := range min(len(row), len(wide)) {
			out[r] = append(out[r], Shortened(row[i], wide[i]))
		}
	}
	return out
}

// widths is how wide the columns of a table have to be, for its widest cells.
func widths(rows [][]string) (wide []int) {
	for _, row := range rows {
		for i, c := range row {
			if i == len(wide) {
				wide = append(wide, 0)
			}
			wide[i] = max(wide[i], lipgloss.Width(c))
		}
	}
	return wide
}

// Shortened leaves out the middle of a text that is wider than so many columns: of a path, its
// beginning and its name say most.
func Shortened(text string, width int) string {
	n := ansi.StringWidth(text)
	if n <= width || width < 5 {
		return text
	}
	before := (width - 1) / 3
	return ansi.Truncate(text, before, "") + "…" + ansi.TruncateLeft(text, n-(width-1-before), "")
}
