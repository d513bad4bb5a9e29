package transfer

import (
	"context"
	"crypto/sha256"
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

// NewReader makes one.
func NewReader() *Reader {
	return &Reader{h: hasher{b3: blake3.New()}, buf: make([]byte, chunk)}
}

// Sum reads an open file from its start. size is what it is expected to
// have; a file of another size gives the sum of what is there.
func (r *Reader) Sum(ctx context.Context, f *handle.File, size int64) (sum Sum, err error) {
	r.h.reset()
	for at := int64(0); ; {
		if err := ctx.Err(); err != nil {
			return sum, err
		}
		n, err := f.ReadOnce(r.buf, at)
		r.h.write(r.buf[:n])
		at += int64(n)
		// At the size expected, one byte short of a full buffer is the end:
		// a file that grew would have filled it.
		if err == io.EOF || err == nil && at == size && n < len(r.buf) {
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

// ReadBack reads a flushed file of size bytes from the device, its pages
// dropped from the page cache before; device says whether none of it was
// left there.
func (r *Reader) ReadBack(ctx context.Context, dir *handle.Dir, name string, size int64) (sum Sum, device bool, err error) {
	f, err := dir.OpenFile(name)
	if err != nil {
		return sum, false, err
	}
	defer f.Close()
	device = dropPages(f)
	sum, err = r.Sum(ctx, f, size)
	return sum, device, err
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
