// Package pathtext carries names of any bytes through places that take text:
// JSON documents and terminals.
//
// A file's name is hostile text. It knows how to write one down so that it
// can be read back, and how to print one so that no control character acts
// on a terminal. It opens nothing.
package pathtext

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Show makes text safe for a terminal and keeps it on one line: control
// characters, marks that turn the direction of writing, and bytes that are
// no UTF-8 are spelled out.
func Show(s string) string {
	if plain(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\\':
			b.WriteString(`\\`)
		case hidden(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		i += n
	}
	return b.String()
}

// EscapeJSON writes the characters of a JSON text that a terminal acts on or does
// not show as \u escapes: the text means the same, and can be looked at. Those
// below the space are escaped in JSON already.
func EscapeJSON(b []byte) []byte {
	if !bytes.ContainsFunc(b, func(r rune) bool { return r >= 0x7f && hidden(r) }) {
		return b
	}
	var out []byte
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		switch {
		case r < 0x7f || !hidden(r):
			out = append(out, b[:n]...)
		case r > 0xffff:
			hi, lo := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, hi, lo)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		b = b[n:]
	}
	return out
}

func plain(s string) bool {
	for _, r := range s {
		if r == utf8.RuneError || hidden(r) {
			return false
		}
	}
	return true
}

// hidden are characters that a terminal acts on or does not show.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || !unicode.IsPrint(r)
}

// Quote writes s as one word for the shell of this system, so that a command that is
// shown can be typed as it stands.
func Quote(s string) string {
	if runtime.GOOS == "windows" {
		return QuoteWindows(s)
	}
	return QuotePOSIX(s)
}

// QuoteWindows writes s as one word for both shells of Windows. What stands in double quotes may
// hold no other (no name does), and a backslash before the last one would go with it.
func QuoteWindows(s string) string {
	word := func(r rune) bool {
		return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune(`+=:./\_-`, r)
	}
	if s != "" && strings.IndexFunc(s, func(r rune) bool { return !word(r) }) < 0 {
		return s
	}
	if strings.ContainsAny(s, "$`\"") {
		return "'" + strings.ReplaceAll(s, "'", "''") + "'" // the newer shell alone
	}
	if strings.HasSuffix(s, `\`) {
		s += `\`
	}
	return `"` + s + `"`
}

// QuotePOSIX writes s as one word for a POSIX shell.
func QuotePOSIX(s string) string {
	if s != "" && strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("@%+=:,./_-", r))
	}) < 0 {
		return s
	}
	if plain(s) {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	var b strings.Builder
	b.WriteString("$'")
	for i := range len(s) {
		c := s[i]
		switch {
		case c == '\'' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c >= 0x7f:
			fmt.Fprintf(&b, `\x%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String() + "'"
}

// QuoteAll is [Quote] of several words, with spaces between them.
func QuoteAll(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = Quote(w)
	}
	return strings.Join(out, " ")
}
