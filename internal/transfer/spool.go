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
	"sync"

	"nexlin/internal/handle"
)

// A spool is the run's own record of one pass, two files in the run's state:
//
//	pass-N.names  per entry, in the one order: depth, name, which of the
//	              following there are; link text in the source, in the copy,
//	              to be put back; first name of a hard-linked file; device
//	              number; extended attributes; varints and bytes, a CRC-32
//	              behind each entry
//	pass-N.facts  per entry, by ordinal, factSize bytes: flags, the source as
//	              it was, the copy as it was made, digest and sum, a CRC-32
//
// A name is in its file before the entry is made in the part, so that after
// a kill everything of ours there is known. Facts follow from any worker, a
// few hundred at a time. A torn or missing record ends the reading or says
// nothing: what it said is then not known, and the copy of it is made anew.

// Flags of a [Fact].
const (
	Copied   = 1 << iota // the copy was made whole
	Verified             // and read back equal
	Again                // it changed while it was copied: the next pass redoes it
	Recent               // its time stamps can't tell whether it changed: compare the content
	Merged               // its copy was given a place among entries that were there before
	Lent                 // it was taken from the held original with a directory around it, or is that
)

// A Fact is what a pass knows of one entry.
type Fact struct {
	Flags  uint8
	Source Snap
	Copy   Snap
	Digest [32]byte // of a regular file's content, for the manifest
	Sum    Sum      // of the same content, by which copies are compared
}

const (
	snapSize = 2*8 + 2*12 + 4*4 + 16
	factSize = 8 + 2*snapSize + 32 + 16 + 4
	maxField = 1 << 20 // bytes; no name, link or attribute is longer
	window   = 512     // facts held back side by side
	windows  = 4       // places in the file where they are: passes and read-back go at their own pace
	// heldBack bounds what would be copied again after a kill, in bytes.
	heldBack = 8 << 20
)

// A Record is an entry of a spool.
type Record struct {
	Ord    int64
	Path   string
	Depth  int
	Link   string // text of a symbolic link in the source
	Made   string // its text in the copy where that is another; else empty
	Origin string // what it says again once it is home, if nobody changed it
	Same   string // further name of a hard-linked file: its first name
	Rdev   uint64 // of a device node
	Xattrs []handle.Xattr
	Fact   Fact
}

// LinkOf is the text of a symbolic link on one side.
func (r *Record) LinkOf(s Side) string {
	if s == Copy && r.Made != "" {
		return r.Made
	}
	return r.Link
}

// Type is the type bits of the entry's mode.
func (r *Record) Type() uint32 { return r.Fact.Source.Mode & 0o170000 }

// IsDir reports whether the entry was a directory.
func (r *Record) IsDir() bool { return r.Type() == 0o040000 }

// undone says that the pass made no copy, since what it was to copy changed or went
// under its hands.
func (f *Fact) undone() bool { return f.Flags&(Again|Copied) == Again }

// IsRegular reports whether the entry was a regular file.
func (r *Record) IsRegular() bool { return r.Type() == 0o100000 }

// A Spool is open for one pass. Append is for one goroutine, Put for many.
type Spool struct {
	names, facts *os.File
	ahead        *bufio.Writer // before names
	count        int64
	buf          []byte

	mu    sync.Mutex
	held  [windows]factWindow
	clock int64
	bytes int64 // size of the files that the facts held back are about
	one   [factSize]byte
}

// A factWindow holds facts back that lie side by side in the file.
type factWindow struct {
	base  int64 // ordinal of the first
	used  int64 // when it was used last, by the spool's clock
	facts []byte
	dirty [window]bool // which of them
}

func spoolFiles(dir string, n int) (string, string) {
	base := filepath.Join(dir, fmt.Sprintf("pass-%d", n))
	return base + ".names", base + ".facts"
}

// CreateSpool begins the spool of pass n in dir; one that is there is
// replaced.
func CreateSpool(dir string, n int) (*Spool, error) {
	return openSpool(dir, n, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 64<<10)
}

// OpenSpool opens a spool that was written. fs.ErrNotExist if there is none.
func OpenSpool(dir string, n int) (*Spool, error) { return openSpool(dir, n, os.O_RDWR, 0) }

func openSpool(dir string, n, flags, ahead int) (*Spool, error) {
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
	return &Spool{names: names, facts: facts, ahead: bufio.NewWriterSize(names, max(ahead, 1))}, nil
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

// RemoveSpools removes the spools of all passes in dir.
func RemoveSpools(dir string) error {
	for _, n := range Spools(dir) {
		if err := RemoveSpool(dir, n); err != nil {
			return err
		}
	}
	return nil
}

// Close writes what is held back and closes the files.
func (s *Spool) Close() error {
	if s == nil {
		return nil
	}
	return errors.Join(s.Flush(), s.names.Close(), s.facts.Close())
}

// Flush writes what is held back to the files, not to the device.
func (s *Spool) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return handle.InOrder(s.FlushNames, s.flushFacts)
}

// FlushNames writes the names appended so far. It has to be called before
// one of these entries is made, by the goroutine that appends.
func (s *Spool) FlushNames() error {
	if s.ahead.Buffered() == 0 {
		return nil
	}
	if err := s.ahead.Flush(); err != nil {
		return &SpoolError{s.names.Name(), err}
	}
	return nil
}

