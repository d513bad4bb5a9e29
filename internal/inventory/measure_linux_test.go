package inventory

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// What names the folder by its own path is found, in the files that tools keep such paths in.
func TestFilesThatNameTheirFolder(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"venv/pyvenv.cfg: command = python3 -m venv " + dir + "/venv", "venv/bin/activate: VIRTUAL_ENV='" + dir + "/venv'",
		"tree/.git: gitdir: " + dir + "/repo/.git/worktrees/tree", "repo/.git/worktrees/tree/gitdir: " + dir + "/tree/.git",
		"other/.git: gitdir: " + dir + "-2/repo", "note.txt: " + dir, "gitdir/x: x", "more/", "more/gitdir => " + dir}.Make(t, dir)
	root, err := handle.OpenReal(dir)
	require.NoError(t, err)
	defer root.Release()
	f, err := Measure(context.Background(), root, Options{})
	require.NoError(t, err)
	slices.Sort(f.OwnPath.Paths)
	require.Equal(t, []string{"repo/.git/worktrees/tree/gitdir", "tree/.git", "venv/bin/activate", "venv/pyvenv.cfg"},
		f.OwnPath.Paths)
	for text, names := range map[string]bool{"x /a/b": true, "/a/b/c": true, "/a/bc /a/b\n": true, "/a/bc": false, "": false,
		"'/a/b'": true, "/a/b.d": false} {
		require.Equal(t, names, namesPath(text, "/a/b"), text)
	}
}
