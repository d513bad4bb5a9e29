package manifest

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"nexlin/internal/handle"
)

// A FormatError says where a manifest can't be read, and why. Line counts
// from 1.
type FormatError struct {
	Line int
	Why  string
}

func (e *FormatError) Error() string { return fmt.Sprintf("manifest, line %d: %s", e.Line, e.Why) }

// A Reader reads entries back. What it reads comes from a drive and is
// hostile: a path that leaves the folder, or stands out of order, is an
// error.
type Reader struct {
	s      *bufio.Scanner
	line   int
	ahead  string // a line read too far, "" if none
	last   string
	ended  bool
	opened bool
}

// NewReader reads a manifest from r. Errors come with the first Next.
func NewReader(r io.Reader) *Reader {
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 8<<10), maxLine)
	return &Reader{s: s}
}

func (m *Reader) bad(format string, args ...any) error {
	return &FormatError{max(m.line, 1), fmt.Sprintf(format, args...)}
}

func (m *Reader) scan() (string, error) {
	if m.ahead != "" {
		l := m.ahead
		m.ahead = ""
		return l, nil
	}
	if m.s.Scan() {
		m.line++
		return m.s.Text(), nil
	}
	if err := m.s.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			m.line++
			return "", m.bad("longer than %d bytes", maxLine)
		}
		return "", err
	}
	return "", io.EOF
}

func (m *Reader) open() error {
	for _, want := range strings.Split(strings.TrimSuffix(header, "\n"), "\n") {
		l, err := m.scan()
		if err != nil && err != io.EOF {
			return err
		}
		if err == io.EOF || l != want {
			return m.bad("%q expected: no manifest, or of a version that this Nexlin does not know", want)
		}
	}
	m.opened = true
	return nil
}

// Next reads one entry into e. At the end it is io.EOF; a manifest without
// its last line, or with anything after it, is a *FormatError.
func (m *Reader) Next(e *Entry) error {
	if !m.opened {
		if err := m.open(); err != nil {
			return err
		}
	}
	if m.ended {
		return io.EOF
	}
	l, err := m.scan()
	if err == io.EOF {
		return m.bad("the manifest ends in the middle")
	}
	if err != nil {
		return err
	}
	if l+"\n" == trailer {
		m.ended = true
		if _, err := m.scan(); err != io.EOF {
			return m.bad("there is more after the end")
		}
		return io.EOF
	}
	*e = Entry{}
	if err := m.entry(l, e); err != nil {
		return err
	}
	if m.last == "" && e.Path != "." {
		return m.bad("the folder itself has to come first")
	}
	if m.last != "" && handle.Compare(m.last, e.Path) >= 0 {
		return m.bad("%q is out of order", e.Path)
	}
	m.last = e.Path
	return m.comments(e)
}

// A comment is a kind of line that may follow an entry it fits.
type comment struct {
	prefix string
	fits   bool
	read   func(string) error
}

// comments reads the lines of ours that follow an entry, in their order.
func (m *Reader) comments(e *Entry) error {
	kinds := []comment{
		{"#nexlin same ", !e.is(handle.TypeDir), func(v string) (err error) {
			if e.Same, err = parsePath(v); err == nil && handle.Compare(e.Same, e.Path) >= 0 {
				err = errors.New("the first name comes first")
			}
			return err
		}},
		{"#nexlin was ", e.is(handle.TypeSymlink), func(v string) (err error) {
			if e.Was, err = unvis(v); err == nil && e.Was == "" {
				err = errors.New("not a text")
			}
			return err
		}},
		{"#nexlin blake3 ", e.BLAKE3, func(v string) error { return parseDigest(v, &e.Digest) }},
	}
	digested := false
	for next := 0; ; {
		l, err := m.scan()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if l == "" {
			return m.bad("empty line")
		}
		at := slices.IndexFunc(kinds[next:], func(k comment) bool { return k.fits && strings.HasPrefix(l, k.prefix) })
		if at < 0 {
			if rest, ok := strings.CutPrefix(l, "#nexlin xattr "); ok {
				next = len(kinds)
				if err := m.xattr(rest, e); err != nil {
					return err
				}
				continue
			}
			m.ahead = l
			break
		}
		k := kinds[next+at]
		if err := k.read(strings.TrimPrefix(l, k.prefix)); err != nil {
			return m.bad("%v", err)
		}
		next += at + 1
		digested = digested || next == len(kinds)
	}
	if e.BLAKE3 && !digested {
		return m.bad("a file without a digest")
	}
	return nil
}

