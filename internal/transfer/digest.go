package transfer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"io"
	"math"

	"github.com/zeebo/blake3"

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

// A Sum is what two copies of a file are compared by. It is taken together
// with the digest, over the same bytes, and costs nothing for holes: the first
// 16 bytes of the BLAKE3 of what is left of the content when its zero blocks
// are taken out, the aligned ones of 4 KiB; if there were any, of the BLAKE3
// of that, of the list of their places and of the length. Of a file larger
// than a segment it is that of its segments' sums.
type Sum [16]byte

// block is the size of a zero block. Bytes.
const block = 4096

// segment is how much of a large file has a sum of its own, so that it can be
// read back while the rest is still copied. Bytes; tests have smaller ones.
var segment int64 = 64 << 20

// A hasher takes digest and sum of one file after the other.
type hasher struct {
	sha   hash.Hash      // nil if only the sum is wanted, or BLAKE3 is the digest
	whole *blake3.Hasher // of the content, if BLAKE3 is the digest and part differs from that
	part  *blake3.Hasher // of the segment that is being read, without zero blocks
	at    int64          // bytes of that segment so far
	tail  []byte         // the bytes of a block that is not complete; not in part yet
	gaps  *blake3.Hasher // of the places of zero blocks, 16 bytes for each run of them
	run   int64          // bytes of the run that ends here
	runs  int            // that have ended in this segment
	last  [32]byte       // of the last segment that was finished
	sums  []byte         // of the segments finished, one behind the other
	each  func(n int, sum Sum)
	kind  Digest
}

func newHasher(kind Digest) *hasher {
	h := &hasher{part: blake3.New(), gaps: blake3.New(), tail: make([]byte, 0, block), kind: kind}
	if kind == SHA256 {
		h.sha = sha256.New()
	}
	return h
}

// reset begins a file of so many bytes. each hears of every segment that is
// finished, from the goroutine that writes; it may be nil.
func (h *hasher) reset(size int64, each func(n int, sum Sum)) {
	h.resetSegment()
	h.sums, h.each, h.whole = h.sums[:0], each, nil
	if h.sha != nil {
		h.sha.Reset()
	} else if h.kind == BLAKE3 && size > segment {
		h.whole = blake3.New()
	}
}

func (h *hasher) resetSegment() {
	h.part.Reset()
	h.gaps.Reset()
	h.at, h.tail, h.run, h.runs = 0, h.tail[:0], 0, 0
}

// write adds content. A hash takes everything and has no errors.
func (h *hasher) write(b []byte) {
	if h.sha != nil {
		h.sha.Write(b)
	}
	for len(b) > 0 {
		n := min(int64(len(b)), segment-h.at)
		h.segment(b[:n])
		if b = b[n:]; h.at == segment {
			h.finishSegment()
		}
	}
}

// segment adds content that does not reach beyond the segment.
func (h *hasher) segment(b []byte) {
	for len(b) > 0 {
		n := 0
		for len(h.tail) == 0 && len(b)-n >= block && !zero(b[n:n+block]) {
			n += block // as many as come, in one go
		}
		switch {
		case n > 0:
			h.data(b[:n])
		case len(h.tail) == 0 && len(b) >= block:
			n = block
			h.gap(b[:n])
		default:
			n = min(len(b), block-len(h.tail))
			if h.tail = append(h.tail, b[:n]...); len(h.tail) == block {
				h.endBlock()
			}
			h.at += int64(n)
			b = b[n:]
			continue
		}
		h.at += int64(n)
		b = b[n:]
	}
}

// endBlock takes the block that was gathered in the tail.
func (h *hasher) endBlock() {
	b := h.tail
	h.tail = h.tail[:0]
	if zero(b) {
		h.gap(b)
		return
	}
	h.data(b)
}

func zero(b []byte) bool { return bytes.Equal(b, nothing[:len(b)]) }

func (h *hasher) data(b []byte) {
	h.endRun()
	_, _ = h.part.Write(b)
	if h.whole != nil {
		_, _ = h.whole.Write(b)
	}
}

// gap takes zero blocks.
func (h *hasher) gap(b []byte) {
	if h.kind == BLAKE3 {
		if h.whole == nil { // until now the two were one
			h.whole = h.part.Clone()
		}
		_, _ = h.whole.Write(b)
	}
	h.run += int64(len(b))
}

// endRun writes down where a run of zero blocks lies: the block it ends before,
// and its length.
func (h *hasher) endRun() {
	if h.run == 0 {
		return
	}
	var place [16]byte
	binary.LittleEndian.PutUint64(place[:], uint64(h.at-h.at%block))
	binary.LittleEndian.PutUint64(place[8:], uint64(h.run))
	_, _ = h.gaps.Write(place[:])
	h.run = 0
	h.runs++
}

func (h *hasher) finishSegment() {
	if len(h.tail) > 0 {
		h.endBlock()
	}
	h.endRun()
	h.part.Sum(h.last[:0])
	if h.runs > 0 {
		all := binary.LittleEndian.AppendUint64(h.gaps.Sum(h.last[:]), uint64(h.at))
		h.last = blake3.Sum256(all)
	}
	h.resetSegment()
	h.sums = append(h.sums, h.last[:16]...)
	if h.each != nil {
		h.each(len(h.sums)/16-1, Sum(h.last[:16]))
	}
}

var nothing [chunk]byte

// zeros adds the n zero bytes of a hole.
func (h *hasher) zeros(ctx context.Context, n int64) error {
	for n > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		k := min(n, chunk)
		// Whole blocks that only the sum is taken of need not be looked at.
		if h.sha == nil && h.kind != BLAKE3 && len(h.tail) == 0 && n >= block {
			k = min(n/block*block, segment-h.at)
			h.run, h.at = h.run+k, h.at+k
			if h.at == segment {
				h.finishSegment()
			}
		} else {
			h.write(nothing[:k])
		}
		n -= k
	}
	return nil
}

// finish puts digest and sum into a fact.
func (h *hasher) finish(f *Fact) {
	if h.at > 0 || len(h.sums) == 0 {
		h.finishSegment()
	}
	f.Digest, f.Sum = h.last, Sum(h.last[:16])
	if len(h.sums) > 16 {
		all := blake3.Sum256(h.sums)
		f.Sum = Sum(all[:16])
	}
	if h.whole != nil {
		h.whole.Sum(f.Digest[:0])
	}
	if h.sha != nil {
		h.sha.Sum(f.Digest[:0])
	}
}

// A Reader reads files to compare them. It is for one goroutine; the buffer
// is what makes it worth keeping.
type Reader struct {
	// Pace is called after every so many bytes that were read, and may wait; nil
	// reads as fast as it can.
	Pace func(ctx context.Context, bytes int) error

	h     hasher
	buf   []byte
	last  Fact // digest and sum of the file that was read last
	batch handle.Batch
	files []handle.Wanted // of the batch
}

// NewReader makes one.
func NewReader() *Reader { return NewDigester("") }

// NewDigester makes one that takes the digest of that kind, too.
func NewDigester(kind Digest) *Reader {
	return &Reader{h: *newHasher(kind), buf: handle.Aligned(chunk)}
}

// Digest is that of the file that was read last, by a reader that takes it.
func (r *Reader) Digest() [32]byte { return r.last.Digest }

// Sum reads an open file from its start. size is what it is expected to
// have; a file of another size gives the sum of what is there.
func (r *Reader) Sum(ctx context.Context, f *handle.File, size int64) (sum Sum, err error) {
	r.h.reset(size, nil)
	if _, err := r.read(ctx, f, 0, math.MaxInt64, size); err != nil {
		return sum, err
	}
	return r.sum(), nil
}

// read takes in what lies between two places, or up to the end of the file,
// and returns how far it got. Where the end is expected, one byte short of a
// full buffer is the end: a file that grew would have filled it. What the file
// system calls a hole is not read.
func (r *Reader) read(ctx context.Context, f *handle.File, at, to, expected int64) (int64, error) {
	size, err := sparse(f, expected)
	if err != nil {
		return at, err
	}
	end := at // of the data that at lies in
	for at < to {
		if err := ctx.Err(); err != nil {
			return at, err
		}
		most := min(int64(len(r.buf)), to-at)
		if at < size {
			if at >= end {
				start, next, err := f.NextExtent(at, size)
				if err != nil {
					return at, err
				}
				start, end = min(start, to), next
				if start > at {
					if err := r.h.zeros(ctx, start-at); err != nil {
						return at, err
					}
					at = start
					continue
				}
			}
			most = min(most, end-at)
		}
		n, err := f.ReadOnce(r.buf[:most], at)
		r.h.write(r.buf[:n])
		at += int64(n)
		if r.Pace != nil {
			if err := r.Pace(ctx, n); err != nil {
				return at, err
			}
		}
		if err == io.EOF || err == nil && at == expected && n < len(r.buf) && at >= size {
			break
		}
		if err != nil {
			return at, err
		}
	}
	return at, nil
}

