package setting

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// element is an XML element and where it stands.
type element struct {
	name       string
	attrs      []*node
	children   []*element
	text       string // all character data directly in it
	pieces     int    // of character data, comments between them counted apart
	start, end int    // of the whole element
	from, to   int    // of what is between its tags; equal for an empty one
	single     bool   // written as <name/>
	said       []byte // its text as far as it was read
}

// elements reads an XML document; nothing outside it is fetched, and entities
// it declares itself are refused.
func elements(data []byte) (*element, error) {
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("it is written in %s, not in UTF-8", charset)
	}
	root := &element{}
	open := []*element{root}
	for {
		at := int(dec.InputOffset())
		tok, err := dec.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		end := int(dec.InputOffset())
		up := open[len(open)-1]
		switch t := tok.(type) {
		case xml.StartElement:
			if len(open) > maxDepth {
				return nil, errors.New("it is nested too deeply")
			}
			e := &element{name: qualified(t.Name), start: at, from: end, to: end, end: end}
			e.single = end-at > 1 && data[end-2] == '/'
			if err := e.attributes(data, t.Attr); err != nil {
				return nil, err
			}
			up.children = append(up.children, e)
			open = append(open, e)
		case xml.EndElement:
			if len(open) == 1 || up.name != qualified(t.Name) {
				return nil, fmt.Errorf("</%s> ends nothing", qualified(t.Name))
			}
			up.end = end
			if !up.single {
				up.to = at
			}
			up.text, up.said = string(up.said), nil
			open = open[:len(open)-1]
		case xml.CharData:
			up.said = append(up.said, t...)
			up.pieces++
		case xml.Comment, xml.ProcInst:
			up.pieces++
		}
	}
	if len(open) > 1 {
		return nil, fmt.Errorf("<%s> is not closed", open[len(open)-1].name)
	}
	if len(root.children) != 1 {
		return nil, errors.New("it has no single root element")
	}
	return root.children[0], nil
}

func qualified(n xml.Name) string {
	if n.Space != "" {
		return n.Space + ":" + n.Local
	}
	return n.Local
}

// attributes finds where the values of a start tag's attributes stand.
func (e *element) attributes(data []byte, attrs []xml.Attr) error {
	at := e.start
	for _, a := range attrs {
		name := qualified(a.Name)
		for {
			i := bytes.Index(data[at:e.from], []byte(name))
			if i < 0 {
				return fmt.Errorf("the attribute %s of <%s> is not where it should be", name, e.name)
			}
			at += i + len(name)
			rest := bytes.TrimLeft(data[at:e.from], " \t\r\n")
			if !bytes.HasPrefix(rest, []byte("=")) {
				continue // a part of another name
			}
			rest = bytes.TrimLeft(rest[1:], " \t\r\n")
			if len(rest) == 0 || rest[0] != '"' && rest[0] != '\'' {
				return fmt.Errorf("the attribute %s of <%s> has no quotes", name, e.name)
			}
			from := e.from - len(rest) + 1
			to := from + bytes.IndexByte(data[from:e.from], rest[0])
			e.attrs = append(e.attrs,
				&node{key: "@" + name, start: from, end: to, text: a.Value, plain: true, write: writeXML})
			at = to + 1
			break
		}
	}
	return nil
}

func writeXML(text string) (string, error) {
	var b strings.Builder
	err := xml.EscapeText(&b, []byte(text))
	return b.String(), err
}

// value is the text of an element that has nothing but text.
func (e *element) value() *node {
	n := &node{start: e.from, end: e.to, item: [2]int{e.start, e.end}, text: e.text}
	if e.pieces <= 1 && len(e.children) == 0 && !e.single {
		n.plain, n.write = true, writeXML
		// The space around a text is the file's, not the text's.
		n.text = strings.TrimSpace(e.text)
		if n.text != "" && n.text == e.text {
			return n
		}
		n.plain = n.text == e.text
	}
	return n
}

// parseXML reads XML 1.0. Names are as written, with their prefixes.
func parseXML(data []byte) (*node, error) {
	e, err := elements(data)
	if err != nil {
		return nil, err
	}
	return &node{kind: object, children: []*node{e.node(e.name)}}, nil
}

// node is an element as a node: an object of its attributes and elements, or
// its text. A second element of one name is name[2].
func (e *element) node(key string) *node {
	if len(e.attrs) == 0 && len(e.children) == 0 {
		n := e.value()
		n.key = key
		return n
	}
	n := &node{kind: object, key: key, children: e.attrs}
	if len(e.children) == 0 {
		v := e.value()
		v.key = "text()"
		n.children = append(n.children, v)
	}
	seen := map[string]int{}
	for _, c := range e.children {
		seen[c.name]++
		key := c.name
		if seen[key] > 1 {
			key += "[" + strconv.Itoa(seen[c.name]) + "]"
		}
		n.children = append(n.children, c.node(key))
	}
	return n
}
