package redirect

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestMeant(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "home/folder/sub"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "far/away"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(dir, "far/away"), filepath.Join(dir, "home/alias")))
	sub := filepath.Join(dir, "home/folder/sub")
	for text, want := range map[string]string{
		"../../x":             dir + "/home/x",
		"../..":               dir + "/home",
		"./.././../x/y/":      dir + "/home/x/y/",
		"../../a b/\xff":      dir + "/home/a b/\xff",
		"../../alias/../near": dir + "/far/near", // ".." of where the alias leads
		"../../none/../near":  dir + "/home/near",
		"../../../../../../../../../../../../../../../../x": "/x",
	} {
		require.Equal(t, want, meant(sub, text), text)
	}
}

func TestBreaks(t *testing.T) {
	move := &Leaving{From: "/h/Docs", Link: "/h/Docs", First: true}
	on := &Leaving{From: "/mnt/b/Docs", Link: "/h/Docs"}
	for _, c := range []struct {
		folder    *Leaving
		dir, text string
		breaks    bool
	}{
		{move, "/h", "Docs/x", false}, {move, "/h", "/h/Docs", false}, {move, "/h", "Docs/../x", true},
		{move, "/h/bin", "../Docs/a/../b", false},
		{move, "/h/bin", "/h/Docs/a/../../x", true}, {move, "/h", "../h/./Docs/..", true},
		{move, "/h", "Documents/../x", false},
		{on, "/h", "/mnt/b/Docs/x", true}, {on, "/h", "Docs/x", false}, {on, "/h", "../mnt/b/Docs", true},
		{on, "/h", "/mnt/b/Docs2", false},
	} {
		require.Equal(t, c.breaks, c.folder.breaks(c.dir, c.text), "%s: %s => %s", c.folder.From, c.dir, c.text)
	}
}
