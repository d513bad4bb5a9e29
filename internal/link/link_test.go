//go:build linux

package link

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

func TestChain(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	lab.Tree{"real/data/f: 1", "one => real", "two => one/data", "loop => loop", "abs => " + dir + "/two", "dangling => nowhere/x"}.Make(t, dir)
	steps, real, err := Chain(filepath.Join(dir, "abs", "f"))
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "real/data/f"), real)
	require.Equal(t, []Step{
		{filepath.Join(dir, "abs"), dir + "/two"}, {filepath.Join(dir, "two"), "one/data"}, {filepath.Join(dir, "one"), "real"},
	}, steps)
	_, _, err = Chain(filepath.Join(dir, "loop"))
	require.ErrorIs(t, err, unix.ELOOP)
	steps, real, err = Chain(filepath.Join(dir, "dangling", "y"))
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.Len(t, steps, 1)
	require.Equal(t, filepath.Join(dir, "nowhere/x/y"), real)
}

// A link is removed only if its text is ours.
func TestOnlyOursIsRemoved(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"file: 1", "dir/", "theirs => elsewhere"}.Make(t, dir)
	d, err := handle.Open(dir)
	require.NoError(t, err)
	defer d.Release()
	require.NoError(t, Make(d, "ours", "/the target"))
	require.ErrorIs(t, Make(d, "ours", "/the target"), fs.ErrExist)
	for name, want := range map[string]bool{"ours": true, "theirs": false, "file": false, "dir": false, "nothing": false} {
		got, err := Is(d, name, "/the target")
		require.NoError(t, err)
		require.Equal(t, want, got, name)
	}
	for _, name := range []string{"theirs", "file", "dir"} {
		require.ErrorIs(t, Remove(d, name, "/the target"), ErrNotOurs)
		_, err := os.Lstat(filepath.Join(dir, name))
		require.NoError(t, err)
	}
	require.NoError(t, Remove(d, "ours", "/the target"))
	require.NoError(t, Remove(d, "ours", "/the target"))
	before := lab.Print(t, filepath.Join(dir, "dir"))
	exchanges, err := TryBeside(d, ".try", "/the target")
	require.NoError(t, err)
	require.True(t, exchanges)
	require.NoFileExists(t, filepath.Join(dir, ".trya"))
	require.Equal(t, before, lab.Print(t, filepath.Join(dir, "dir")))
}
