package pathtext

import (
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBelow(t *testing.T) {
	for _, c := range []struct{ path, dir, rel string }{
		{"/a/b/c", "/a", "b/c"}, {"/a", "/a", "."}, {"/a", "/", "a"}, {"/", "/", "."}, {"/ab", "/a", ""},
		{"/a", "/a/b", ""}, {"/x", "/a", ""},
	} {
		here := filepath.FromSlash
		root := ""
		if runtime.GOOS == "windows" {
			root = `C:`
		}
		rel, ok := Below(root+here(c.path), root+here(c.dir))
		require.Equal(t, here(c.rel), rel, "%v", c)
		require.Equal(t, c.rel != "", ok, "%v", c)
	}
	_, ok := Below(filepath.FromSlash("/A/b"), filepath.FromSlash("/a"))
	require.Equal(t, runtime.GOOS == "windows", ok)
	if runtime.GOOS == "windows" {
		require.True(t, IsRoot(`C:\`))
		require.False(t, IsRoot(`C:\a`))
		return
	}
	require.True(t, IsRoot("/"))
	require.False(t, IsRoot("/a"))
}
