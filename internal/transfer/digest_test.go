package transfer

import (
	"context"
	"crypto/sha256"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"
)

// However a content comes in, in pieces or as holes, it has one sum; another
// content has another one; and the digest is that of the content.
func TestSumsOfAnyContent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		content := rapid.Custom(anyContent).Draw(t, "content")
		other := rapid.Custom(anyContent).Draw(t, "other")
		var facts []Fact
		for i, kind := range []Digest{SHA256, BLAKE3, ""} {
			f := sumOf(t, newHasher(kind), content, i)
			facts = append(facts, f)
			require.Equal(t, facts[0].Sum, f.Sum)
			require.Equal(t, f.Sum, sumOf(t, newHasher(kind), content, -1).Sum, "in one go")
		}
		require.Equal(t, sha256.Sum256(content), facts[0].Digest)
		require.Equal(t, blake3.Sum256(content), facts[1].Digest)
		o := sumOf(t, newHasher(""), other, -1)
		require.Equal(t, string(content) == string(other), o.Sum == facts[0].Sum)
	})
}

// anyContent has zero blocks, zeros that fill no block, and data.
func anyContent(t *rapid.T) (out []byte) {
	for range rapid.IntRange(0, 5).Draw(t, "runs") {
		n := rapid.SampledFrom([]int{0, 1, 100, block - 1, block, block + 1, 2 * block, 5*block + 7}).Draw(t, "length")
		run := make([]byte, n)
		if b := rapid.SampledFrom([]byte{0, 0, 1}).Draw(t, "byte"); n > 0 && b > 0 {
			run[rapid.IntRange(0, n-1).Draw(t, "at")] = b
		}
		out = append(out, run...)
	}
	return out
}

// sumOf gives a hasher a content: in one go, or in pieces, zeros as holes.
func sumOf(t *rapid.T, h *hasher, content []byte, pieces int) (f Fact) {
	h.reset(int64(len(content)), nil)
	for rest := content; len(rest) > 0; {
		n := len(rest)
		if pieces >= 0 {
			n = rapid.IntRange(1, len(rest)).Draw(t, "piece")
		}
		if pieces >= 0 && allZero(rest[:n]) {
			require.NoError(t, h.zeros(context.Background(), int64(n)))
		} else {
			h.write(rest[:n])
		}
		rest = rest[n:]
	}
	h.finish(&f)
	return f
}

func allZero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
