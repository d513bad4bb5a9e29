package handle

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// However a caller asks, the system is asked for whole blocks in aligned memory, and the caller gets
// what stands there.
func TestWholeBlocksAreRead(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	content := make([]byte, 3*bounce+1234)
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	pread := func(b []byte, at int64) (int, error) {
		require.Zero(t, at%alignment)
		require.Zero(t, len(b)%alignment)
		require.NotEmpty(t, b)
		require.True(t, isAligned(b))
		return copy(b, content[min(at, int64(len(content))):]), nil
	}
	aligned := Aligned(2 * bounce)
	for range 2000 {
		at, n := random.Int64N(int64(len(content))+alignment), 1+random.IntN(2*bounce-alignment)
		if random.IntN(2) == 0 {
			at -= at % alignment
		}
		b := aligned[random.IntN(2):][:n]
		k, err := directly(pread, b, at)
		require.NoError(t, err)
		require.Equal(t, at >= int64(len(content)), k == 0, "the end is seen, and nothing else is one")
		if k > 0 {
			require.True(t, bytes.Equal(content[at:at+int64(k)], b[:k]))
		}
	}
}
