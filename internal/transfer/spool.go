package transfer

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/handle"
)

// A spool is the run's own record of one pass, two files in the run's state:
//
//	pass-N.names  per entry, in the one order: depth, name, link text,
//	              extended attributes; varints and bytes, a CRC-32 behind each
//	pass-N.facts  per entry, by ordinal, factSize bytes: flags, the source as
//	              it was, the copy as it was made, the digest, a CRC-32
//
// A name is written before the entry is made in the part, so that after a
// kill everything of ours there is known. Facts follow from any worker. A
// torn or missing record ends the reading: what it said is then not known,
// and the copy of it is made anew.

// Flags of a [Fact].
const (
	Copied   = 1 << iota // the copy was made whole
	Verified             // and read back equal
	Again                // it changed while it was copied: the next pass redoes it
	Recent               // its time stamps can't tell whether it changed: compare the digest
)

// A Fact is what a pass knows of one entry.
type Fact struct {
	Flags  uint8
	Source Snap
	Copy   Snap
	Digest [32]byte
}

const (
	snapSize = 2*8 + 2*12 + 4*4 + 16
	factSize = 8 + 2*snapSize + 32 + 4
	maxField = 1 << 20 // bytes; no name, link or attribute is longer
)

// A Record is an entry of a spool.
type Record struct {
	Ord    int64
	Path   string
	Depth  int
	Link   string
	Xattrs []handle.Xattr
	Fact   Fact
}

// IsDir reports whether the entry was a directory.
func (r *Record) IsDir() bool { return r.Fact.Source.Mode&0o170000 == 0o040000 }

// A Spool is open for one pass. Append is for one goroutine, Put for many.
type Spool struct {
	names, facts *os.File
	count        int64
	buf          []byte
}

func spoolFiles(dir string, n int) (string, string) {
	base := filepath.Join(dir, fmt.Sprintf("pass-%d", n))
	return base + ".names", base + ".facts"
}

// CreateSpool begins the spool of pass n in dir; one that is there is
// replaced.
func CreateSpool(dir string, n int) (*Spool, error) {
	return openSpool(dir, n, os.O_RDWR|os.O_CREATE|os.O_TRUNC)
}

// OpenSpool opens a spool that was written. fs.ErrNotExist if there is none.
func OpenSpool(dir string, n int) (*Spool, error) { return openSpool(dir, n, os.O_RDWR) }

func openSpool(dir string, n, flags int) (*Spool, error) {
	a, b := spoolFiles(dir, n)
	names, err := os.OpenFile(a, flags, 0o600)
	if err != nil {
		return nil, &SpoolError{a, err}
	}
	facts, err := os.OpenFile(b, flags, 0o600)
	if err != nil {
		names.Close()
		return nil, &SpoolError{b, err}
	}
	return &Spool{names: names, facts: facts}, nil
}

// Spools lists the passes that have left a spool in dir, oldest first.
func Spools(dir string) []int {
	var out []int
	found, _ := filepath.Glob(filepath.Join(dir, "pass-*.names")) // the pattern is right
	for _, f := range found {
		var n int
		if _, err := fmt.Sscanf(filepath.Base(f), "pass-%d.names", &n); err == nil {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// RemoveSpool removes the spool of pass n; that there is none is no error.
func RemoveSpool(dir string, n int) error {
	a, b := spoolFiles(dir, n)
	var errs []error
	for _, f := range []string{a, b} {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, &SpoolError{f, err})
		}
	}
	return errors.Join(errs...)
}

// Close closes the files.
func (s *Spool) Close() error {
	if s == nil {
		return nil
	}
	return errors.Join(s.names.Close(), s.facts.Close())
}

// Sync flushes the spool.
func (s *Spool) Sync() error { return errors.Join(s.names.Sync(), s.facts.Sync()) }

// Append adds an entry and returns its ordinal. It is in the file, though
// not flushed to the device, when Append returns.
func (s *Spool) Append(depth int, name, link string, xattrs []handle.Xattr) (int64, error) {
	b := binary.AppendUvarint(s.buf[:0], uint64(depth))
	b = appendField(b, name)
	b = appendField(b, link)
	b = binary.AppendUvarint(b, uint64(len(xattrs)))
	for _, x := range xattrs {
		b = appendField(b, x.Name)
		b = appendField(b, string(x.Value))
	}
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	s.buf = b
	if _, err := s.names.Write(b); err != nil {
		return 0, &SpoolError{s.names.Name(), err}
	}
	s.count++
	return s.count - 1, nil
}

func appendField(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// Put writes the fact of one entry.
func (s *Spool) Put(ord int64, f *Fact) error {
	b := append(make([]byte, 0, factSize), f.Flags, 0, 0, 0, 0, 0, 0, 0)
	b = f.Source.put(b)
	b = f.Copy.put(b)
	b = append(b, f.Digest[:]...)
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	if _, err := s.facts.WriteAt(b, ord*factSize); err != nil {
		return &SpoolError{s.facts.Name(), err}
	}
	return nil
}

func (f *Fact) get(b []byte) bool {
	body := b[:factSize-4]
	if crc32.ChecksumIEEE(body) != binary.LittleEndian.Uint32(b[factSize-4:]) {
		*f = Fact{}
		return false
	}
	f.Flags = b[0]
	rest := f.Copy.get(f.Source.get(body[8:]))
	copy(f.Digest[:], rest)
	return true
}

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

type reader struct {
	names, facts *bufio.Reader
	stack        []string // path by depth
	ord          int64
}

func newReader(s *Spool) *reader {
	section := func(f *os.File) *bufio.Reader {
		return bufio.NewReaderSize(io.NewSectionReader(f, 0, 1<<62), 64<<10)
	}
	return &reader{names: section(s.names), facts: section(s.facts)}
}

// next reads a record; false at the end or where the spool is torn.
func (r *reader) next(rec *Record) bool {
	sum := summing{r: r.names}
	depth := sum.number()
	name := sum.field()
	link := sum.field()
	n := sum.number()
	if sum.err != nil || n > 1<<16 || depth > uint64(len(r.stack)) {
		return false
	}
	*rec = Record{Ord: r.ord, Depth: int(depth), Link: link}
	for range n {
		rec.Xattrs = append(rec.Xattrs, handle.Xattr{Name: sum.field(), Value: []byte(sum.field())})
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

// summing reads fields and keeps their checksum.
type summing struct {
	r   *bufio.Reader
	sum uint32
	err error
}

func (s *summing) number() uint64 {
	if s.err != nil {
		return 0
	}
	n, err := binary.ReadUvarint(s.r)
	s.err = err
	s.add(binary.AppendUvarint(nil, n))
	return n
}

func (s *summing) field() string {
	n := s.number()
	if n > maxField {
		s.err = errors.New("field too long")
	}
	if s.err != nil {
		return ""
	}
	b := make([]byte, n)
	_, s.err = io.ReadFull(s.r, b)
	s.add(b)
	return string(b)
}

func (s *summing) add(b []byte) { s.sum = crc32.Update(s.sum, crc32.IEEETable, b) }

func (s *summing) check() bool {
	var b [4]byte
	if s.err == nil {
		_, s.err = io.ReadFull(s.r, b[:])
	}
	return s.err == nil && binary.LittleEndian.Uint32(b[:]) == s.sum
}

// Base is the last component of a relative path.
func Base(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }
