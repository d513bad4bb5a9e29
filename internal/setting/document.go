package setting

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// A Format is a kind of settings file.
type Format string

// The formats. Addresses in all of them are JSON Pointers (RFC 6901), with
// `*` for every member and every key; in XML a step is an element's name,
// with [n] for the nth of its name, or @name for an attribute.
const (
	JSON      Format = "json" // also with comments and trailing commas
	YAML      Format = "yaml"
	TOML      Format = "toml"
	INI       Format = "ini"
	XML       Format = "xml"
	PList     Format = "plist"    // XML and binary
	KeyValue  Format = "keyvalue" // KEY=value, as shells and environment files have it
	UserDirs  Format = "user-dirs"
	Bookmarks Format = "bookmarks" // a URI and a label in each line

	KnownFolder Format = "known-folder" // a value of the registry of Windows; no file, so not for cards
)

// Formats lists all of them.
func Formats() []Format {
	return []Format{JSON, YAML, TOML, INI, XML, PList, KeyValue, UserDirs, Bookmarks}
}

// Limit bounds a settings file, in bytes.
const Limit = 4 << 20

// maxDepth bounds how deep values are nested.
const maxDepth = 200

// A SyntaxError reports a settings file that can't be read in its format.
type SyntaxError struct {
	Format Format
	Err    error
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("it can't be read as %s: %v", e.Format, e.Err)
}
func (e *SyntaxError) Unwrap() error { return e.Err }

// ErrAddress reports an address that is no JSON Pointer.
var ErrAddress = errors.New("an address begins with / and has ~ only as ~0 and ~1")

// ErrNoText reports a value that is no text, so that no path can stand there.
var ErrNoText = errors.New("the value there is no text in one piece")

// ErrWitness reports that the file, once changed, does not read as it should:
// it was not written.
var ErrWitness = errors.New("the changed file would not read as meant")

// A kind of node.
type kind int

const (
	scalar kind = iota
	object
	list
)

// A node is a value of a settings file and where it stands in the bytes.
type node struct {
	kind     kind
	key      string // in an object; a list counts
	children []*node
	start    int // of the value as it is written
	end      int
	item     [2]int // of the whole member, for lists; both 0 elsewhere
	text     string // decoded; of a scalar
	plain    bool   // the scalar is a text in one piece that can be replaced
	home     bool   // it begins with the variable of the home directory
	write    func(text string) (string, error)
}

// A Value is one text in a settings file.
type Value struct {
	At   string // its exact address
	Text string // decoded
	Raw  string // as it is written
	node *node
	up   *node
}

// A document is a settings file that was read.
type document struct {
	format Format
	data   []byte
	root   *node
}

func parse(format Format, data []byte) (*document, error) {
	if len(data) > Limit {
		return nil, &SyntaxError{format, fmt.Errorf("it is larger than %d bytes", Limit)}
	}
	parsers := map[Format]func([]byte) (*node, error){
		JSON: parseJSON, YAML: parseYAML, TOML: parseTOML, INI: parseINI, XML: parseXML, PList: parsePList,
		KeyValue: parseKeyValue, UserDirs: parseUserDirs, Bookmarks: parseBookmarks,
		KnownFolder: parseKnownFolder,
	}
	f := parsers[format]
	if f == nil {
		return nil, fmt.Errorf("%q is no format of settings files", format)
	}
	if !utf8.Valid(data) && format != PList && format != KeyValue && format != UserDirs && format != Bookmarks {
		return nil, &SyntaxError{format, errors.New("it is not UTF-8")}
	}
	root, err := f(data)
	if err != nil {
		return nil, &SyntaxError{format, err}
	}
	return &document{format, data, root}, nil
}

