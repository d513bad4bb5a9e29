//go:build faults

package transfer

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
)

// sparse makes a file of so many MiB that is a hole but for a few bytes, in the middle and, if it
// ends in data, at its end.
func (b *bench) sparse(name string, mib int64, toEnd bool) {
	b.t.Helper()
	f, err := os.Create(filepath.Join(b.source, name))
	require.NoError(b.t, err)
	_, err = f.WriteAt([]byte("kelp"), mib<<19+7)
	require.NoError(b.t, err)
	require.NoError(b.t, f.Truncate(mib<<20))
	if toEnd {
		_, err = f.WriteAt([]byte("end"), mib<<20-3)
		require.NoError(b.t, err)
	}
	require.NoError(b.t, f.Sync())
	require.NoError(b.t, f.Close())
}

// A system that tells no holes, or tells data that is not flushed yet as a hole, has files
// read whole; their holes are kept all the same.
func TestHolesAreKeptWhereTheyAreNotTold(t *testing.T) {
	for how, errno := range map[string]error{"told": nil, "not told": syscall.EOPNOTSUPP} {
		t.Run(how, func(t *testing.T) {
			b := newBench(t)
			b.sparse("small", 1, true)
			b.sparse("large", 9, false)
			b.write("zeros", string(make([]byte, 300<<10))) // no holes: they stay data
			handle.OnCall = func(name string) error {
				if name == "lseek" {
					return errno
				}
				return nil
			}
			defer func() { handle.OnCall = nil }()
			b.mustPass()
			b.equal()
			for name, most := range map[string]int64{"small": 256 << 10, "large": 256 << 10, "zeros": 512 << 10} {
				st, err := handle.Lstat(filepath.Join(b.copy, name))
				require.NoError(t, err)
				require.LessOrEqual(t, st.Allocated, most, name)
			}
			st, err := handle.Lstat(filepath.Join(b.copy, "zeros"))
			require.NoError(t, err)
			require.GreaterOrEqual(t, st.Allocated, st.Size)
		})
	}
}
