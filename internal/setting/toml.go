package setting

import (
	"errors"
	"strconv"
	"strings"
	"unicode"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// parseTOML reads TOML 1.0.
func parseTOML(data []byte) (*node, error) {
	if err := CheckDepth(data); err != nil {
		return nil, err
	}
	var whole map[string]any // the strict reader says whether it is TOML at all
	if err := toml.Unmarshal(data, &whole); err != nil {
		return nil, err
	}
	root := &node{kind: object}
	t := &tomlTree{data: data}
	t.p.Reset(data)
	at := root
	for t.p.NextExpression() {
		switch e := t.p.Expression(); e.Kind {
		case unstable.Table:
			at = descend(root, keyOf(e))
		case unstable.ArrayTable:
			key := keyOf(e)
			arr := descend(root, key)
			arr.kind = list
			at = &node{kind: object}
			arr.children = append(arr.children, at)
		case unstable.KeyValue:
			if err := t.put(at, e, 0); err != nil {
				return nil, err
			}
		}
	}
	return root, t.p.Error()
}

type tomlTree struct {
	p    unstable.Parser
	data []byte
}

func keyOf(e *unstable.Node) []string {
	var out []string
	for it := e.Key(); it.Next(); {
		out = append(out, string(it.Node().Data))
	}
	return out
}

// descend finds or makes the table at a key; of an array of tables it is the
// last one.
func descend(n *node, key []string) *node {
	for i, k := range key {
		if n.kind == list && len(n.children) > 0 {
			n = n.children[len(n.children)-1]
		}
		var next *node
		for _, c := range n.children {
			if c.key == k {
				next = c
			}
		}
		if next == nil {
			next = &node{kind: object, key: k}
			n.children = append(n.children, next)
		}
		if n = next; i < len(key)-1 && n.kind == list && len(n.children) > 0 {
			continue
		}
	}
	return n
}

func (t *tomlTree) put(at *node, e *unstable.Node, depth int) error {
	key := keyOf(e)
	v, err := t.value(e.Value(), depth+1)
	if err != nil {
		return err
	}
	up := descend(at, key[:len(key)-1])
	if up.kind == list && len(up.children) > 0 {
		up = up.children[len(up.children)-1]
	}
	v.key = key[len(key)-1]
	up.children = append(up.children, v)
	return nil
}

func (t *tomlTree) value(e *unstable.Node, depth int) (*node, error) {
	if depth > maxDepth {
		return nil, errors.New("it is nested too deeply")
	}
	n := &node{start: int(e.Raw.Offset), end: int(e.Raw.Offset + e.Raw.Length), text: string(e.Data)}
	switch e.Kind {
	case unstable.Array:
		n.kind = list
		for it := e.Children(); it.Next(); {
			if it.Node().Kind == unstable.Comment {
				continue
			}
			c, err := t.value(it.Node(), depth+1)
			if err != nil {
				return nil, err
			}
			if c.kind == scalar {
				c.item = [2]int{c.start, c.end}
			}
			n.children = append(n.children, c)
		}
	case unstable.InlineTable:
		n.kind = object
		for it := e.Children(); it.Next(); {
			if it.Node().Kind != unstable.KeyValue {
				continue
			}
			if err := t.put(n, it.Node(), depth); err != nil {
				return nil, err
			}
		}
	case unstable.String:
		raw := string(t.data[n.start:n.end])
		n.plain = !strings.HasPrefix(raw, `"""`) && !strings.HasPrefix(raw, "'''")
		n.write = writeTOML(raw)
	}
	return n, nil
}

// writeTOML keeps the quotes that the value had, where they can hold the text.
func writeTOML(was string) func(string) (string, error) {
	return func(text string) (string, error) {
		if strings.HasPrefix(was, "'") &&
			!strings.ContainsFunc(text, func(r rune) bool { return r == '\'' || unicode.IsControl(r) }) {
			return "'" + text + "'", nil
		}
		return quoteTOML(text), nil
	}
}

func quoteTOML(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteRune('\\')
			b.WriteRune(r)
		case unicode.IsControl(r):
			b.WriteString(`\u` + strings.Repeat("0", 4-len(strconv.FormatInt(int64(r), 16))) +
				strconv.FormatInt(int64(r), 16))
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}
