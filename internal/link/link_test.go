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
	"nexlin/internal/junction"
	"nexlin/test/lab"
)

func TestChain(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	lab.Tree{"real/data/f: 1", "one => real", "two => one/data", "loop => loop", "abs => " + dir + "/two",
		"dangling => nowhere/x"}.Make(t, dir)
	steps, real, err := Chain(filepath.Join(dir, "abs", "f"))
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "real/data/f"), real)
	require.Equal(t, []Step{
		{filepath.Join(dir, "abs"), dir + "/two"}, {filepath.Join(dir, "two"), "one/data"},
		{filepath.Join(dir, "one"), "real"},
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
	for name, want := range map[string]bool{"ours": true, "theirs": false, "file": false, "dir": false,
		"nothing": false} {
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
	empty, err := d.Sub("dir")
	require.NoError(t, err)
	defer empty.Release()
	exchanges, err := TryIn(empty, "/the target")
	require.NoError(t, err)
	require.True(t, exchanges)
	names, err := empty.Names()
	require.NoError(t, err)
	require.Empty(t, names)
}

// A rename that somebody is in the way of is done again; any other error is
// the answer at once.
func TestPatiently(t *testing.T) {
	for _, c := range []struct {
		errs  []error
		tries int
		want  error
	}{
		{[]error{unix.EBUSY, unix.EBUSY, nil}, 3, nil},
		{[]error{unix.EEXIST}, 1, unix.EEXIST},
		{[]error{unix.EBUSY, unix.EIO}, 2, unix.EIO},
	} {
		tries := 0
		err := Patiently(func() error { tries++; return c.errs[tries-1] })
		require.ErrorIs(t, err, c.want)
		require.Equal(t, c.tries, tries)
	}
}

func TestJunctionTexts(t *testing.T) {
	for seen, text := range map[string]string{
		`d:/ines/Documents/`: `\??\D:\ines\Documents`,
		`\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\a`: `\??\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\a`,
	} {
		got, err := JunctionTo(seen)
		require.NoError(t, err)
		require.Equal(t, text, got)
		require.True(t, IsJunction(got))
		again, err := JunctionTo(Seen(got))
		require.NoError(t, err)
		require.Equal(t, got, again)
	}
	_, err := JunctionTo(`\\server\share`)
	require.ErrorIs(t, err, junction.ErrTarget)
	require.False(t, IsJunction("/mnt/x"))
	require.Equal(t, "/mnt/x", Seen("/mnt/x"))
}
