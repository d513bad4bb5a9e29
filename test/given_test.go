//go:build linux

package test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// mode is an entry's type, permissions and owner as stat(1) says them.
func mode(t *testing.T, path string) string {
	t.Helper()
	return strings.TrimSpace(lab.Run(t, "stat", "-c", "%A %u:%g", path))
}

// An archive that an administrator makes of an account's folder goes to that
// account only if everything in it is the account's own.
func TestPackedForAnAccount(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	folder := filepath.Join(skerry, "ines", "Notes")
	lab.Tree{"a: a"}.Make(t, folder)
	lab.Run(t, "chown", "-R", "65534:65534", filepath.Dir(folder))
	n := lab.New(t, program)
	own, mixed := filepath.Join(basalt, "own.tar.zst"), filepath.Join(basalt, "mixed.tar.zst")
	n.Want(0, "pack", folder, "--output", own, "--yes")
	require.Equal(t, "-rw------- 65534:65534", mode(t, own))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "secret"), []byte("root's own"), 0o600))
	require.Contains(t, n.Want(0, "pack", folder, "--output", mixed, "--yes"), "[archive-not-given]")
	require.Equal(t, "-rw------- 0:0", mode(t, mixed))
}

// An archive that nobody vouches for brings no rights of anybody's: neither to an
// administrator who unpacks what an account owns, nor to an account.
func TestUnpackedWithoutRights(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	folder, archive := filepath.Join(skerry, "Tools"), filepath.Join(skerry, "tools.tar.zst")
	lab.Tree{"plain: p", "program: x"}.Make(t, folder)
	lab.Run(t, "sh", "-c",
		`cd "$1" && chmod 6755 program && cp -p program able && mknod null c 1 3 && setcap cap_net_raw+ep able`, "sh",
		folder)
	before := lab.Print(t, folder)
	packer := lab.New(t, program)
	packer.Want(0, "pack", folder, "--output", archive, "--yes")
	require.NoError(t, os.Chown(archive, ordinary, ordinary))
	require.NoError(t, os.Chmod(archive, 0o644))

	// The ledger that knows its digest vouches for it.
	packer.Want(0, "unpack", archive, "--into", basalt, "--as", "same", "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "same")))

	stranger := lab.New(t, program)
	out := stranger.Want(0, "unpack", archive, "--into", basalt, "--as", "root", "--yes")
	require.Contains(t, out, "the device node (only from an archive")
	account := lab.New(t, program).As(ordinary)
	lab.Open(t, basalt)
	open := filepath.Join(basalt, "open")
	require.NoError(t, os.Mkdir(open, 0o777))
	require.NoError(t, os.Chown(open, ordinary, ordinary))
	account.Want(0, "unpack", archive, "--into", open, "--as", "account", "--yes")
	for _, dir := range []string{filepath.Join(basalt, "root"), filepath.Join(open, "account")} {
		require.Equal(t, "-rwxr-xr-x 65534:65534", mode(t, filepath.Join(dir, "program")))
		require.Equal(t, "-rw-r--r-- 65534:65534", mode(t, filepath.Join(dir, "plain")))
		require.False(t, lab.Exists(filepath.Join(dir, "null")))
		_, err := syscall.Getxattr(filepath.Join(dir, "able"), "security.capability", nil)
		require.ErrorIs(t, err, syscall.ENODATA)
	}
	// What is the administrator's own, and nobody else may write, is his to unpack.
	require.NoError(t, os.Chown(archive, 0, 0))
	stranger.Want(0, "unpack", archive, "--into", basalt, "--as", "own", "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "own")))
}

// What a directory hands down to what is made in it gives nobody rights that the
// original did not give, and stops no run.
func TestInheritedRights(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	handsDown := func(dir string) { lab.Run(t, "setfacl", "-d", "-m", "u:12345:rwx,o::rwx", dir) }
	rights := func(path string) string { return lab.Run(t, "getfacl", "-c", "-p", path) }
	const none = "user::rw-\ngroup::r--\nother::r--\n\n"
	folder := filepath.Join(skerry, "Notes")
	lab.Tree{"deep/a: a", "deep/b: b"}.Make(t, folder)
	handsDown(filepath.Join(folder, "deep"))
	n := lab.New(t, program)

	// A file is made during the copy, without what its directory hands down.
	out, code := midway(t, n, "pass-1", func(*os.Process) {
		at := filepath.Join(folder, "deep", "new")
		require.NoError(t, os.WriteFile(at, []byte("new"), 0o644))
		lab.Run(t, "setfacl", "-b", at)
		require.NoError(t, os.Chmod(at, 0o644))
	}, "move", folder, "--into", basalt, "--yes")
	require.Zero(t, code, out)
	target := filepath.Join(basalt, "Notes")
	require.Equal(t, none, rights(filepath.Join(target, "deep", "new")))

	// Something is written to the held original late.
	held, err := filepath.Glob(filepath.Join(skerry, ".Notes.held-*"))
	require.NoError(t, err)
	late := filepath.Join(held[0], "deep", "late")
	require.NoError(t, os.WriteFile(late, []byte("late"), 0o644))
	lab.Run(t, "setfacl", "-b", late)
	require.NoError(t, os.Chmod(late, 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(held[0], "deep", "dir"), 0o755))
	lab.Run(t, "setfacl", "-b", filepath.Join(held[0], "deep", "dir"))
	n.Want(0, "discard-original", "notes", "--yes")
	require.Equal(t, none, rights(filepath.Join(target, "deep", "late")))
	require.NotContains(t, rights(filepath.Join(target, "deep", "dir")), "12345")

	// An archive is unpacked where a list is handed down.
	plain := filepath.Join(skerry, "Plain")
	lab.Tree{"deep/a: a"}.Make(t, plain)
	n.Want(0, "pack", plain, "--output", filepath.Join(basalt, "plain.tar.zst"), "--yes")
	into := filepath.Join(basalt, "into")
	require.NoError(t, os.Mkdir(into, 0o755))
	handsDown(into)
	n.Want(0, "unpack", filepath.Join(basalt, "plain.tar.zst"), "--into", into, "--yes")
	require.Equal(t, none, rights(filepath.Join(into, "Plain", "deep", "a")))
	require.NotContains(t, lab.Run(t, "getfacl", "-R", "-c", filepath.Join(into, "Plain")), "12345")
}
