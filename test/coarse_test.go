//go:build linux

package test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// On a file system whose times are whole seconds, what is rewritten within the
// second of its copy carries the same times, size and inode. It is known by its
// content all the same, in both directions.
func TestCoarseTimes(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64, "-I", "128"), lab.Drive(t, "ext4", "BASALT", 64, "-I", "128")
	stamp := func(file string) syscall.Stat_t {
		var st syscall.Stat_t
		require.NoError(t, syscall.Stat(file, &st))
		require.Zero(t, st.Mtim.Nsec)
		st.Atim, st.Blocks = syscall.Timespec{}, 0 // allocated when it is flushed
		return st
	}
	rewrite := func(file, text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }

	t.Run("move", func(t *testing.T) {
		folder := filepath.Join(skerry, "Notes")
		file := filepath.Join(folder, "log")
		for try := 0; ; try++ {
			n := lab.New(t, program)
			require.NoError(t, os.Mkdir(folder, 0o755))
			time.Sleep(time.Until(time.Now().Truncate(time.Second).Add(time.Second + 20*time.Millisecond)))
			rewrite(file, "the old text")
			before, same := stamp(file), false
			out, code := midway(t, n, "pass-1", func(*os.Process) {
				rewrite(file, "the new text")
				same = before == stamp(file)
			}, "move", folder, "--into", basalt, "--yes")
			require.Zero(t, code, out)
			got, err := os.ReadFile(filepath.Join(basalt, "Notes", "log"))
			require.NoError(t, err)
			require.Equal(t, "the new text", string(got))
			if same || try == 5 {
				require.True(t, same, "the machine is too slow to write twice within a second")
				return
			}
			n.Want(0, "undo", n.LastRun(), "--yes")
			lab.Run(t, "rm", "-rf", folder)
		}
	})
	t.Run("bring-back", func(t *testing.T) {
		n := lab.New(t, program)
		folder := filepath.Join(skerry, "Charts")
		require.NoError(t, os.Mkdir(folder, 0o755))
		rewrite(filepath.Join(folder, "log"), "the old text")
		n.Want(0, "move", folder, "--into", basalt, "--yes")
		rewrite(filepath.Join(folder, "log"), "the new text")
		n.Want(0, "bring-back", "charts", "--yes")
		got, err := os.ReadFile(filepath.Join(folder, "log"))
		require.NoError(t, err)
		require.Equal(t, "the new text", string(got))
	})
}
