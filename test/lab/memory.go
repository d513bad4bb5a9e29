//go:build linux

package lab

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// shm is where programs share memory by way of files.
const shm = "/dev/shm"

// Scratch is a fresh directory for drive images and records: in memory where
// there is plenty, so that thousands of flushes do not wait for the disk. It
// goes away with the test.
func Scratch(t testing.TB) string {
	t.Helper()
	var st unix.Statfs_t
	if unix.Statfs(shm, &st) != nil || st.Type != unix.TMPFS_MAGIC || st.Bavail*uint64(st.Bsize) < 6<<30 ||
		unix.Access(shm, unix.W_OK) != nil {
		return t.TempDir()
	}
	dir, err := os.MkdirTemp(shm, "nexlin-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(dir); err != nil {
			t.Error(err)
		}
	})
	return dir
}

// MemoryDrive mounts a file system in memory, of some MiB. A move to it needs
// --accept target-in-memory.
func MemoryDrive(t testing.TB, name string, mib int) string {
	t.Helper()
	Root(t)
	at := filepath.Join(t.TempDir(), name)
	if err := os.Mkdir(at, 0o755); err != nil {
		t.Fatal(err)
	}
	Mount(t, at, "-t", "tmpfs", "-o", fmt.Sprintf("mode=755,size=%dM", mib), "none")
	return at
}

// Open lets others get to dir, which lies in a test's temporary folder.
func Open(t testing.TB, dir string) {
	t.Helper()
	for d := dir; d != os.TempDir() && d != shm && d != "/"; d = filepath.Dir(d) {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

// MountMemory mounts a small file system in memory over a directory.
func MountMemory(t testing.TB, at string) {
	t.Helper()
	Root(t)
	Mount(t, at, "-t", "tmpfs", "-o", "size=1m", "memory")
}
