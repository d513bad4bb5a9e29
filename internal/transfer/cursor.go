package transfer

import (
	"bufio"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"os"

	"nexlin/internal/compare"
	"nexlin/internal/handle"
)

// A Cursor reads a spool, or several one behind the other, in the one order.
type Cursor struct {
	parts []*reader
	rec   Record
	ok    bool
	last  string
}

// Read begins at the first entry. Of several spools the first counts as far
// as it goes, then the next takes over: that of a pass that was stopped,
// then that of the pass before it. Nil spools are passed over.
func Read(spools ...*Spool) *Cursor {
	c := &Cursor{}
	for _, s := range spools {
		if s != nil {
			_ = s.Flush() // what can't be written is read as not known
			c.parts = append(c.parts, newReader(s))
		}
	}
	c.Next()
	return c
}

// Peek gives the current record; nil at the end. It is valid until Next.
func (c *Cursor) Peek() *Record {
	if !c.ok {
		return nil
	}
	return &c.rec
}

// Next goes on to the next record.
func (c *Cursor) Next() {
	for len(c.parts) > 0 {
		if !c.parts[0].next(&c.rec) {
			c.parts = c.parts[1:]
			continue
		}
		if c.last != "" && handle.Compare(c.last, c.rec.Path) >= 0 {
			continue // known from the spool before
		}
		c.last, c.ok = c.rec.Path, true
		return
	}
	c.ok = false
}

// To is [compare.To] for records; nil has none.
func (c *Cursor) To(path string, alone func(*Record) error) (*Record, error) {
	if c == nil {
		return nil, nil
	}
	return compare.To(c, func(r *Record) string { return r.Path }, path, alone)
}

// Rest is [compare.Rest] for records.
func (c *Cursor) Rest(alone func(*Record) error) error { return compare.Rest(c, alone) }

type reader struct {
	names, facts *bufio.Reader
	stack        []string // path by depth
	ord          int64
	sum          summing
}

func newReader(s *Spool) *reader {
	section := func(f *os.File) *bufio.Reader {
		size := int64(64 << 10)
		if fi, err := f.Stat(); err == nil { // else reading it fails as well
			size = min(size, fi.Size()+1)
		}
		return bufio.NewReaderSize(io.NewSectionReader(f, 0, 1<<62), int(size))
	}
	r := &reader{names: section(s.names), facts: section(s.facts)}
	r.sum.r = r.names
	return r
}

// next reads a record; false at the end or where the spool is torn.
func (r *reader) next(rec *Record) bool {
	sum := &r.sum
	sum.bytes = sum.bytes[:0]
	depth := sum.number()
	name := sum.field()
	has := sum.byte()
	if sum.err != nil || depth > uint64(len(r.stack)) {
		return false
	}
	*rec = Record{Ord: r.ord, Depth: int(depth)}
	for i, f := range []*string{&rec.Link, &rec.Made, &rec.Origin, &rec.Same} {
		if has&(1<<i) != 0 {
			*f = sum.field()
		}
	}
	if has&hasRdev != 0 {
		rec.Rdev = sum.number()
	}
	if has&hasXattrs != 0 {
		for range min(sum.number(), 1<<16) {
			rec.Xattrs = append(rec.Xattrs, handle.Xattr{Name: sum.field(), Value: []byte(sum.field())})
		}
	}
	if !sum.check() {
		return false
	}
	if rec.Path = name; depth > 1 {
		rec.Path = r.stack[depth-1] + "/" + name
	}
	r.stack = append(r.stack[:depth], rec.Path)
	var b [factSize]byte
	if _, err := io.ReadFull(r.facts, b[:]); err == nil {
		rec.Fact.get(b[:])
	}
	r.ord++
	return true
}

// summing reads fields and keeps their bytes, for the checksum behind them.
type summing struct {
	r     *bufio.Reader
	bytes []byte
	err   error
}

func (s *summing) number() (n uint64) {
	for shift := 0; s.err == nil; shift += 7 {
		b := s.byte()
		if n |= uint64(b&0x7f) << shift; b < 0x80 {
			return n
		}
		if shift >= 63 {
			s.err = errors.New("number too long")
		}
	}
	return 0
}

func (s *summing) byte() byte {
	if s.err != nil {
		return 0
	}
	var b byte
	b, s.err = s.r.ReadByte()
	s.bytes = append(s.bytes, b)
	return b
}

func (s *summing) field() string {
	n := s.number()
	if n > maxField {
		s.err = errors.New("field too long")
	}
	if s.err != nil {
		return ""
	}
	from := len(s.bytes)
	s.bytes = append(s.bytes, make([]byte, n)...)
	_, s.err = io.ReadFull(s.r, s.bytes[from:])
	return string(s.bytes[from:])
}

func (s *summing) check() bool {
	var b [4]byte
	if s.err == nil {
		_, s.err = io.ReadFull(s.r, b[:])
	}
	return s.err == nil && binary.LittleEndian.Uint32(b[:]) == crc32.ChecksumIEEE(s.bytes)
}