// steps takes an address apart.
func steps(at string) ([]string, error) {
	if at == "" || at[0] != '/' {
		return nil, ErrAddress
	}
	out := strings.Split(at[1:], "/")
	for i, s := range out {
		for j := 0; j < len(s); j++ {
			if s[j] == '~' && (j+1 == len(s) || s[j+1] != '0' && s[j+1] != '1') {
				return nil, ErrAddress
			}
		}
		out[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(s)
	}
	return out, nil
}

// CheckAddress wants an address to be one; the error is [ErrAddress].
func CheckAddress(at string) error {
	_, err := steps(at)
	return err
}

func escape(s string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(s) }

// Values gives the texts at an address, in the order of the file; none if
// nothing is there. A *SyntaxError, [ErrAddress], or [ErrNoText] if what is
// addressed by name is no text.
func Values(format Format, data []byte, at string) ([]Value, error) {
	d, err := parse(format, data)
	if err != nil {
		return nil, err
	}
	return d.values(at)
}

func (d *document) values(at string) ([]Value, error) {
	want, err := steps(at)
	if err != nil {
		return nil, err
	}
	var out []Value
	err = d.root.walk(want, "", nil, true, func(n, up *node, at string, named bool) error {
		if n.kind != scalar || !n.plain {
			if named {
				return fmt.Errorf("%s: %w", at, ErrNoText)
			}
			return nil
		}
		raw := ""
		if n.end <= len(d.data) {
			raw = string(d.data[n.start:n.end])
		}
		out = append(out, Value{at, n.text, raw, n, up})
		return nil
	})
	return out, err
}

// walk calls f for every node that the steps lead to. named says that the
// last step was not `*`.
func (n *node) walk(want []string, at string, up *node, named bool,
	f func(n, up *node, at string, named bool) error) error {
	if len(want) == 0 {
		return f(n, up, at, named)
	}
	for i, c := range n.children {
		key := c.key
		if n.kind == list {
			key = strconv.Itoa(i)
		}
		if want[0] != "*" && want[0] != key {
			continue
		}
		if err := c.walk(want[1:], at+"/"+escape(key), n, want[0] != "*", f); err != nil {
			return err
		}
	}
	return nil
}

// all gives every text of a document by its address.
func (d *document) all() map[string]string {
	out := map[string]string{}
	var walk func(n *node, at string)
	walk = func(n *node, at string) {
		if n.kind == scalar {
			out[at] = n.text
			return
		}
		for i, c := range n.children {
			key := c.key
			if n.kind == list {
				key = strconv.Itoa(i)
			}
			at := at + "/" + escape(key)
			for _, taken := out[at]; taken; _, taken = out[at] {
				at += "\x00" // a key that stands there twice
			}
			walk(c, at)
		}
	}
	walk(d.root, "")
	return out
}

// An Edit is one value of a settings file that is changed.
type Edit struct {
	At  string `json:"at"`  // its exact address
	Old string `json:"old"` // as it was written; empty if it is added
	New string `json:"new"` // as it is written now, the whole line if it is added; empty if it is taken out
	Add bool   `json:"add"` // there was none
	Out bool   `json:"out"` // a member of a list that is taken out, with what parted it from its neighbour
}

// splice is a change of bytes.
type splice struct {
	start, end int
	with       string
}

func apply(data []byte, ss []splice) []byte {
	slices.SortFunc(ss, func(a, b splice) int { return b.start - a.start })
	out := slices.Clone(data)
	for _, s := range ss {
		out = slices.Concat(out[:s.start], []byte(s.with), out[s.end:])
	}
	return out
}

// A rename is what Redirect asks to be changed about a text: the new text, and
// whether it is to change at all.
type rename func(text string) (string, bool)

// change replaces the texts at an address as f says. A member of a list that
// would then stand there twice is taken out instead. The changed file is read
// again before it is returned: nothing but the addressed values may differ.
func change(format Format, data []byte, at string, f rename) ([]byte, []Edit, error) {
	d, err := parse(format, data)
	if err != nil {
		return nil, nil, err
	}
	vs, err := d.values(at)
	if err != nil {
		return nil, nil, err
	}
	if isBinaryPList(format, data) {
		return changeBinary(data, vs, f)
	}
	var ss []splice
	var edits []Edit
	want := d.all()
	gone := 0
	for _, v := range vs {
		text, yes := f(v.Text)
		if !yes {
			continue
		}
		if v.up != nil && v.up.kind == list && v.node.item[1] > 0 && v.up.has(text) {
			s := v.up.without(v.node)
			ss, gone = append(ss, s), gone+1
			edits = append(edits, Edit{At: v.At, Old: string(data[s.start:s.end]), Out: true})
			continue
		}
		raw, err := v.node.write(text)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", v.At, err)
		}
		ss = append(ss, splice{v.node.start, v.node.end, raw})
		edits = append(edits, Edit{At: v.At, Old: v.Raw, New: raw})
		want[v.At] = text
	}
	out := apply(data, ss)
	return out, edits, d.witness(out, want, gone)
}