// sparse gives the size of a file that has holes, as far as it should be; 0
// for any other.
func sparse(f *handle.File, expected int64) (int64, error) {
	if expected <= block {
		return 0, nil
	}
	st, err := f.Stat()
	if err != nil || st.Allocated >= st.Size {
		return 0, err
	}
	return st.Size, nil
}

func (r *Reader) sum() (sum Sum) {
	r.h.finish(&r.last)
	return r.last.Sum
}

// ReadBack reads a flushed file of size bytes from the device, its pages
// dropped from the page cache before; device says whether none of it was
// left there.
func (r *Reader) ReadBack(ctx context.Context, dir *handle.Dir, name string, size int64) (sum Sum, device bool,
	err error) {
	one := []ReadFile{{Dir: dir, Name: name, Size: size}}
	r.ReadBackAll(ctx, one)
	return one[0].Sum, one[0].Device, one[0].Err
}

// A ReadFile is a file that is read back with others. Err is as [Reader.ReadBack]
// has it; Sum, Digest and Device count if it is nil. Digest is that of a reader which
// takes it.
type ReadFile struct {
	Dir  *handle.Dir
	Name string
	Size int64 // expected, in bytes

	Sum    Sum
	Digest [32]byte
	Device bool
	Err    error
}

// ReadBackAll is [Reader.ReadBack] for several files, the small ones side by side.
func (r *Reader) ReadBackAll(ctx context.Context, all []ReadFile) {
	r.files = r.files[:0]
	for i := range all {
		f, err := all[i].Dir.OpenFile(all[i].Name)
		if all[i].Err = err; err == nil {
			all[i].Device = f.Uncache(0, 0)
		}
		r.files = append(r.files, handle.Wanted{File: f, Size: all[i].Size})
	}
	_ = r.batch.Each(r.files, r.buf, func(i int) error {
		if w := &r.files[i]; w.File != nil {
			all[i].Sum, all[i].Err = r.wanted(ctx, w)
			all[i].Digest = r.last.Digest
		}
		return nil // each has its own
	})
	for _, w := range r.files {
		if w.File != nil {
			_ = w.File.Close() // only read
		}
	}
}

// wanted takes in a file of a batch, whether or not the batch has read it.
func (r *Reader) wanted(ctx context.Context, w *handle.Wanted) (Sum, error) {
	if w.Content == nil {
		return r.Sum(ctx, w.File, w.Size)
	}
	if r.Pace != nil {
		if err := r.Pace(ctx, len(w.Content)); err != nil {
			return Sum{}, err
		}
	}
	return r.sumOf(w.Content), ctx.Err()
}

// sumOf takes in the content of a whole file.
func (r *Reader) sumOf(content []byte) Sum {
	r.h.reset(int64(len(content)), nil)
	r.h.write(content)
	return r.sum()
}

// readSegment is [Reader.ReadBack] for size bytes of a large file, its segment
// n. A file that ends before is not at its full length yet: it ends in a hole.
func (r *Reader) readSegment(ctx context.Context, dir *handle.Dir, name string, n int, size int64) (sum Sum,
	device bool, err error) {
	f, err := dir.OpenFile(name)
	if err != nil {
		return sum, false, err
	}
	defer f.Close()
	from := int64(n) * segment
	device = f.Uncache(from, size)
	r.h.reset(size, nil)
	at, err := r.read(ctx, f, from, from+size, from+size)
	if err == nil {
		err = r.h.zeros(ctx, from+size-at)
	}
	if err != nil {
		return sum, false, err
	}
	return r.sum(), device, nil
}
