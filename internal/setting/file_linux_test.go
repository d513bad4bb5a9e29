package setting

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

func TestWriteKeepsWhatTheFileHas(t *testing.T) {
	path := filepath.Join(t.TempDir(), "settings")
	dir, err := handle.OpenReal(filepath.Dir(path))
	require.NoError(t, err)
	defer dir.Release()
	w := Writing{Tmp: ".tmp", UID: uint32(os.Getuid()), GID: uint32(os.Getgid())}

	f, err := Read(dir, "settings")
	require.NoError(t, err)
	require.False(t, f.Exists)
	require.Empty(t, f.Sum())
	require.NoError(t, f.Write([]byte("new"), w), "one that did not exist is made")
	require.ErrorIs(t, f.Write([]byte("again"), w), ErrRewritten, "and is not the one that was read")

	require.NoError(t, os.WriteFile(path, []byte("old"), 0o600))
	require.NoError(t, os.Chmod(path, 0o640))
	attribute := unix.Setxattr(path, "user.mark", []byte("x"), 0) == nil
	when := time.Unix(1_700_000_000, 123_000_000)
	require.NoError(t, os.Chtimes(path, when, when))
	f, err = Read(dir, "settings")
	require.NoError(t, err)
	mtime := f.Mtime()
	require.NoError(t, f.Write([]byte("changed"), w))
	fi, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), fi.Mode().Perm())
	if attribute {
		b := make([]byte, 8)
		n, err := unix.Getxattr(path, "user.mark", b)
		require.NoError(t, err)
		require.Equal(t, "x", string(b[:n]))
	}
	f, err = Read(dir, "settings")
	require.NoError(t, err)
	w.Mtime = &mtime
	require.NoError(t, f.Write([]byte("old"), w))
	fi, err = os.Stat(path)
	require.NoError(t, err)
	require.True(t, fi.ModTime().Equal(when), "its time comes back with its content")

	// A program rewrites it between reading and writing, in place and by a new file.
	for _, rewrite := range []func() error{
		func() error { return os.WriteFile(path, []byte("theirs"), 0o640) },
		func() error {
			if err := os.WriteFile(path+".new", []byte("theirs"), 0o640); err != nil {
				return err
			}
			return os.Rename(path+".new", path)
		},
		func() error { return os.Remove(path) },
	} {
		f, err = Read(dir, "settings")
		require.NoError(t, err)
		time.Sleep(20 * time.Millisecond) // more than a step of the clock
		require.NoError(t, rewrite())
		require.ErrorIs(t, f.Write([]byte("ours"), w), ErrRewritten)
		require.NoFileExists(t, filepath.Join(filepath.Dir(path), ".tmp"))
	}
	_, err = os.Stat(path)
	require.True(t, os.IsNotExist(err), "what they did stays")
}

func TestReadTakesFilesOnly(t *testing.T) {
	dir, err := handle.OpenReal(t.TempDir())
	require.NoError(t, err)
	defer dir.Release()
	require.NoError(t, unix.Mkfifo(dir.Join("pipe"), 0o600))
	require.NoError(t, os.Mkdir(dir.Join("d"), 0o700))
	require.NoError(t, os.Symlink("/etc/passwd", dir.Join("link")))
	require.NoError(t, os.WriteFile(dir.Join("large"), make([]byte, Limit+1), 0o600))
	for _, name := range []string{"pipe", "d", "link", "large"} {
		_, err := Read(dir, name)
		require.Error(t, err, name)
	}
}
