//go:build linux

package transfer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"nexlin/test/lab"
)

// Digests are the plain ones of the content, whatever the segments.
func TestHasher(t *testing.T) {
	content := pattern(int(2*segment) + 5)
	for _, size := range []int{0, 1, int(segment), len(content)} {
		for _, kind := range []Digest{SHA256, BLAKE3} {
			if kind == SHA256 && size > int(segment) {
				continue // takes long and goes the same way
			}
			h := newHasher(kind)
			n := 0
			h.reset(int64(size), func(i int, _ Sum) { require.Equal(t, n, i); n++ })
			for at := 0; at < size; at += 1 << 20 {
				h.write(content[at:min(at+1<<20, size)])
			}
			var f Fact
			h.finish(&f)
			want := sha256.Sum256(content[:size])
			if kind == BLAKE3 {
				want = blake3.Sum256(content[:size])
			}
			require.Equal(t, want, f.Digest, "%s of %d bytes", kind, size)
			require.Equal(t, max(1, (size+int(segment)-1)/int(segment)), n)
			file := filepath.Join(t.TempDir(), "f")
			require.NoError(t, os.WriteFile(file, content[:size], 0o600))
			dir := open(t, filepath.Dir(file))
			sum, _, err := NewReader().ReadBack(context.Background(), dir, "f", int64(size))
			require.NoError(t, err)
			require.Equal(t, f.Sum, sum, "%d bytes", size)
		}
	}
}

func pattern(size int) []byte {
	return bytes.Repeat([]byte("no two places alike, 4099 bytes: "+strings.Repeat("x", 4066)), size/4099+1)[:size]
}

// overlapped is a pass with read-back behind it.
func (b *bench) overlapped(progress Progress) (*Tally, error) {
	p := b.part()
	defer p.Close()
	b.n++
	var err error
	b.spool, err = CreateSpool(filepath.Join(b.dir, "spools"), b.n)
	require.NoError(b.t, err)
	return Pass(context.Background(),
		Job{Source: b.src, Part: p, New: b.spool, Digest: BLAKE3, Overlap: true, Progress: progress})
}

// What is read back behind the copying needs no second reading.
func TestReadBackBehindTheCopying(t *testing.T) {
	b := newBench(t)
	var tr lab.Tree
	for i := range 1500 {
		tr = append(tr, fmt.Sprintf("d%d/f%04d: content %d", i%140, i, i))
	}
	tr.Make(t, b.source)
	large := filepath.Join(b.source, "large")
	for name, size := range map[string]int64{"large": 2*segment + 4711, "even": 2 * segment} {
		require.NoError(t, os.WriteFile(filepath.Join(b.source, name), []byte("begins"), 0o600))
		require.NoError(t, os.Truncate(filepath.Join(b.source, name), size))
	}
	f, err := os.OpenFile(large, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("in the middle"), segment-5)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	tally, err := b.overlapped(nil)
	require.NoError(t, err)
	require.EqualValues(t, 1502, tally.ReadBack)
	again, err := b.verify()
	require.NoError(t, err)
	require.Zero(t, again.ReadBack)
	b.equal()
}

// A segment that comes back different is found, and the file copied again.
func TestSpoiltSegment(t *testing.T) {
	b := newBench(t)
	large := filepath.Join(b.source, "large")
	require.NoError(t, os.MkdirAll(b.source, 0o755))
	content := pattern(int(2*segment) + 1)
	require.NoError(t, os.WriteFile(large, content, 0o600))
	_, err := b.overlapped(&trigger{bytes: segment + segment/6, do: func() {
		f, err := os.OpenFile(filepath.Join(b.copy, "large"), os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte{^content[segment+5]}, segment+5)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}})
	var diff *DiffError
	require.ErrorAs(t, err, &diff)
	require.Equal(t, DiffError{Path: "large", What: "content"}, *diff)
	b.mustPass()
	b.equal()
}

// Segments are small here: the race detector makes digests slow.
func TestMain(m *testing.M) {
	segment = 4 << 20
	os.Exit(m.Run())
}
