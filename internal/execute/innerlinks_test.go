package execute

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
		require.Equal(t, want, Meant(sub, text), text)
	}
}
