// Package manifest reads and writes manifests: the list of all entries of a
// target with their metadata and digests, in the one order, as mtree(5)
// text that stock tools verify.
//
// The format is described in format.go. The package streams: neither side
// holds the list in memory. It does not look at any folder itself.
package manifest

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"

	"nexlin/internal/handle"
)

// An Entry is one line of a manifest with the comment lines that follow it.
type Entry struct {
	Path     string // relative, "." for the folder itself; raw bytes
	Mode     uint32 // type and permissions, as in stat(2)
	UID, GID uint32
	Size     int64 // bytes; regular files only
	Mtime    handle.Time
	Link     string   // text of a symbolic link
	Was      string   // what it said before it was rewritten; may be empty
	Same     string   // further name of a hard-linked file: its first one; may be empty
	Rdev     uint64   // device nodes only
	Digest   [32]byte // of a regular file's content
	BLAKE3   bool     // the digest is BLAKE3, not SHA-256
	Xattrs   []handle.Xattr
}

func (e *Entry) is(t uint32) bool { return e.Mode&handle.TypeMask == t }

// A Writer writes entries in the one order; that they come in that order is
// the caller's promise.
type Writer struct {
	w   *bufio.Writer
	err error
}

// NewWriter starts a manifest on w. The caller flushes and closes.
func NewWriter(w io.Writer) *Writer {
	m := &Writer{w: bufio.NewWriterSize(w, 64<<10)}
	m.put(header)
	return m
}

func (m *Writer) put(s string) {
	if m.err == nil {
		_, m.err = m.w.WriteString(s)
	}
}

// Write adds one entry. The first error stays.
func (m *Writer) Write(e *Entry) error {
	m.put(visPath(e.Path))
	switch {
	case e.is(handle.TypeDir):
		m.put(" type=dir")
	case e.is(handle.TypeSymlink):
		m.put(" type=link link=" + vis(e.Link))
	case e.is(handle.TypeRegular):
		m.put(" type=file size=" + strconv.FormatInt(e.Size, 10))
	case e.is(handle.TypeChar), e.is(handle.TypeBlock):
		m.put(" type=" + typeName(e.Mode) + " device=0x" + strconv.FormatUint(e.Rdev, 16))
	default:
		m.put(" type=" + typeName(e.Mode))
	}
	m.put(fmt.Sprintf(" mode=%04o uid=%d gid=%d time=%s", e.Mode&0o7777, e.UID, e.GID, formatTime(e.Mtime)))
	if e.is(handle.TypeRegular) && !e.BLAKE3 {
		m.put(" sha256digest=" + hex.EncodeToString(e.Digest[:]))
	}
	m.put("\n")
	if e.Same != "" {
		m.put("#nexlin same " + visPath(e.Same) + "\n")
	}
	if e.Was != "" {
		m.put("#nexlin was " + vis(e.Was) + "\n")
	}
	if e.is(handle.TypeRegular) && e.BLAKE3 {
		m.put("#nexlin blake3 " + hex.EncodeToString(e.Digest[:]) + "\n")
	}
	for _, x := range e.Xattrs {
		m.put("#nexlin xattr " + vis(x.Name) + " " + hex.EncodeToString(x.Value) + "\n")
	}
	return m.err
}

// types are the names of the types by their bits.
var types = map[string]uint32{
	"dir": handle.TypeDir, "file": handle.TypeRegular, "link": handle.TypeSymlink, "fifo": handle.TypeFIFO,
	"socket": handle.TypeSocket,
	"char":   handle.TypeChar, "block": handle.TypeBlock,
}

func typeName(mode uint32) string {
	for name, t := range types {
		if mode&handle.TypeMask == t {
			return name
		}
	}
	return ""
}

// Close flushes what is buffered and marks the end; it leaves the
// underlying writer open.
func (m *Writer) Close() error {
	m.put(trailer)
	if m.err == nil {
		m.err = m.w.Flush()
	}
	return m.err
}

// formatTime prints nine digits behind the point; a time before 1970 has a
// negative count of seconds and a positive fraction, as in stat(2).
func formatTime(t handle.Time) string {
	return fmt.Sprintf("%d.%09d", t.Sec, t.Nsec)
}

func visPath(p string) string {
	if p == "." {
		return "."
	}
	return "./" + vis(p)
}

// vis encodes bytes as vis(3) with octal escapes does. Everything that
// mtree(5), its name patterns or a terminal could take for something else
// is encoded; a slash stays.
func vis(s string) string {
	var b strings.Builder
	for i := range len(s) {
		c := s[i]
		if c > ' ' && c < 0x7f && !strings.ContainsRune(`\#=*?["'`, rune(c)) {
			b.WriteByte(c)
			continue
		}
		fmt.Fprintf(&b, `\%03o`, c)
	}
	return b.String()
}
