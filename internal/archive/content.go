package archive

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"

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
		at = end
	}
	if len(out) == 1 && out[0] == (span{0, st.Size}) {
		return nil, nil
	}
	if out == nil {
		out = []span{}
	}
	return out, nil
}
