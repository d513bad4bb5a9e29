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
	taken Record // by To and Rest
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

// To is [compare.To] for records; nil has none. A record is valid until the next To or Rest.
func (c *Cursor) To(path string, alone func(*Record) error) (*Record, error) {
	if c == nil {
		return nil, nil
	}
	return compare.To(c, &c.taken, func(r *Record) string { return r.Path }, path, alone)
}

// Rest is [compare.Rest] for records.
func (c *Cursor) Rest(alone func(*Record) error) error { return compare.Rest(c, &c.taken, alone) }

type reader struct {
	names, facts *bufio.Reader
	stack        []string // path by depth
	path         []byte   // of the record that is read
	fact         [factSize]byte
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
	name := sum.raw()
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
	at := r.path[:0]
	if depth > 1 {
		at = append(append(at, r.stack[depth-1]...), '/')
	}
	at = append(at, sum.bytes[name.from:name.to]...)
	r.path, rec.Path = at, string(at)
	r.stack = append(r.stack[:depth], rec.Path)
	if _, err := io.ReadFull(r.facts, r.fact[:]); err == nil {
		rec.Fact.get(r.fact[:])
	}
	r.ord++
	return true
}

// summing reads fields and keeps their bytes, for the checksum behind them.
type summing struct {
	r     *bufio.Reader
	bytes []byte
	crc   [4]byte
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

// part says which of the bytes that were read a field is.
type part struct{ from, to int }

func (s *summing) raw() part {
	n := s.number()
	if n > maxField {
		s.err = errors.New("field too long")
	}
	from := len(s.bytes)
	if s.err != nil {
		return part{from, from}
	}
	s.bytes = append(s.bytes, make([]byte, n)...)
	_, s.err = io.ReadFull(s.r, s.bytes[from:])
	return part{from, len(s.bytes)}
}

func (s *summing) field() string {
	p := s.raw()
	return string(s.bytes[p.from:p.to])
}

func (s *summing) check() bool {
	if s.err == nil {
		_, s.err = io.ReadFull(s.r, s.crc[:])
	}
	return s.err == nil && binary.LittleEndian.Uint32(s.crc[:]) == crc32.ChecksumIEEE(s.bytes)
}