// has reports whether a member with that text is in the list.
func (n *node) has(text string) bool {
	return slices.ContainsFunc(n.children, func(c *node) bool { return c.kind == scalar && c.plain && c.text == text })
}

// without gives the change that takes a member out of a list, together with
// what stands between it and its neighbour.
func (n *node) without(c *node) splice {
	i := slices.Index(n.children, c)
	switch {
	case i > 0:
		return splice{n.children[i-1].item[1], c.item[1], ""}
	case len(n.children) > 1:
		return splice{c.item[0], n.children[1].item[0], ""}
	}
	return splice{c.item[0], c.item[1], ""}
}

// witness reads the changed file and wants everything but what was meant to
// be as before.
func (d *document) witness(data []byte, want map[string]string, gone int) error {
	now, err := parse(d.format, data)
	if err != nil {
		return errors.Join(ErrWitness, err)
	}
	got := now.all()
	if gone > 0 { // members behind the one taken out have other numbers
		if len(got) != len(want)-gone {
			return ErrWitness
		}
		return nil
	}
	if len(got) != len(want) {
		return ErrWitness
	}
	for at, text := range want {
		if got[at] != text {
			return fmt.Errorf("%w at %s", ErrWitness, at)
		}
	}
	return nil
}

// Revert puts back what the edits changed, in a file that may have changed
// elsewhere meanwhile. A value that is not ours any more is left, and its
// address returned.
func Revert(format Format, data []byte, edits []Edit) (out []byte, left []string, err error) {
	out = data
	for _, e := range slices.Backward(edits) {
		d, err := parse(format, out)
		if err != nil {
			return nil, nil, err
		}
		var undo *splice
		switch {
		case e.Add:
			undo = d.added(e.New)
		case e.Out:
			undo = d.back(e)
		default:
			vs, err := d.values(e.At)
			if err != nil && !errors.Is(err, ErrNoText) {
				return nil, nil, err
			}
			if isBinaryPList(format, out) {
				var done []Edit
				out, done, err = changeBinary(out, vs, func(text string) (string, bool) { return e.Old, text == e.New })
				if err != nil {
					return nil, nil, err
				}
				if len(done) == 0 {
					left = append(left, e.At)
				}
				continue
			}
			if i := slices.IndexFunc(vs, func(v Value) bool { return v.Raw == e.New }); i >= 0 {
				undo = &splice{vs[i].node.start, vs[i].node.end, e.Old}
			}
		}
		if undo == nil {
			left = append(left, e.At)
			continue
		}
		out = apply(out, []splice{*undo})
	}
	return out, left, nil
}

// added finds a line that was added, exactly as it was; nil if it is not there
// any more.
func (d *document) added(text string) *splice {
	i := strings.LastIndex(string(d.data), text)
	if i < 0 || i > 0 && text[0] != '\n' && d.data[i-1] != '\n' {
		return nil
	}
	return &splice{i, i + len(text), ""}
}

// back puts a member into its list again; nil if the list is shorter now.
func (d *document) back(e Edit) *splice {
	i := strings.LastIndexByte(e.At, '/')
	n, err := strconv.Atoi(e.At[i+1:])
	up, serr := steps(e.At[:i])
	if i == 0 {
		up, serr = nil, nil
	}
	if err != nil || serr != nil {
		return nil
	}
	var out *splice
	_ = d.root.walk(up, "", nil, true, func(l, _ *node, _ string, _ bool) error { // the function returns no error
		switch {
		case l.kind != list || n > len(l.children) || len(l.children) == 0:
		case n > 0:
			at := l.children[n-1].item[1]
			out = &splice{at, at, e.Old}
		default:
			at := l.children[0].item[0]
			out = &splice{at, at, e.Old}
		}
		return nil
	})
	return out
}
