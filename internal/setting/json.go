package setting

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"slices"
)

// parseJSON reads JSON (RFC 8259), and with it comments and trailing commas,
// as editors' settings have them.
func parseJSON(data []byte) (*node, error) {
	clean := blankComments(data)
	p := &jsonParser{data: clean, dec: json.NewDecoder(bytes.NewReader(clean))}
	p.dec.UseNumber()
	root, err := p.value(0)
	if err != nil {
		return nil, err
	}
	if _, err := p.dec.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the value")
	}
	return root, nil
}

type jsonParser struct {
	data []byte
	dec  *json.Decoder
}

// begin is where the next token starts.
func (p *jsonParser) begin() int {
	at := int(p.dec.InputOffset())
	for at < len(p.data) && bytes.IndexByte([]byte(" \t\r\n,:"), p.data[at]) >= 0 {
		at++
	}
	return at
}

func (p *jsonParser) value(depth int) (*node, error) {
	if depth > maxDepth {
		return nil, errors.New("it is nested too deeply")
	}
	n := &node{start: p.begin()}
	tok, err := p.dec.Token()
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return nil, err
	}
	switch t := tok.(type) {
	case json.Delim:
		n.kind = object
		if t == '[' {
			n.kind = list
		}
		for p.dec.More() {
			key := ""
			if n.kind == object {
				k, err := p.dec.Token()
				if err != nil {
					return nil, err
				}
				key, _ = k.(string) // the decoder takes nothing else
			}
			c, err := p.value(depth + 1)
			if err != nil {
				return nil, err
			}
			c.key, c.item = key, [2]int{c.start, c.end}
			n.children = append(n.children, c)
		}
		if _, err := p.dec.Token(); err != nil {
			return nil, err
		}
	case string:
		n.text, n.plain, n.write = t, true, writeJSON
	default:
		n.text = string(p.data[n.start:int(p.dec.InputOffset())])
	}
	n.end = int(p.dec.InputOffset())
	return n, nil
}

func writeJSON(text string) (string, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(text)
	return string(bytes.TrimSpace(b.Bytes())), err
}

// blankComments puts spaces where comments and trailing commas stand, so that
// every offset stays.
func blankComments(data []byte) []byte {
	out := slices.Clone(data)
	comma := -1 // a comma after which nothing has come yet
	for i := 0; i < len(out); i++ {
		if end := commentEnd(out, i); end > i {
			for ; i < end; i++ {
				if out[i] != '\n' {
					out[i] = ' '
				}
			}
			i--
			continue
		}
		switch c := out[i]; c {
		case ',':
			comma = i
		case ']', '}':
			if comma >= 0 {
				out[comma] = ' '
			}
			comma = -1
		case '"':
			i = stringEnd(out, i)
			comma = -1
		case ' ', '\t', '\r', '\n':
		default:
			comma = -1
		}
	}
	return out
}

// commentEnd is where the comment ends that begins at i; i if none does, or if it
// does not end.
func commentEnd(b []byte, i int) int {
	switch {
	case bytes.HasPrefix(b[i:], []byte("//")):
		if n := bytes.IndexByte(b[i:], '\n'); n >= 0 {
			return i + n
		}
		return len(b)
	case bytes.HasPrefix(b[i:], []byte("/*")):
		if n := bytes.Index(b[i+2:], []byte("*/")); n >= 0 {
			return i + n + 4
		}
	}
	return i
}

// stringEnd is where the closing quote of the string stands that begins at i, or the
// end of b.
func stringEnd(b []byte, i int) int {
	for i++; i < len(b) && b[i] != '"'; i++ {
		if b[i] == '\\' {
			i++
		}
	}
	return i
}
