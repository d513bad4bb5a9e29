package archive

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/zstd"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/manifest"
)

// Pack writes the archive of a folder to w: the manifest at path first, then
// the folder under the name top, held against the manifest as it is read. A
// *ChangedError if it is not what the manifest says any more.
func Pack(ctx context.Context, root *handle.Dir, top, path string, w io.Writer, p Progress) (Count, error) {
	z, err := zstd.NewWriter(w, zstd.WithEncoderCRC(true))
	if err != nil {
		return Count{}, err
	}
	k := &packer{ctx: ctx, top: top, tar: &tarWriter{w: z}, digests: newDigester(), p: p}
	err = k.all(root, path)
	return k.n, errors.Join(err, z.Close())
}

type packer struct {
	ctx     context.Context
	top     string
	tar     *tarWriter
	want    *manifest.Reader
	digests *digester
	n       Count
	p       Progress
}

func (k *packer) all(root *handle.Dir, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	m := manifest.Entry{Mode: handle.TypeRegular | 0o644, Size: fi.Size(), Mtime: handle.Time{Sec: fi.ModTime().Unix()}}
	if err := k.tar.header(manifestName, &m, nil, fi.Size()); err != nil {
		return err
	}
	n, err := copyWith(k.ctx, k.tar.w, f, k.digests.buf)
	if err == nil {
		err = k.tar.fill(n)
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	k.want = manifest.NewReader(f)
	if err := inventory.Walk(k.ctx, root, k); err != nil {
		return err
	}
	var more manifest.Entry
	if err := k.want.Next(&more); !errors.Is(err, io.EOF) {
		return errors.Join(err, &ChangedError{more.Path})
	}
	return k.tar.end()
}

func (k *packer) Leave(*inventory.Entry) error { return nil }

func (k *packer) Visit(e *inventory.Entry) (bool, error) {
	is, err := entryOf(e)
	if err != nil {
		return false, err
	}
	var m manifest.Entry
	if err := k.want.Next(&m); err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	if !alike(&is, &m) {
		return false, &ChangedError{e.Path}
	}
	if isType(m.Mode, handle.TypeSocket) {
		return true, nil // tar has no sockets; the manifest has its name
	}
	name := within(k.top, m.Path)
	if m.Same != "" {
		one := m
		one.Link = within(k.top, m.Same)
		k.count(&m)
		return true, k.tar.header(name, &one, nil, 0)
	}
	if !e.Stat.IsRegular() {
		return true, k.tar.header(name, &m, nil, 0)
	}
	return true, k.file(e, name, &m)
}

func (k *packer) count(m *manifest.Entry) {
	if isType(m.Mode, handle.TypeRegular) {
		k.n.Files, k.n.Bytes = k.n.Files+1, k.n.Bytes+m.Size
		k.p.tell(k.n)
	}
}

// file writes one file and wants its content to be what the manifest says.
func (k *packer) file(e *inventory.Entry, name string, m *manifest.Entry) error {
	f, err := openSeen(e)
	if err != nil {
		return err
	}
	defer f.Close()
	holes, err := spans(f, &e.Stat)
	if err != nil {
		return err
	}
	stored := m.Size
	var list []byte
	if holes != nil {
		list = sparseMap(holes, m.Size)
		stored = int64(len(list))
		for _, s := range holes {
			stored += s.end - s.at
		}
	}
	if err := k.tar.header(name, m, holes, stored); err != nil {
		return err
	}
	if _, err := k.tar.w.Write(list); err != nil {
		return err
	}
	if holes == nil {
		holes = []span{{0, m.Size}}
	}
	k.digests.sum.Reset()
	at := int64(0)
	for _, s := range holes {
		if err := zeros(k.ctx, k.digests.sum, s.at-at); err != nil {
			return err
		}
		if err := k.span(f, s); err != nil {
			return err
		}
		at = s.end
	}
	if err := zeros(k.ctx, k.digests.sum, m.Size-at); err != nil {
		return err
	}
	var sum [32]byte
	if k.digests.sum.Sum(sum[:0]); sum != m.Digest {
		return &ChangedError{e.Path}
	}
	k.count(m)
	return k.tar.fill(stored)
}

func (k *packer) span(f *handle.File, s span) error {
	for at := s.at; at < s.end; {
		if err := k.ctx.Err(); err != nil {
			return err
		}
		b := k.digests.buf[:min(int64(len(k.digests.buf)), s.end-at)]
		n, err := f.ReadAt(b, at)
		if n == 0 && (err == nil || errors.Is(err, io.EOF)) {
			return &ChangedError{f.Name()}
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		k.digests.sum.Write(b[:n])
		if _, err := k.tar.w.Write(b[:n]); err != nil {
			return err
		}
		at += int64(n)
	}
	return nil
}

var nothing [64 << 10]byte

// zeros gives n zero bytes to a hash.
func zeros(ctx context.Context, w io.Writer, n int64) error {
	for n > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		k := min(n, int64(len(nothing)))
		if _, err := w.Write(nothing[:k]); err != nil {
			return err
		}
		n -= k
	}
	return nil
}

// within is the name that an entry has in the archive.
func within(top, path string) string {
	if path == "." {
		return top
	}
	return top + "/" + strings.TrimPrefix(path, "./")
}
