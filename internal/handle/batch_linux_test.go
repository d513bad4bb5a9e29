package handle_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// What a batch reads is the content, whole; what it does not read is left to the
// caller, whose reads then work as if it had never been. On file systems of disks it reads
// all that is small and as expected.
func TestBatchReadsWholeFiles(t *testing.T) {
	for kind, reads := range map[string]bool{"ext4": true, "xfs": true, "btrfs": true, "tmpfs": false} {
		t.Run(kind, func(t *testing.T) {
			at := t.TempDir()
			switch kind {
			case "tmpfs":
				lab.MountMemory(t, at)
			default:
				at = lab.Drive(t, kind, "KESTREL", map[string]int64{"ext4": 16, "xfs": 320, "btrfs": 128}[kind])
			}
			dir, err := handle.OpenReal(at)
			require.NoError(t, err)
			defer dir.Release()
			var wanted []handle.Wanted
			var content [][]byte
			for i, size := range []int{0, 1, 4095, 4096, 4097, 20000, 65535, 65536, 65537, 300000, 7, 8, 9} {
				name, b := fmt.Sprintf("f%d", i), bytes.Repeat([]byte{byte(i), 7, 255}, size/3+1)[:size]
				require.NoError(t, os.WriteFile(filepath.Join(at, name), b, 0o600))
				f, err := dir.OpenFile(name)
				require.NoError(t, err)
				defer f.Close()
				w := handle.Wanted{File: f, Size: int64(size)}
				if i == 10 || i == 11 {
					w.Size += int64(21 - 2*i) // it has grown, or shrunk, since
				}
				wanted, content = append(wanted, w, handle.Wanted{}), append(content, b, nil)
			}
			require.NoError(t, dir.SyncAll())
			var batch handle.Batch
			buf := handle.Aligned(256 << 10)
			for from := 0; from < len(wanted); {
				n := batch.Read(wanted[from:], buf)
				require.Positive(t, n)
				for i := from; i < from+n; i++ {
					w := &wanted[i]
					if w.File == nil {
						continue
					}
					given := reads && len(content[i]) <= handle.BatchFile && int(w.Size) == len(content[i])
					require.Equal(t, given, w.Content != nil, "%d bytes", len(content[i]))
					if given {
						require.True(t, bytes.Equal(content[i], w.Content), "%d bytes", len(content[i]))
						continue
					}
					got := make([]byte, len(content[i]))
					_, err := w.File.ReadAt(got, 0)
					require.NoError(t, err)
					require.True(t, bytes.Equal(content[i], got), "%d bytes", len(content[i]))
					flags, err := unix.FcntlInt(w.File.Fd(), unix.F_GETFL, 0)
					require.NoError(t, err)
					require.Zero(t, flags&unix.O_DIRECT)
				}
				from += n
			}
		})
	}
}