func (m *Reader) xattr(rest string, e *Entry) error {
	name, value, ok := strings.Cut(rest, " ")
	if !ok || len(e.Xattrs) >= maxXattrs {
		return m.bad("not an attribute")
	}
	x := handle.Xattr{}
	var err error
	if x.Name, err = unvis(name); err != nil || x.Name == "" {
		return m.bad("not an attribute's name")
	}
	if x.Value, err = hex.DecodeString(value); err != nil {
		return m.bad("not an attribute's value")
	}
	total := len(x.Value)
	for _, o := range e.Xattrs {
		total += len(o.Value)
	}
	if total > maxXattrBytes {
		return m.bad("attributes of more than %d bytes", maxXattrBytes)
	}
	if n := len(e.Xattrs); n > 0 && e.Xattrs[n-1].Name >= x.Name {
		return m.bad("attributes are out of order")
	}
	e.Xattrs = append(e.Xattrs, x)
	return nil
}

func parseDigest(s string, out *[32]byte) error {
	d, err := hex.DecodeString(s)
	if err != nil || len(d) != len(out) || s != strings.ToLower(s) {
		return errors.New("digest: not 64 hex digits")
	}
	copy(out[:], d)
	return nil
}

func (m *Reader) entry(l string, e *Entry) error {
	path, rest, _ := strings.Cut(l, " ")
	var err error
	if e.Path, err = parsePath(path); err != nil {
		return m.bad("%v", err)
	}
	seen := map[string]string{}
	for word := range strings.FieldsSeq(rest) {
		k, v, ok := strings.Cut(word, "=")
		if _, twice := seen[k]; !ok || twice {
			return m.bad("%q is no keyword with a value, or stands twice", k)
		}
		seen[k] = v
	}
	if err := fill(e, seen); err != nil {
		return m.bad("%v", err)
	}
	return nil
}

func parsePath(s string) (string, error) {
	if s == "." {
		return ".", nil
	}
	rel, ok := strings.CutPrefix(s, "./")
	if !ok {
		return "", errors.New("a path begins with ./")
	}
	p, err := unvis(rel)
	if err != nil {
		return "", err
	}
	for part := range strings.SplitSeq(p, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
			return "", fmt.Errorf("%q is no path below the folder", p)
		}
	}
	return p, nil
}

// fill takes the keywords that the entry's type has, all of them, and no
// other.
func fill(e *Entry, kv map[string]string) error {
	take := func(k string) string { v := kv[k]; delete(kv, k); return v }
	var errs []error
	number := func(k string, base, bits int) uint64 {
		n, err := strconv.ParseUint(take(k), base, bits)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: no number", k))
		}
		return n
	}
	kind, ok := types[take("type")]
	if !ok {
		return errors.New("type is missing or unknown")
	}
	perm := number("mode", 8, 32)
	if perm > 0o7777 {
		errs = append(errs, errors.New("mode: too large"))
	}
	e.Mode = kind | uint32(perm)
	e.UID, e.GID = uint32(number("uid", 10, 32)), uint32(number("gid", 10, 32))
	var err error
	if e.Mtime, err = parseTime(take("time")); err != nil {
		errs = append(errs, err)
	}
	switch kind {
	case handle.TypeRegular:
		e.Size = int64(number("size", 10, 63))
		if d := take("sha256digest"); d == "" {
			e.BLAKE3 = true // a comment has to follow
		} else if err := parseDigest(d, &e.Digest); err != nil {
			errs = append(errs, err)
		}
	case handle.TypeChar, handle.TypeBlock:
		d, ok := strings.CutPrefix(take("device"), "0x")
		if e.Rdev, err = strconv.ParseUint(d, 16, 64); err != nil || !ok {
			errs = append(errs, errors.New("device: no number"))
		}
	case handle.TypeSymlink:
		if e.Link, err = unvis(take("link")); err != nil || e.Link == "" {
			errs = append(errs, errors.New("link: not a text"))
		}
	}
	for k := range kv {
		errs = append(errs, fmt.Errorf("%q is no keyword of a %s", k, "manifest of ours"))
	}
	return errors.Join(errs...)
}

func parseTime(s string) (handle.Time, error) {
	sec, frac, ok := strings.Cut(s, ".")
	n, err := strconv.ParseInt(sec, 10, 64)
	f, err2 := strconv.ParseUint(frac, 10, 32)
	if !ok || err != nil || err2 != nil || len(frac) != 9 {
		return handle.Time{}, errors.New("time: not seconds with nine digits behind the point")
	}
	return handle.Time{Sec: n, Nsec: uint32(f)}, nil
}

// unvis takes back what vis wrote, and accepts nothing that vis would not
// have written, so that one entry has one spelling.
func unvis(s string) (string, error) {
	if !strings.Contains(s, `\`) {
		if vis(s) != s {
			return "", fmt.Errorf("%q has bytes that must be encoded", s)
		}
		return s, nil
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			b.WriteByte(s[i])
			continue
		}
		if i+4 > len(s) {
			return "", fmt.Errorf("%q ends in half an escape", s)
		}
		n, err := strconv.ParseUint(s[i+1:i+4], 8, 8)
		if err != nil {
			return "", fmt.Errorf("%q has an escape that is none", s)
		}
		b.WriteByte(byte(n))
		i += 3
	}
	if out := b.String(); vis(out) == s {
		return out, nil
	}
	return "", fmt.Errorf("%q is not encoded as it must be", s)
}
