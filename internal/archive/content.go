package archive

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"slices"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// chunk is how much is read at a time, in bytes.
const chunk = 1 << 20

// digester takes SHA-256 digests of one file after the other.
type digester struct {
	sum hash.Hash
	buf []byte
}

func newDigester() *digester { return &digester{sha256.New(), make([]byte, chunk)} }

// file takes the digest of an entry that was looked at; a *ChangedError if another
// one has its name by now.
func (d *digester) file(ctx context.Context, e *inventory.Entry) (out [32]byte, err error) {
	f, err := openSeen(e)
	if err != nil {
		return out, err
	}
	defer f.Close()
	d.sum.Reset()
	if _, err := copyWith(ctx, d.sum, f, d.buf); err != nil {
		return out, err
	}
	d.sum.Sum(out[:0])
	return out, nil
}

// openSeen opens a file that was looked at. It is the one that was: nobody gets
// the content of another one under its owner and mode.
func openSeen(e *inventory.Entry) (*handle.File, error) {
	f, err := e.Dir.OpenFile(e.Name)
	if handle.Replaced(err) {
		return nil, &ChangedError{e.Path}
	}
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && (!st.SameInode(&e.Stat) || st.UID != e.Stat.UID || st.Mode != e.Stat.Mode) {
		err = &ChangedError{e.Path}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// copyWith is io.CopyBuffer that can be interrupted.
func copyWith(ctx context.Context, w io.Writer, r io.Reader, buf []byte) (n int64, err error) {
	for {
		if err := ctx.Err(); err != nil {
			return n, err
		}
		k, err := r.Read(buf)
		if k > 0 {
			if _, werr := w.Write(buf[:k]); werr != nil {
				return n, werr
			}
			n += int64(k)
		}
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// span is a stretch of a file that holds data.
type span struct{ at, end int64 }

// maxSpans is how many stretches of data an archive lists of one file: readers of
// tar take a list of a mebibyte, and a line of one has up to twenty bytes.
const maxSpans = 20_000

// fewer joins stretches over the shortest holes until there are no more than most:
// these holes are written as zeros.
func fewer(in []span, most int) []span {
	if len(in) <= most {
		return in
	}
	holes := make([]int64, 0, len(in)-1)
	for i := range in[1:] {
		holes = append(holes, in[i+1].at-in[i].end)
	}
	slices.Sort(holes)
	longest := holes[len(holes)-most] // of those that go
	as, _ := slices.BinarySearch(holes, longest)
	as = len(holes) - most + 1 - as // how many of that length go
	out := in[:1]
	for _, s := range in[1:] {
		last := &out[len(out)-1]
		hole := s.at - last.end
		switch {
		case hole < longest:
			last.end = s.end
		case hole == longest && as > 0:
			last.end = s.end
			as--
		default:
			out = append(out, s)
		}
	}
	return out
}

// spans lists where a file holds data; nil if it has no holes worth the name.
func spans(f *handle.File, st *handle.Stat) ([]span, error) {
	if st.Allocated >= st.Size {
		return nil, nil
	}
	var out []span
	for at := int64(0); at < st.Size; {
		start, end, err := f.NextExtent(at, st.Size)
		if err != nil {
			return nil, err
		}
		if start < end {
			out = append(out, span{start, end})
		}
		if len(out) >= 4*maxSpans {
			out = fewer(out, maxSpans)
		}
		at = end
	}
	out = fewer(out, maxSpans)
	if len(out) == 1 && out[0] == (span{0, st.Size}) {
		return nil, nil
	}
	if out == nil {
		out = []span{}
	}
	return out, nil
}

// A Counter passes on to W what is written, and counts it.
type Counter struct {
	W io.Writer
	N int64 // bytes
}

func (c *Counter) Write(b []byte) (int, error) {
	n, err := c.W.Write(b)
	c.N += int64(n)
	return n, err
}
