package screen

import (
	"fmt"
	"io"
	"strings"

	"charm.land/lipgloss/v2"
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
	if width == 0 {
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
