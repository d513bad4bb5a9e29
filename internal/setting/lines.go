package setting

import (
	"errors"
	"net/url"
	"strings"
	"unicode"
)

// eachLine calls f with every line, its start, and its end without the line
// end.
func eachLine(data []byte, f func(line string, start int)) {
	at := 0
	for l := range strings.SplitAfterSeq(string(data), "\n") {
		f(strings.TrimSuffix(strings.TrimSuffix(l, "\n"), "\r"), at)
		at += len(l)
	}
}

// parseINI reads sections and `key = value` lines: comments begin with ; or #
// at the start of a line. Keys before the first section stand at the top.
func parseINI(data []byte) (*node, error) {
	root := &node{kind: object}
	at := root
	eachLine(data, func(line string, start int) {
		t := strings.TrimSpace(line)
		switch {
		case t == "" || t[0] == ';' || t[0] == '#':
		case t[0] == '[' && strings.HasSuffix(t, "]"):
			at = &node{kind: object, key: t[1 : len(t)-1]}
			root.children = append(root.children, at)
		default:
			i := strings.IndexAny(line, "=:")
			if i < 0 {
				return
			}
			value := strings.TrimSpace(line[i+1:])
			from := start + i + 1 + strings.Index(line[i+1:], value)
			n := &node{key: strings.TrimSpace(line[:i]), start: from, end: from + len(value), text: value,
				plain: true, write: writeINI('\x00')}
			if q := len(value) - 1; q > 0 && (value[0] == '"' || value[0] == '\'') && value[q] == value[0] {
				n.text, n.write = value[1:q], writeINI(value[0])
			}
			at.children = append(at.children, n)
		}
	})
	return root, nil
}

var errLine = errors.New("this path can't stand in a line of this format")

func writeINI(quote byte) func(string) (string, error) {
	return func(text string) (string, error) {
		if strings.ContainsFunc(text, unicode.IsControl) || quote != 0 && strings.IndexByte(text, quote) >= 0 {
			return "", errLine
		}
		if quote != 0 {
			return string(quote) + text + string(quote), nil
		}
		if text != strings.TrimSpace(text) || text != "" && strings.ContainsRune(`"'`, rune(text[0])) {
			return "", errLine
		}
		return text, nil
	}
}

// parseKeyValue reads KEY=value lines as shells and environment files have
// them: bare, in single quotes, or in double quotes with backslashes.
// user-dirs.dirs (xdg-user-dirs) is of this kind.
func parseKeyValue(data []byte) (*node, error) {
	root := &node{kind: object}
	eachLine(data, func(line string, start int) {
		t := strings.TrimSpace(line)
		if t == "" || t[0] == '#' {
			return
		}
		eq := strings.IndexByte(line, '=')
		if eq < 0 {
			return
		}
		key := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line[:eq]), "export "))
		i := eq + 1
		for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
			i++
		}
		n := &node{key: key, start: start + i}
		n.text, n.end, n.write = shellWord(line, i)
		n.end += start
		n.plain = n.write != nil
		bare := strings.TrimPrefix(line[i:], `"`)
		n.home = strings.HasPrefix(bare, "$HOME") || strings.HasPrefix(bare, "${HOME}")
		root.children = append(root.children, n)
	})
	return root, nil
}

// shellWord reads one word of a shell's assignment; write is nil if it is put
// together of several pieces.
func shellWord(line string, i int) (text string, end int, write func(string) (string, error)) {
	switch {
	case i < len(line) && line[i] == '"':
		text, end = wordUntil(line, i+1, `"`, "\"\\$`")
		write = writeDouble
	case i < len(line) && line[i] == '\'':
		text, end = wordUntil(line, i+1, "'", "")
		write = writeSingle
	default:
		text, end = wordUntil(line, i, " \t#", anything)
		if !endsLine(line[end:]) {
			return text, end, nil
		}
		return text, end, writeBare
	}
	if end >= len(line) {
		return text, len(line), nil // the quote is not closed
	}
	if !endsLine(line[end+1:]) {
		return text, end + 1, nil
	}
	return text, end + 1, write
}

// anything says that a backslash takes the meaning of any character.
const anything = "\x00"

// wordUntil reads from i to the first of the bytes in ends, or to the end of the line; a
// backslash before one of the bytes in escaped is left out.
func wordUntil(line string, i int, ends, escaped string) (text string, end int) {
	var b strings.Builder
	for ; i < len(line) && strings.IndexByte(ends, line[i]) < 0; i++ {
		if line[i] == '\\' && i+1 < len(line) && (escaped == anything || strings.IndexByte(escaped, line[i+1]) >= 0) {
			i++
		}
		b.WriteByte(line[i])
	}
	return b.String(), i
}

// endsLine reports whether nothing but a comment follows.
func endsLine(rest string) bool {
	rest = strings.TrimSpace(rest)
	return rest == "" || rest[0] == '#'
}

func writeDouble(text string) (string, error) {
	if strings.ContainsAny(text, "\n\r\x00") {
		return "", errLine
	}
	return `"` + strings.NewReplacer(`"`, `\"`, `\`, `\\`, "`", "\\`", `$`, `\$`).Replace(text) + `"`, nil
}

func writeSingle(text string) (string, error) {
	if strings.ContainsAny(text, "'\n\r\x00") {
		return "", errLine
	}
	return "'" + text + "'", nil
}

// writeBare writes a path without quotes where that says the same to a shell
// and to programs that read the line as it is.
func writeBare(text string) (string, error) {
	for _, r := range text {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("/._-+:@%,", r) {
			return writeDouble(text)
		}
	}
	return text, nil
}

// parseUserDirs reads user-dirs.dirs (xdg-user-dirs): values stand in double
// quotes.
func parseUserDirs(data []byte) (*node, error) {
	root, err := parseKeyValue(data)
	for _, n := range root.children {
		if n.plain {
			n.write = writeDouble
		}
	}
	return root, err
}

// parseBookmarks reads lines of a URI and, after a space, a label.
func parseBookmarks(data []byte) (*node, error) {
	root := &node{kind: list}
	eachLine(data, func(line string, start int) {
		if strings.TrimSpace(line) == "" {
			return
		}
		uri, _, _ := strings.Cut(line, " ")
		root.children = append(root.children, &node{
			start: start, end: start + len(uri), item: [2]int{start, start + len(line)}, text: uri, plain: true,
			write: func(text string) (string, error) {
				if strings.ContainsAny(text, " \n\r\x00") {
					return "", errLine
				}
				return text, nil
			},
		})
	})
	return root, nil
}

// fileURI is a path as a file URI (RFC 8089).
func fileURI(path string) string { return (&url.URL{Scheme: "file", Path: path}).String() }
