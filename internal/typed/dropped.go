package typed

import (
	"net/url"
	"path/filepath"
	"strings"
)

// Dropped is the path of what was dragged into a terminal: file managers and terminals write it
// in quotes, with backslashes before what a shell would take for its own, as a file: address
// with percent escapes (RFC 8089), or as it is, and some put a blank behind it. The first of
// several is taken. Empty if nothing is in it.
func Dropped(text, home string) string {
	text = strings.TrimSpace(strings.Trim(strings.TrimSpace(text), "\r\n"))
	if line, _, more := strings.Cut(text, "\n"); more {
		text = strings.TrimSpace(line)
	}
	if path, is := fileAddress(text); is {
		return path
	}
	path := unquoted(text)
	if path, is := fileAddress(path); is {
		return path
	}
	if path == "~" || strings.HasPrefix(path, "~/") {
		path = filepath.Join(home, strings.TrimPrefix(path, "~"))
	}
	return path
}

// fileAddress is the path of a file: address of this machine.
func fileAddress(text string) (path string, is bool) {
	if !strings.HasPrefix(text, "file:/") {
		return "", false
	}
	u, err := url.Parse(text)
	if err != nil || u.Path == "" || u.Host != "" && u.Host != "localhost" {
		return "", false
	}
	return filepath.Clean(filepath.FromSlash(u.Path)), true
}

// unquoted reads the first word as a shell does: quotes of both kinds, backslashes. A path
// with blanks that nobody has quoted stays whole.
func unquoted(text string) string {
	if !strings.ContainsAny(text, `'"\`) {
		return text
	}
	var b strings.Builder
	quote, escaped := rune(0), false
	for _, c := range text {
		switch {
		case escaped:
			escaped = false
			b.WriteRune(c)
		case c == '\\' && quote != '\'' && filepath.Separator == '/':
			escaped = true
		case quote == 0 && (c == '\'' || c == '"'):
			quote = c
		case c == quote:
			quote = 0
		case c == ' ' && quote == 0:
			return b.String()
		default:
			b.WriteRune(c)
		}
	}
	return b.String()
}
