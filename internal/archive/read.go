package archive

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/zstd"

	"nexlin/internal/handle"
	"nexlin/internal/manifest"
)

// maxWindow bounds the memory that a hostile archive can ask for, in bytes.
const maxWindow = 128 << 20

// A Maker gets the entries of an archive in their order.
type Maker interface {
	// Make gets an entry as the manifest has it. content is that of a regular
	// file with one name so far, to be read to its end; nil for any other.
	// holes says that the file had holes.
	Make(m *manifest.Entry, content io.Reader, holes bool) error
}

// Read reads an archive to its end and holds every entry against the manifest
// in it, which is kept at path while it is read. maker may be nil. It gives the
// name that the folder has in the archive. The error is a *DamageError, one of
// the maker's, or one of reading r.
func Read(ctx context.Context, r io.Reader, path string, maker Maker, p Progress) (top string, n Count, err error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return "", n, &DamageError{What: "it is no zstd archive", Err: err}
	}
	defer z.Close()
	x := &reader{ctx: ctx, tar: tar.NewReader(z), maker: maker, digests: newDigester(), p: p}
	err = x.all(path)
	if err == nil {
		// Behind the end of tar there is nothing; reading it checks the last sum.
		if k, e := io.Copy(io.Discard, z); e != nil || k > 1<<20 {
			err = &DamageError{What: "it does not end where it should", Err: e}
		}
	}
	return x.top, x.n, err
}

type reader struct {
	ctx     context.Context
	tar     *tar.Reader
	maker   Maker
	digests *digester
	top     string
	n       Count
	p       Progress
}

func damaged(err error) error {
	return &DamageError{What: "it can't be read", Err: err}
}

func (x *reader) all(path string) error {
	h, err := x.tar.Next()
	if err != nil {
		return damaged(err)
	}
	if h.Name != manifestName || h.Typeflag != tar.TypeReg || h.Size > manifestLimit {
		return &DamageError{What: "it does not begin with a manifest"}
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := copyWith(x.ctx, f, readError{x.tar}, x.digests.buf); err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	want := manifest.NewReader(f)
	for {
		var m manifest.Entry
		err := want.Next(&m)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return &DamageError{What: "its manifest can't be read", Err: err}
		}
		if err := x.entry(&m); err != nil {
			return err
		}
	}
	if x.top == "" {
		return &DamageError{What: "it holds no folder"}
	}
	if h, err := x.tar.Next(); err == nil {
		return &DamageError{Path: h.Name, What: "its manifest does not know this entry"}
	} else if !errors.Is(err, io.EOF) {
		return damaged(err)
	}
	return nil
}

// readError tells errors of the archive from those of what is written.
type readError struct{ r io.Reader }

func (r readError) Read(b []byte) (int, error) {
	n, err := r.r.Read(b)
	if err != nil && err != io.EOF {
		err = damaged(err)
	}
	return n, err
}

func (x *reader) entry(m *manifest.Entry) error {
	if err := x.ctx.Err(); err != nil {
		return err
	}
	if isType(m.Mode, handle.TypeSocket) {
		return x.make(m, nil, false)
	}
	h, err := x.tar.Next()
	if errors.Is(err, io.EOF) {
		return &DamageError{Path: m.Path, What: "it is missing"}
	}
	if err != nil {
		return damaged(err)
	}
	name := strings.TrimSuffix(h.Name, "/")
	if m.Path == "." {
		if !validTop(name) || !isType(m.Mode, handle.TypeDir) {
			return &DamageError{Path: h.Name, What: "it does not hold one folder"}
		}
		x.top = name
	}
	if x.top == "" || name != within(x.top, m.Path) {
		return &DamageError{Path: m.Path, What: "something else stands in its place"}
	}
	if !x.kind(h, m) {
		return &DamageError{Path: m.Path, What: "it is another kind of entry"}
	}
	if !isType(m.Mode, handle.TypeRegular) || m.Same != "" {
		if isType(m.Mode, handle.TypeRegular) {
			x.count(m)
		}
		return x.make(m, nil, false)
	}
	_, holes := h.PAXRecords["GNU.sparse.realsize"]
	if h.Size != m.Size {
		return &DamageError{Path: m.Path, What: "it has another size"}
	}
	x.digests.sum.Reset()
	content := io.TeeReader(readError{x.tar}, x.digests.sum)
	if err := x.make(m, content, holes); err != nil {
		return err
	}
	if _, err := copyWith(x.ctx, io.Discard, content, x.digests.buf); err != nil {
		return err
	}
	var sum [32]byte
	if x.digests.sum.Sum(sum[:0]); sum != m.Digest {
		return &DamageError{Path: m.Path, What: "its content is not what its digest says"}
	}
	x.count(m)
	return nil
}

