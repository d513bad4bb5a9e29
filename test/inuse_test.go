//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A folder that can be written to by another path, as a container's volume is,
// is in use: it is neither moved nor is its held original discarded.
func TestInUseByAnotherPath(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	folder, volume := filepath.Join(skerry, "ines", "Music"), filepath.Join(t.TempDir(), "volume")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.Mkdir(volume, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "dawn.wav"), []byte("dawn"), 0o644))
	n := lab.New(t, program)

	unmount := lab.Mount(t, volume, "--bind", folder)
	require.Contains(t, n.Want(6, "move", folder, "--into", basalt, "--yes"), "the mount at "+volume)
	require.NoDirExists(t, filepath.Join(basalt, "Music"))
	unmount()
	n.Want(0, "move", folder, "--into", basalt, "--yes")
	held, err := filepath.Glob(filepath.Join(skerry, "ines", ".Music.held-*"))
	require.NoError(t, err)
	require.Len(t, held, 1)
	unmount = lab.Mount(t, volume, "--bind", held[0])
	require.Contains(t, n.Want(6, "discard-original", "music", "--yes"), "the mount at "+volume)
	require.DirExists(t, held[0])
	unmount()
	n.Want(0, "discard-original", "music", "--yes")
	require.NoDirExists(t, held[0])
}
