package transfer

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"unsafe"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

// A Digest names the digest that a manifest has of every file.
type Digest string

// SHA256 can be checked on any machine; BLAKE3 is several times faster where
// the processor does not help with SHA-256.
const (
	SHA256 Digest = "sha256"
	BLAKE3 Digest = "blake3"
)

// A Sum is what two copies of a file are compared by: the first 16 bytes of
// BLAKE3. It is taken together with the digest, over the same bytes.
type Sum [16]byte

// A hasher takes digest and sum of one file after the other.
type hasher struct {
	sha hash.Hash // nil if only the sum is wanted, or BLAKE3 is the digest
	b3  *blake3.Hasher
}

func newHasher(kind Digest) *hasher {
	h := &hasher{b3: blake3.New()}
	if kind != BLAKE3 {
		h.sha = sha256.New()
	}
	return h
}

func (h *hasher) reset() {
	h.b3.Reset()
	if h.sha != nil {
		h.sha.Reset()
	}
}

func (h *hasher) write(b []byte) {
	_, _ = h.b3.Write(b) // a hash takes everything
	if h.sha != nil {
		h.sha.Write(b)
	}
}

var nothing [chunk]byte

// zeros adds the n zero bytes of a hole.
func (h *hasher) zeros(ctx context.Context, n int64) error {
	for ; n > 0; n -= chunk {
		if err := ctx.Err(); err != nil {
			return err
		}
		h.write(nothing[:min(n, chunk)])
	}
	return nil
}

// finish puts digest and sum into a fact.
func (h *hasher) finish(f *Fact) {
	var b3 [32]byte
	h.b3.Sum(b3[:0])
	f.Digest = b3
	if h.sha != nil {
		h.sha.Sum(f.Digest[:0])
	}
	copy(f.Sum[:], b3[:])
}

// A Reader reads files to compare them. It is for one goroutine; the buffer
// is what makes it worth keeping.
type Reader struct {
	h   hasher
	buf []byte
}

// direct is the largest file that is read past the page cache; a larger one
// gains from the reading ahead that the page cache does.
const direct = 1 << 20

// NewReader makes one.
func NewReader() *Reader {
	return &Reader{h: hasher{b3: blake3.New()}, buf: aligned(direct)}
}

// aligned makes a buffer as reads past the page cache want it.
func aligned(size int) []byte {
	b := make([]byte, size+handle.Block)
	skip := handle.Block - int(uintptr(unsafe.Pointer(&b[0]))%handle.Block)
	return b[skip : skip+size : skip+size]
}

// Sum reads an open file from its start. size is what it is expected to
// have; a file of another size gives the sum of what is there.
func (r *Reader) Sum(ctx context.Context, f *handle.File, size int64) (sum Sum, err error) {
	r.h.reset()
	buf := r.buf[:min(int64(len(r.buf)), chunk)]
	for at := int64(0); ; {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		n, err := f.ReadOnce(buf, at)
		r.h.write(buf[:n])
		at += int64(n)
		if err == io.EOF {
			return r.sum(), nil
		}
		if err != nil {
			return sum, err
		}
	}
}

func (r *Reader) sum() (sum Sum) {
	var f Fact
	r.h.finish(&f)
	return f.Sum
}

// ReadBack reads a flushed file of about size bytes from the device: past
// the page cache, or with its pages dropped before; device says whether
// none of it can have come from there.
func (r *Reader) ReadBack(ctx context.Context, dir *handle.Dir, name string, size int64) (sum Sum, device bool, err error) {
	if size < direct {
		sum, device, err = r.readDirect(dir, name, size)
		if device || err != nil && !errors.Is(err, unix.EINVAL) {
			return sum, device, err
		}
	}
	f, err := dir.OpenFile(name)
	if err != nil {
		return sum, false, err
	}
	defer f.Close()
	device = dropPages(f)
	sum, err = r.Sum(ctx, f, size)
	return sum, device, err
}

// readDirect reads a file of that size, less than the buffer's, past the page
// cache. A file system may read through it all the same: then device is false.
func (r *Reader) readDirect(dir *handle.Dir, name string, size int64) (sum Sum, device bool, err error) {
	f, err := dir.OpenDirect(name)
	if err != nil {
		return sum, false, err
	}
	defer f.Close()
	// Whole blocks, and room to see that it is longer; the kernel pins all of
	// what it is given, so not more.
	buf := r.buf[:size/handle.Block*handle.Block+handle.Block]
	n := 0
	for n < len(buf) && n%handle.Block == 0 {
		k, err := f.ReadOnce(buf[n:], int64(n))
		n += k
		if err == io.EOF {
			break
		}
		if err != nil {
			return sum, false, err
		}
	}
	if n == len(buf) || cached(f) {
		return sum, false, nil // larger than it was said to be, or not past the cache
	}
	r.h.reset()
	r.h.write(r.buf[:n])
	return r.sum(), true, nil
}

// dropPages takes the flushed pages of a file out of the page cache
// (posix_fadvise(2), POSIX_FADV_DONTNEED) and looks whether they are gone.
func dropPages(f *handle.File) bool {
	return unix.Fadvise(f.Fd(), 0, 0, unix.FADV_DONTNEED) == nil && !cached(f)
}

// cached reports whether pages of a file are in the page cache, or the
// kernel can't tell (cachestat(2)).
func cached(f *handle.File) bool {
	const sysCachestat = 451 // the same number on every architecture
	span := [2]uint64{0, 0}  // all of the file
	var stat [5]uint64       // cached, dirty, written back, evicted, recently evicted
	_, _, e := unix.Syscall6(sysCachestat, uintptr(f.Fd()),
		uintptr(unsafe.Pointer(&span)), uintptr(unsafe.Pointer(&stat)), 0, 0, 0)
	return e != 0 || stat[0] != 0
}