func (x *reader) count(m *manifest.Entry) {
	x.n.Files, x.n.Bytes = x.n.Files+1, x.n.Bytes+m.Size
	x.p.tell(x.n)
}

func (x *reader) make(m *manifest.Entry, content io.Reader, holes bool) error {
	if x.maker == nil {
		return nil
	}
	return x.maker.Make(m, content, holes)
}

func (x *reader) kind(h *tar.Header, m *manifest.Entry) bool {
	switch h.Typeflag {
	case tar.TypeLink:
		return m.Same != "" && h.Linkname == within(x.top, m.Same)
	case tar.TypeReg, tar.TypeGNUSparse:
		return isType(m.Mode, handle.TypeRegular) && m.Same == ""
	case tar.TypeDir:
		return isType(m.Mode, handle.TypeDir)
	case tar.TypeSymlink:
		return isType(m.Mode, handle.TypeSymlink) && h.Linkname == m.Link && m.Same == ""
	case tar.TypeFifo:
		return isType(m.Mode, handle.TypeFIFO)
	case tar.TypeChar:
		return isType(m.Mode, handle.TypeChar)
	case tar.TypeBlock:
		return isType(m.Mode, handle.TypeBlock)
	}
	return false
}

// validTop reports whether a name is one component that a folder can have.
func validTop(name string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\x00")
}

// Content reads any tar archive to its end, plain or packed with zstd or gzip,
// and counts what is in it. known is false, and nothing but the beginning is
// read, if it is of another kind. The error is a *DamageError.
func Content(ctx context.Context, r io.Reader) (n Count, known bool, err error) {
	buf := make([]byte, chunk)
	known, err = eachEntry(ctx, r, func(h *tar.Header, content io.Reader) error {
		k, err := copyWith(ctx, io.Discard, content, buf)
		if err == nil && h.Typeflag == tar.TypeReg {
			n.Files, n.Bytes = n.Files+1, n.Bytes+k
		}
		return err
	})
	return n, known, err
}

// eachEntry calls f for every entry of a tar archive, in its order, and reads the
// archive to its end; see [Content].
func eachEntry(ctx context.Context, r io.Reader, f func(h *tar.Header, content io.Reader) error) (known bool,
	err error) {
	b := bufio.NewReaderSize(r, 64<<10)
	head, err := b.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	in := io.Reader(b)
	switch {
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return true, damaged(err)
		}
		defer z.Close()
		in = z
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		if err != nil {
			return true, damaged(err)
		}
		in = z
	case len(head) >= 262 && string(head[257:262]) == "ustar":
	default:
		_, err := copyWith(ctx, io.Discard, b, make([]byte, chunk))
		return false, err
	}
	t := tar.NewReader(in)
	buf := make([]byte, chunk)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return true, damaged(err)
		}
		var own *indexError
		var damage *DamageError
		switch err := f(h, t); {
		case err == nil:
		case ctx.Err() != nil:
			return true, ctx.Err()
		case errors.As(err, &own), errors.As(err, &damage):
			return true, err
		default:
			return true, damaged(err)
		}
	}
	if _, err := copyWith(ctx, io.Discard, in, buf); err != nil {
		return true, damaged(err)
	}
	_, err = copyWith(ctx, io.Discard, b, buf)
	return true, err
}
