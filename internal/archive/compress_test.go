package archive

import (
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

func compress(t *testing.T, b []byte) []byte {
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	return z.EncodeAll(b, nil)
}