// Sync flushes the spool to the device.
func (s *Spool) Sync() error { return handle.InOrder(s.FlushNames, s.SyncMade) }

// SyncMade flushes to the device what the spool says of the entries that were
// made so far. Any goroutine may call it while another appends.
func (s *Spool) SyncMade() error {
	s.mu.Lock()
	err := s.flushFacts()
	s.mu.Unlock()
	if err != nil {
		return err
	}
	return handle.InOrder(s.names.Sync, s.facts.Sync)
}

// Which fields of a record are there.
const (
	hasLink = 1 << iota
	hasMade
	hasOrigin
	hasSame
	hasRdev
	hasXattrs
)

// Append adds the entry that r describes, its fact left aside, and gives it
// its ordinal. See FlushNames.
func (s *Spool) Append(r *Record) error {
	b := binary.AppendUvarint(s.buf[:0], uint64(r.Depth))
	b = appendField(b, Base(r.Path))
	has := byte(0)
	for i, there := range []bool{r.Link != "", r.Made != "", r.Origin != "", r.Same != "", r.Rdev != 0,
		len(r.Xattrs) > 0} {
		if there {
			has |= 1 << i
		}
	}
	b = append(b, has)
	for _, f := range []string{r.Link, r.Made, r.Origin, r.Same} {
		if f != "" {
			b = appendField(b, f)
		}
	}
	if r.Rdev != 0 {
		b = binary.AppendUvarint(b, r.Rdev)
	}
	if len(r.Xattrs) > 0 {
		b = binary.AppendUvarint(b, uint64(len(r.Xattrs)))
		for _, x := range r.Xattrs {
			b = appendField(b, x.Name)
			b = appendField(b, string(x.Value))
		}
	}
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	s.buf = b
	if _, err := s.ahead.Write(b); err != nil {
		return &SpoolError{s.names.Name(), err}
	}
	r.Ord = s.count
	s.count++
	return nil
}

func appendField(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// Put records the fact of one entry. It may be held back for a while, never
// that of a large file.
func (s *Spool) Put(ord int64, f *Fact) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	w, err := s.window(ord)
	if err != nil {
		return err
	}
	at := ord - w.base
	b := append(w.facts[at*factSize:at*factSize], // at its place in the window
		f.Flags, 0, 0, 0, 0, 0, 0, 0)
	b = f.Source.put(b)
	b = f.Copy.put(b)
	b = append(b, f.Digest[:]...)
	b = append(b, f.Sum[:]...)
	binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	w.dirty[at] = true
	if s.bytes += f.Source.Size; s.bytes >= heldBack {
		return s.flushFacts()
	}
	return nil
}

// window gives the window that an ordinal lies in; the one not used for
// longest makes room for a new one.
func (s *Spool) window(ord int64) (*factWindow, error) {
	s.clock++
	oldest := &s.held[0]
	for i := range s.held {
		w := &s.held[i]
		if w.facts != nil && ord >= w.base && ord < w.base+window {
			w.used = s.clock
			return w, nil
		}
		if w.used < oldest.used {
			oldest = w
		}
	}
	if err := s.flushWindow(oldest); err != nil {
		return nil, err
	}
	if oldest.facts == nil {
		oldest.facts = make([]byte, window*factSize)
	}
	oldest.base, oldest.used = ord-ord%window, s.clock
	return oldest, nil
}

func (s *Spool) write(b []byte, ord int64) error {
	if _, err := s.facts.WriteAt(b, ord*factSize); err != nil {
		return &SpoolError{s.facts.Name(), err}
	}
	return nil
}

// flushFacts writes the facts held back.
func (s *Spool) flushFacts() error {
	s.bytes = 0
	for i := range s.held {
		if err := s.flushWindow(&s.held[i]); err != nil {
			return err
		}
	}
	return nil
}

// flushWindow writes a window's facts, run by run.
func (s *Spool) flushWindow(w *factWindow) error {
	for i := 0; i < window; i++ {
		if !w.dirty[i] {
			continue
		}
		from := i
		for ; i < window && w.dirty[i]; i++ {
			w.dirty[i] = false
		}
		if err := s.write(w.facts[from*factSize:i*factSize], w.base+int64(from)); err != nil {
			return err
		}
	}
	return nil
}

// fact reads one fact; its Flags are 0 if it is not known.
func (s *Spool) fact(ord int64) (f Fact, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &s.one
	for i := range s.held {
		if w := &s.held[i]; ord >= w.base && ord < w.base+window && w.dirty[ord-w.base] {
			copy(b[:], w.facts[(ord-w.base)*factSize:])
			f.get(b[:])
			return f, nil
		}
	}
	if _, err := s.facts.ReadAt(b[:], ord*factSize); err == io.EOF {
		return f, nil
	} else if err != nil {
		return f, &SpoolError{s.facts.Name(), err}
	}
	f.get(b[:])
	return f, nil
}

func (f *Fact) get(b []byte) bool {
	body := b[:factSize-4]
	if crc32.ChecksumIEEE(body) != binary.LittleEndian.Uint32(b[factSize-4:]) {
		*f = Fact{}
		return false
	}
	f.Flags = b[0]
	rest := f.Copy.get(f.Source.get(body[8:]))
	copy(f.Sum[:], rest[copy(f.Digest[:], rest):])
	return true
}

// Base is the last component of a relative path.
func Base(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }
