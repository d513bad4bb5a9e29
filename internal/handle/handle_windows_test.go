package handle

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

func openTemp(t *testing.T) (*Dir, string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "nexlin")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) }) // Wine lacks the call that this makes
	d, err := OpenReal(dir)
	require.NoError(t, err)
	t.Cleanup(d.Release)
	return d, dir
}

// A file that was flushed is read back past the cache, whatever its length, in pieces of any.
func TestReadBack(t *testing.T) {
	d, _ := openTemp(t)
	for _, size := range []int{0, 1, 4096, 300_001} {
		content := bytes.Repeat([]byte("redshank"), size/8+1)[:size]
		f, err := d.Create("f", 0o600)
		require.NoError(t, err)
		_, err = f.Write(content)
		require.NoError(t, errors.Join(err, f.Flush(), f.Close()))
		f, err = d.OpenFile("f")
		require.NoError(t, err)
		require.Equal(t, !Emulated(), f.Uncache(0, 0))
		require.True(t, f.blocks)
		got, err := io.ReadAll(f)
		require.NoError(t, err)
		require.Equal(t, content, got)
		require.NoError(t, errors.Join(f.Close(), d.Unlink("f")))
	}
}

// A folder that was typed in another case is called what it is called.
func TestSpelled(t *testing.T) {
	_, dir := openTemp(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "Field Notes", "Deep"), 0o755))
	want := filepath.Join(Spelled(dir), "Field Notes")
	require.Equal(t, want, Spelled(filepath.Join(dir, "FIELD notes")))
	require.Equal(t, filepath.Join(want, "New"), Spelled(filepath.Join(dir, "field NOTES", "New")))
}

// A name that another system may have recorded never leads out of its
// directory, into a stream, or to a device.
func TestNamesOfOtherSystems(t *testing.T) {
	d, _ := openTemp(t)
	for _, name := range []string{"", ".", "..", `..\x`, `a\b`, "a/b", "a:b", "a:b:$DATA", "a\x00b"} {
		if name != "." {
			_, err := d.Stat(name)
			require.ErrorIs(t, err, syscall.EINVAL, "%q", name)
		}
		require.Error(t, d.Mkdir(name, 0o755), "%q", name)
		_, err := d.Create(name, 0o644)
		require.Error(t, err, "%q", name)
	}
	names, err := d.Names()
	require.NoError(t, err)
	require.Empty(t, names)
}

// Renaming never replaces; removing takes only what it is asked for.
func TestNothingIsReplaced(t *testing.T) {
	d, dir := openTemp(t)
	for _, n := range []string{"a", "b"} {
		f, err := d.Create(n, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString(n)
		require.NoError(t, err)
		require.NoError(t, f.Sync())
		require.NoError(t, f.Close())
	}
	require.NoError(t, d.Mkdir(".dir", 0o755))
	_, err := d.Create("a", 0o644)
	require.ErrorIs(t, err, fs.ErrExist)
	require.ErrorIs(t, d.Mkdir("a", 0o755), fs.ErrExist)
	require.ErrorIs(t, d.Rename("a", d, "b"), fs.ErrExist)
	require.ErrorIs(t, d.Unlink(".dir"), syscall.EISDIR)
	require.ErrorIs(t, d.Rmdir("a"), syscall.ENOTDIR)
	require.ErrorIs(t, d.Exchange("a", d, "b"), syscall.EINVAL)
	require.NoError(t, d.Replace("a", d, "b"))
	content, err := os.ReadFile(filepath.Join(dir, "b"))
	require.NoError(t, err)
	require.Equal(t, "a", string(content))

	sub, err := d.Beneath(".dir")
	require.NoError(t, err)
	defer sub.Release()
	require.NoError(t, d.Rename("b", sub, "B"))
	require.ErrorIs(t, d.Rmdir(".dir"), syscall.ENOTEMPTY)
	names, err := sub.Names()
	require.NoError(t, err)
	require.Equal(t, []string{"B"}, names)
	require.NoError(t, sub.Unlink("B"))
	names, err = sub.Names()
	require.NoError(t, err)
	require.Empty(t, names, "read anew at each call")
	_, err = d.Stat("b")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// A read-only file can be removed, hidden is a mark, times keep 100 ns.
func TestAttributesAndTimes(t *testing.T) {
	d, dir := openTemp(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), []byte("x"), 0o644))
	when := Time{Sec: 1700000001, Nsec: 987654300}
	require.NoError(t, d.SetTimesEntry("f", when, when))
	st, err := d.Stat("f")
	require.NoError(t, err)
	require.Equal(t, when, st.Mtime)
	require.EqualValues(t, 1, st.Size)
	require.True(t, st.IsRegular())
	for _, hidden := range []bool{true, false} {
		require.NoError(t, d.Hide("f", hidden))
		is, ok, err := d.Hidden("f")
		require.NoError(t, err)
		require.True(t, ok)
		if !Emulated() { // which keeps that mark by its own means, or not at all
			require.Equal(t, hidden, is)
		}
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "f"), 0o444))
	require.NoError(t, d.Unlink("f"))
	self, err := d.Self()
	require.NoError(t, err)
	require.True(t, self.IsDir())
	require.False(t, self.MountRoot)
	require.NoError(t, d.Sync())
	real, err := Real(dir)
	require.NoError(t, err)
	require.True(t, strings.EqualFold(filepath.Base(dir), filepath.Base(real)))
}

// Locks on directories: one alone, or several together, and gone with the handle.
func TestLocksOnDirectories(t *testing.T) {
	d, dir := openTemp(t)
	other, err := OpenReal(dir)
	require.NoError(t, err)
	require.NoError(t, d.Lock(false))
	require.NoError(t, other.Lock(false))
	require.ErrorIs(t, other.Lock(true), syscall.EWOULDBLOCK)
	other.Release()
	require.NoError(t, d.Lock(true))
	third, err := OpenReal(dir)
	require.NoError(t, err)
	defer third.Release()
	require.ErrorIs(t, third.Lock(false), syscall.EWOULDBLOCK)
}

// A pulled drive is "gone" and never "removed", and what the system says of a file that is held
// may pass.
func TestErrorsMeanWhatTheyMeanElsewhere(t *testing.T) {
	for from, want := range map[error]error{
		windows.STATUS_NO_SUCH_DEVICE: syscall.ENODEV, windows.STATUS_DEVICE_REMOVED: syscall.ENODEV,
		windows.STATUS_VOLUME_DISMOUNTED: syscall.ENODEV, windows.ERROR_DEVICE_REMOVED: syscall.ENODEV,
		windows.ERROR_MEDIA_CHANGED: syscall.ENODEV, windows.STATUS_OBJECT_NAME_NOT_FOUND: syscall.ENOENT,
		windows.ERROR_SHARING_VIOLATION: syscall.EBUSY, windows.ERROR_PRIVILEGE_NOT_HELD: syscall.EPERM,
	} {
		require.ErrorIs(t, portable(from), want, from)
	}
	require.ErrorIs(t, portable(windows.STATUS_VIRUS_INFECTED), ErrScanned)
	require.ErrorIs(t, portable(windows.ERROR_VIRUS_INFECTED), ErrScanned)
	require.ErrorIs(t, portable(windows.STATUS_FVE_LOCKED_VOLUME), ErrLocked)
	require.True(t, Gone(portable(windows.STATUS_NO_SUCH_DEVICE)))
	require.False(t, Missing(portable(windows.STATUS_NO_SUCH_DEVICE)))
}

// A file is replaced in one act, a read-only one too; a cluster has a size; the time at which a file
// was made comes over.
func TestReplacesAndClusters(t *testing.T) {
	d, dir := openTemp(t)
	for _, name := range []string{"new", "old"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	}
	if !Emulated() { // whose way of replacing is the legacy one
		require.NoError(t, os.Chmod(filepath.Join(dir, "old"), 0o444))
	}
	require.NoError(t, d.Replace("new", d, "old"))
	b, err := os.ReadFile(filepath.Join(dir, "old"))
	require.NoError(t, err)
	require.Equal(t, "new", string(b))
	room, err := RoomAt(dir)
	require.NoError(t, err)
	require.Positive(t, room.Block)
	require.Zero(t, room.Block&(room.Block-1), "a power of two")

	made := Time{Sec: 1_000_000_000}
	from, err := d.Create("from", 0o644)
	require.NoError(t, err)
	defer from.Close()
	var basic [40]byte
	binary.LittleEndian.PutUint64(basic[:], made.filetime())
	require.NoError(t, set(from.fd, windows.FileBasicInformation, basic[:]))
	to, err := d.Create("to", 0o644)
	require.NoError(t, err)
	defer to.Close()
	require.NoError(t, to.Created(from))
	require.NoError(t, query(to.fd, windows.FileBasicInformation, basic[:]))
	if !Emulated() { // which keeps no such time
		require.Equal(t, made, filetime(binary.LittleEndian.Uint64(basic[:])))
	}
}
