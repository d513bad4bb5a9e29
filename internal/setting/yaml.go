package setting

import (
	"errors"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// parseYAML reads YAML 1.2. Where a value stands in the bytes is told by the
// line and the column of its token, and looked at there.
func parseYAML(data []byte) (out *node, err error) {
	// The reader comes down on some files that are no YAML.
	defer func() {
		if r := recover(); r != nil {
			out, err = nil, errors.New("it can't be read")
		}
	}()
	if err := CheckDepth(data); err != nil {
		return nil, err
	}
	f, err := parser.ParseBytes(data, parser.ParseComments)
	if err != nil {
		return nil, errors.New(yaml.FormatError(err, false, false))
	}
	if len(f.Docs) > 1 {
		return nil, errors.New("it has several documents")
	}
	y := &yamlTree{data: string(data)}
	at := 0
	for l := range strings.SplitAfterSeq(y.data, "\n") {
		y.lines = append(y.lines, at)
		at += len(l)
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil {
		return &node{kind: object}, nil
	}
	return y.node(f.Docs[0].Body, 0)
}

type yamlTree struct {
	data  string
	lines []int // offsets of their starts
}

func (y *yamlTree) node(n ast.Node, depth int) (*node, error) {
	if depth > maxDepth {
		return nil, errors.New("it is nested too deeply")
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		out := &node{kind: object}
		for _, v := range n.Values {
			c, err := y.pair(v, depth)
			if err != nil {
				return nil, err
			}
			out.children = append(out.children, c)
		}
		return out, nil
	case *ast.MappingValueNode:
		c, err := y.pair(n, depth)
		return &node{kind: object, children: []*node{c}}, err
	case *ast.SequenceNode:
		out := &node{kind: list}
		for _, v := range n.Values {
			c, err := y.node(v, depth+1)
			if err != nil {
				return nil, err
			}
			if c.kind == scalar && c.plain {
				c.item = [2]int{c.start, c.end}
				if !n.IsFlowStyle {
					c.item[0] = y.dash(c.start)
				}
			}
			out.children = append(out.children, c)
		}
		return out, nil
	case *ast.StringNode:
		return y.text(n.Token, n.Value), nil
	case *ast.TagNode, *ast.AnchorNode, *ast.AliasNode, *ast.LiteralNode:
		return &node{text: n.String()}, nil
	}
	return &node{text: n.String()}, nil
}

func (y *yamlTree) pair(v *ast.MappingValueNode, depth int) (*node, error) {
	c, err := y.node(v.Value, depth+1)
	if err != nil {
		return nil, err
	}
	c.key = v.Key.GetToken().Value
	return c, nil
}

// text is a scalar, if it stands in one line where its token says.
func (y *yamlTree) text(t *token.Token, value string) *node {
	n := &node{text: value}
	if t.Position.Line < 1 || t.Position.Line > len(y.lines) {
		return n
	}
	at, col := y.lines[t.Position.Line-1], 1
	for range y.data[at:] { // columns count characters
		if col == t.Position.Column {
			break
		}
		_, size := runeAt(y.data[at:])
		at, col = at+size, col+1
	}
	raw := ""
	line, _, _ := strings.Cut(y.data[at:], "\n")
	switch {
	case strings.HasPrefix(line, `"`):
		raw = quoted(line, '"', '\\')
	case strings.HasPrefix(line, `'`):
		raw = quoted(line, '\'', '\'')
	case strings.HasPrefix(line, value):
		raw = value
	}
	n.start, n.end = at, at+len(raw)
	var back string
	if raw == "" || yaml.Unmarshal([]byte(raw), &back) != nil || back != value {
		return n
	}
	n.plain, n.write = true, writeYAML(raw)
	return n
}

func runeAt(s string) (rune, int) {
	for i, r := range s {
		if i > 0 {
			return r, i
		}
	}
	return 0, len(s)
}

// quoted is the quoted text at the start of a line; empty if its end is
// elsewhere.
func quoted(line string, quote, escape byte) string {
	for i := 1; i < len(line); i++ {
		switch {
		case line[i] == escape && escape == quote && i+1 < len(line) && line[i+1] == quote,
			line[i] == escape && escape != quote:
			i++
		case line[i] == quote:
			return line[:i+1]
		}
	}
	return ""
}

// dash is where the `- ` of a sequence entry in block style begins.
func (y *yamlTree) dash(at int) int {
	i := strings.LastIndexByte(y.data[:at], '-')
	if i < 0 || strings.TrimSpace(y.data[i+1:at]) != "" {
		return at
	}
	return i
}

// writeYAML keeps the quotes that the value had, where they can hold the
// text.
func writeYAML(was string) func(string) (string, error) {
	return func(text string) (string, error) {
		control := strings.ContainsFunc(text, unicode.IsControl)
		if !control && was[0] == '\'' {
			return "'" + strings.ReplaceAll(text, "'", "''") + "'", nil
		}
		var back any
		if was[0] != '"' && !control && !strings.ContainsAny(text, `,[]{}#&*!|>'"%@`+"`") &&
			!strings.Contains(text, ": ") &&
			!strings.HasSuffix(text, ":") && strings.TrimSpace(text) == text && text != "" &&
			!strings.ContainsRune("-?:~=<", rune(text[0])) &&
			yaml.Unmarshal([]byte(text), &back) == nil && back == text {
			return text, nil
		}
		return writeJSON(text) // YAML 1.2 holds JSON's strings
	}
}
