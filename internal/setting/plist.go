package setting

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"howett.net/plist"
)

var binaryMagic = []byte("bplist00")

func isBinaryPList(f Format, data []byte) bool {
	return f == PList && bytes.HasPrefix(data, binaryMagic)
}

// parsePList reads a property list, XML or binary. A binary one has no
// formatting to keep, so its values have no place in the bytes.
func parsePList(data []byte) (*node, error) {
	var whole any
	if _, err := plist.Unmarshal(data, &whole); err != nil {
		return nil, err
	}
	if isBinaryPList(PList, data) {
		return plainTree(whole, 0)
	}
	e, err := elements(data)
	if err != nil {
		return nil, err
	}
	if e.name != "plist" || len(e.children) != 1 {
		return nil, errors.New("it is no property list")
	}
	return e.children[0].plist()
}

func (e *element) plist() (*node, error) {
	switch e.name {
	case "dict":
		n := &node{kind: object}
		if len(e.children)%2 != 0 {
			return nil, errors.New("a key has no value")
		}
		for i := 0; i < len(e.children); i += 2 {
			if e.children[i].name != "key" {
				return nil, errors.New("a value has no key")
			}
			c, err := e.children[i+1].plist()
			if err != nil {
				return nil, err
			}
			c.key = e.children[i].text
			n.children = append(n.children, c)
		}
		return n, nil
	case "array":
		n := &node{kind: list}
		for _, c := range e.children {
			v, err := c.plist()
			if err != nil {
				return nil, err
			}
			v.item = [2]int{c.start, c.end}
			n.children = append(n.children, v)
		}
		return n, nil
	case "string":
		n := e.value()
		n.text, n.plain = e.text, e.pieces <= 1 && len(e.children) == 0 && !e.single
		return n, nil
	}
	return &node{text: e.name + " " + e.text}, nil
}

// plainTree is a decoded property list as nodes without places.
func plainTree(v any, depth int) (*node, error) {
	if depth > maxDepth {
		return nil, errors.New("it is nested too deeply")
	}
	switch v := v.(type) {
	case map[string]any:
		n := &node{kind: object}
		for k, x := range v {
			c, err := plainTree(x, depth+1)
			if err != nil {
				return nil, err
			}
			c.key = k
			n.children = append(n.children, c)
		}
		return n, nil
	case []any:
		n := &node{kind: list}
		for _, x := range v {
			c, err := plainTree(x, depth+1)
			if err != nil {
				return nil, err
			}
			n.children = append(n.children, c)
		}
		return n, nil
	case string:
		return &node{text: v, plain: true, write: func(t string) (string, error) { return t, nil }}, nil
	}
	return &node{text: fmt.Sprint(v)}, nil
}

// changeBinary changes a binary property list: read, changed, written whole.
func changeBinary(data []byte, vs []Value, f rename) ([]byte, []Edit, error) {
	var whole any
	if _, err := plist.Unmarshal(data, &whole); err != nil {
		return nil, nil, &SyntaxError{PList, err}
	}
	var edits []Edit
	for _, v := range vs {
		text, yes := f(v.Text)
		if !yes {
			continue
		}
		at, err := steps(v.At)
		if err != nil {
			return nil, nil, err
		}
		if err := put(whole, at, text); err != nil {
			return nil, nil, err
		}
		edits = append(edits, Edit{At: v.At, Old: v.Text, New: text})
	}
	if len(edits) == 0 {
		return data, nil, nil
	}
	out, err := plist.Marshal(whole, plist.BinaryFormat)
	if err != nil {
		return nil, nil, err
	}
	return out, edits, nil
}

func put(in any, at []string, text string) error {
	switch v := in.(type) {
	case map[string]any:
		if len(at) == 1 {
			v[at[0]] = text
			return nil
		}
		return put(v[at[0]], at[1:], text)
	case []any:
		i, err := strconv.Atoi(at[0])
		if err != nil || i < 0 || i >= len(v) {
			return fmt.Errorf("%s: %w", strings.Join(at, "/"), ErrWitness)
		}
		if len(at) == 1 {
			v[i] = text
			return nil
		}
		return put(v[i], at[1:], text)
	}
	return ErrWitness
}
