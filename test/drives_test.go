//go:build linux

package test

import (
	"bytes"
	"encoding/base64"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

const ordinary = 65534 // an account without rights

// goTree copies Go's own source tree, about 10,000 files, and gives some of
// it attributes and owners.
func goTree(t *testing.T, to string) {
	t.Helper()
	root := strings.TrimSpace(lab.Run(t, "go", "env", "GOROOT"))
	lab.Run(t, "cp", "-a", root, to)
	lab.Run(t, "chmod", "-R", "u+w", to)
	// A few large programs less, the compiler's own source and its tests: what is left is as
	// deep and as mixed.
	for _, less := range []string{"bin", "pkg", "src/cmd", "test"} {
		require.NoError(t, os.RemoveAll(filepath.Join(to, less)))
	}
	lab.Run(t, "setfattr", "-n", "user.species", "-v", "redshank", filepath.Join(to, "LICENSE"),
		filepath.Join(to, "src"))
	lab.Run(t, "setfacl", "-m", "u:65534:r", filepath.Join(to, "README.md"))
	require.NoError(t, os.Symlink("../LICENSE", filepath.Join(to, "src", "a link")))
	require.NoError(t, os.Chmod(filepath.Join(to, "PATENTS"), 0o4755))
	lab.Run(t, "chown", "-R", "12345:23456", filepath.Join(to, "doc"))
	sparse, err := os.Create(filepath.Join(to, "sparse"))
	require.NoError(t, err)
	require.NoError(t, sparse.Truncate(64<<20))
	_, err = sparse.WriteAt([]byte("in the middle"), 40<<20)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	lab.Run(t, "sync", "-f", to)
}

func TestMoveGoTreeBetweenDrives(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 900), lab.Drive(t, "ext4", "BASALT", 900)
	folder := filepath.Join(skerry, "home", "ines", "Documents")
	require.NoError(t, os.MkdirAll(filepath.Dir(folder), 0o755))
	goTree(t, folder)
	kept := filepath.Join(t.TempDir(), "kept")
	lab.Run(t, "cp", "-a", folder, kept)
	before := lab.Print(t, folder)
	files := []string{"LICENSE", "src/fmt/print.go", "src/a link"}
	n := lab.New(t, plain(t)) // the detector of races takes four times as long

	r := lab.Read(folder, files...)
	n.Want(0, "move", folder, "--into", basalt+"/ines", "--yes")
	r.Stop(t)
	target := filepath.Join(basalt, "ines", "Documents")
	text, err := os.Readlink(folder)
	require.NoError(t, err)
	require.Equal(t, target, text)
	lab.Run(t, "diff", "-r", "--no-dereference", kept, folder+"/")
	require.Equal(t, before, lab.Print(t, target))
	st, err := os.Stat(filepath.Join(target, "sparse"))
	require.NoError(t, err)
	require.Less(t, lab.Allocated(t, filepath.Join(target, "sparse")), st.Size()/4, "the hole was filled")
	n.Want(0, "check")
	n.Want(0, "try", "documents")

	// Stock tools verify the copy by what lies beside it.
	if _, err := exec.LookPath("mtree"); err != nil {
		lab.Skip(t, "mtree is not installed")
	}
	out := lab.Run(t, "mtree", "-f", filepath.Join(basalt, "ines", ".nexlin", "documents.mtree"), "-p", target)
	require.Empty(t, out)
	sums := filepath.Join(t.TempDir(), "sums")
	for digest, tool := range map[string]string{"sha256": "sha256sum", "blake3": "b3sum"} {
		list, err := n.Cmd("show", "documents", "--manifest", digest).Output()
		require.NoError(t, err)
		require.Greater(t, bytes.Count(list, []byte("\n")), 5000)
		require.NoError(t, os.WriteFile(sums, list, 0o644))
		lab.Run(t, "sh", "-c", "cd \"$1\" && $2 --quiet -c \"$3\"", "sh", target, tool, sums)
	}

	r = lab.Read(folder, files...)
	n.Want(0, "bring-back", "documents", "--yes")
	r.Stop(t)
	require.Equal(t, before, lab.Print(t, folder))
	lab.Run(t, "diff", "-r", "--no-dereference", kept, folder)
	require.NoDirExists(t, target)

	// The held target goes; another move; detach leaves the data.
	n.Want(0, "discard-original", "documents", "--yes")
	n.Want(0, "move", folder, "--into", basalt+"/ines", "--yes", "-q")
	n.Want(0, "detach", "documents", "--yes")
	require.NoFileExists(t, folder)
	require.Equal(t, before, lab.Print(t, target))
}

func TestMoveAsOrdinaryAccount(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "xfs", "BASALT", 320)
	home := filepath.Join(skerry, "ines")
	lab.Tree{"Documents/", "Documents/a: a", "Documents/deep/er/b: b", "Documents/l => deep/er/b", "Documents/ro/: ",
		"Documents/none/"}.Make(t, home)
	lab.Run(t, "chmod", "555", filepath.Join(home, "Documents/deep"))
	lab.Run(t, "chmod", "400", filepath.Join(home, "Documents/a"))
	lab.Run(t, "chown", "-hR", "65534:65534", home)
	// The root of BASALT is not this account's: the tag goes where it may write.
	theirs := filepath.Join(basalt, "accounts", "ines")
	require.NoError(t, os.MkdirAll(theirs, 0o755))
	require.NoError(t, os.Chown(theirs, ordinary, ordinary))
	before := lab.Print(t, filepath.Join(home, "Documents"))
	n := lab.New(t, program).As(ordinary)
	n.Want(0, "move", filepath.Join(home, "Documents"), "--into", theirs, "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(theirs, "Documents")))
	require.FileExists(t, filepath.Join(theirs, ".nexlin", "drive.json"))
	n.Want(0, "check")
	n.Want(0, "bring-back", "documents", "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(home, "Documents")))
	n.Want(0, "discard-original", "documents", "--yes")

	// What belongs to others needs rights, and that is said.
	lab.Run(t, "chown", "0:0", filepath.Join(home, "Documents/a"))
	lab.Run(t, "chmod", "644", filepath.Join(home, "Documents/a"))
	before = lab.Print(t, skerry)
	out := n.Want(3, "move", filepath.Join(home, "Documents"), "--into", theirs, "--yes")
	require.Contains(t, out, "[owner-needs-rights]")
	require.Contains(t, out, "run as administrator")
	require.Equal(t, before, lab.Print(t, skerry))
}

// An account without rights merges halves whose directories are read-only, and
// they are so again afterwards.
func TestMergeReadOnlyDirectories(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	home, theirs := filepath.Join(skerry, "ines"), filepath.Join(basalt, "ines")
	lab.Tree{"Notes/a: a", "Notes/ro/x: old", "Notes/ro/deep/y: y"}.Make(t, home)
	require.NoError(t, os.MkdirAll(theirs, 0o755))
	lab.Run(t, "chmod", "555", filepath.Join(home, "Notes/ro"), filepath.Join(home, "Notes/ro/deep"))
	lab.Run(t, "chown", "-hR", "65534:65534", home, theirs)
	n := lab.New(t, program).As(ordinary)
	folder := filepath.Join(home, "Notes")
	n.Want(0, "move", folder, "--into", theirs, "--yes", "-q")
	n.Want(0, "discard-original", "notes", "--yes", "-q")
	target := lab.Print(t, filepath.Join(theirs, "Notes"))
	require.NoError(t, os.Remove(folder))
	lab.Tree{"Notes/ro/x: new", "Notes/ro/z: z", "Notes/ro/deep/w: w", "Notes/ro/more/v: v"}.Make(t, home)
	lab.Run(t, "chmod", "555", filepath.Join(folder, "ro"), filepath.Join(folder, "ro/deep"),
		filepath.Join(folder, "ro/more"))
	lab.Run(t, "chown", "-hR", "65534:65534", folder)
	half := lab.Print(t, folder)
	n.Want(0, "mend", "notes", "--yes", "-q")
	for path, want := range map[string]string{"ro/x": "new", "ro/z": "z", "ro/deep/y": "y", "ro/deep/w": "w",
		"ro/more/v": "v"} {
		got, err := os.ReadFile(filepath.Join(folder, path))
		require.NoError(t, err)
		require.Equal(t, want, string(got), path)
	}
	for _, dir := range []string{"ro", "ro/deep", "ro/more"} {
		st, err := os.Stat(filepath.Join(folder, dir))
		require.NoError(t, err)
		require.EqualValues(t, 0o555, st.Mode().Perm(), dir)
	}
	n.Want(0, "check")
	n.Want(0, "undo", n.LastRun(), "--yes", "-q")
	require.Equal(t, half, lab.Print(t, folder))
	require.Empty(t, lab.Changes(target, lab.Print(t, filepath.Join(theirs, "Notes"))))
}

// As root over another account's folder: the copy belongs to that account,
// and nothing of root's is left in the home.
func TestMoveForAnotherAccount(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "btrfs", "BASALT", 256)
	home := filepath.Join(skerry, "ines")
	lab.Tree{"Documents/a: a", "Documents/deep/er/b: b"}.Make(t, home)
	lab.Run(t, "chown", "-hR", "65534:65534", home)
	before := lab.Print(t, filepath.Join(home, "Documents"))
	n := lab.New(t, program)
	n.Want(0, "move", filepath.Join(home, "Documents"), "--into", "BASALT:/ines", "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "ines", "Documents")))
	require.NotContains(t, lab.Print(t, filepath.Join(basalt, "ines")), " 0:0 ")
	require.NotContains(t, lab.Print(t, home), " 0:0 ", "the link is the account's, too")
	n.Want(0, "detach", "documents", "--yes")
	n.Want(0, "undo", n.LastRun(), "--yes")
	require.NotContains(t, lab.Print(t, home), " 0:0 ")
	lab.Run(t, "setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "sh", "-c",
		"echo new > \"$1/Documents/new\"", "sh", home)
	n.Want(0, "bring-back", "documents", "--yes")
	require.NotContains(t, lab.Print(t, filepath.Join(home, "Documents")), " 0:0 ")
}

// What belongs to one account and lies in another one's directory could have
// been put there: an administrator is told, and has to say that it is right.
func TestInOthersHands(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"wren/Documents/a: a", "wren/roots/x/b: b"}.Make(t, skerry)
	lab.Tree{"wren/roots/"}.Make(t, basalt)
	lab.Run(t, "chown", "-R", "65534:65534", filepath.Join(skerry, "wren/Documents"))
	lab.Run(t, "chown", "65534:65534", filepath.Join(skerry, "wren"), filepath.Join(basalt, "wren"))
	n := lab.New(t, program)
	before := lab.Print(t, skerry) + lab.Print(t, basalt)
	for folder, into := range map[string]string{"wren/roots": "", "wren/roots/x": "", "wren/Documents": "wren/roots"} {
		args := []string{"move", filepath.Join(skerry, folder), "--into", filepath.Join(basalt, into), "--yes"}
		out := n.Want(3, args...)
		require.Contains(t, out, "[in-others-hands]")
		require.Equal(t, before, lab.Print(t, skerry)+lab.Print(t, basalt))
	}
	n.Want(0, "move", filepath.Join(skerry, "wren/Documents"), "--into", filepath.Join(basalt, "wren"), "--yes")
	n.Want(0, "move", filepath.Join(skerry, "wren/roots/x"), "--into", basalt, "--yes", "--accept", "in-others-hands")
	n.Want(0, "discard-original", "x", "--yes", "--accept", "in-others-hands")
	n.Want(0, "check")
}

func TestRefusalsOnDrives(t *testing.T) {
	t.Parallel()
	skerry := lab.Drive(t, "ext4", "SKERRY", 64)
	lab.Tree{"Documents/a: a", "Documents/b/c: c"}.Make(t, skerry)
	n := lab.New(t, program)
	folder := filepath.Join(skerry, "Documents")
	refuse := func(code string, args ...string) {
		t.Helper()
		before := lab.Print(t, skerry)
		out := n.Want(3, append([]string{"move", folder, "--yes", "--into"}, args...)...)
		require.Contains(t, out, "["+code+"]")
		require.Contains(t, out, "nothing was changed")
		require.Equal(t, before, lab.Print(t, skerry))
	}
	t.Run("read-only", func(t *testing.T) {
		at := lab.Drive(t, "ext4", "BASALT", 16)
		lab.Run(t, "mount", "-o", "remount,ro", at)
		refuse("target-not-writable", at)
	})
	t.Run("inodes", func(t *testing.T) {
		at := lab.Drive(t, "ext4", "BASALT", 16, "-N", "16")
		refuse("inodes-short", at)
	})
	t.Run("full", func(t *testing.T) {
		at := lab.Drive(t, "ext4", "BASALT", 16)
		lab.Run(t, "sh", "-c", "head -c 100M /dev/zero > \"$1/fill\" 2>/dev/null; true", "sh", at)
		refuse("space-short", at)
	})
	t.Run("ledger", func(t *testing.T) {
		basalt, tiny := lab.Drive(t, "ext4", "BASALT", 16), t.TempDir()
		lab.Mount(t, tiny, "-t", "tmpfs", "-o", "size=1M", "none")
		before := lab.Print(t, skerry)
		out := n.Want(3, "--state-dir", filepath.Join(tiny, "state"), "move", folder, "--into", basalt, "--yes")
		require.Contains(t, out, "[no-ledger-room]")
		require.Contains(t, out, "--state-dir")
		require.Equal(t, before, lab.Print(t, skerry))
	})
	t.Run("memory", func(t *testing.T) {
		at := t.TempDir()
		lab.Mount(t, at, "-t", "tmpfs", "-o", "size=8M", "none")
		refuse("target-in-memory", at)
	})
	t.Run("mount inside, mount point, bind mount", func(t *testing.T) {
		basalt := lab.Drive(t, "ext4", "BASALT", 16)
		inside := filepath.Join(folder, "b")
		unmount := lab.Mount(t, inside, "-t", "tmpfs", "none")
		refuse("mount-inside", basalt)
		unmount()
		out := n.Want(3, "move", skerry, "--into", basalt, "--yes")
		require.Contains(t, out, "[is-a-mount-point]")
		other := t.TempDir()
		lab.Mount(t, other, "--bind", skerry)
		refuse("same-drive", other)
	})
}

// The drive is told by its identity, not by its place (I5).
func TestAnotherDriveAtTheSamePlace(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Documents/a: a"}.Make(t, skerry)
	n := lab.New(t, program)
	n.Want(0, "move", filepath.Join(skerry, "Documents"), "--into", basalt, "--yes", "-q")
	// A drive of the same label is mounted over it.
	other := lab.Drive(t, "ext4", "BASALT", 32)
	lab.Mount(t, basalt, "--bind", other)
	out := n.Want(7, "check")
	require.Contains(t, out, "away")
	before := lab.Print(t, other)
	n.Want(7, "bring-back", "documents", "--yes")
	require.Equal(t, before, lab.Print(t, other))
}

// While the drive of a stopped run is away, nothing else is moved or packed to its empty
// mount point, where the run would hide it when it goes on.
func TestStoppedRunKeepsItsPlace(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Documents/a: a", "Music/b: b"}.Make(t, skerry)
	n := lab.New(t, program)
	n.Env = []string{"NEXLIN_FAULT=kill:sealed"}
	n.Want(-1, "move", filepath.Join(skerry, "Documents"), "--into", basalt+"/ines", "--yes", "-q")
	n.Env = nil
	lab.Unmount(t, basalt)
	music := filepath.Join(skerry, "Music")
	require.Contains(t, n.Want(7, "move", music, "--into", basalt+"/ines", "--yes"), "BASALT is not here")
	n.Want(7, "move", music, "--into", basalt+"/ines", "--preview")
	n.Want(7, "pack", music, "--output", basalt+"/music.tar.zst", "--yes")
	require.Empty(t, names(t, basalt), "nothing is written where the drive should be")
	lab.Run(t, "mount", "-o", "loop", basalt+".img", basalt)
	n.Want(0, "resume", "--yes", "-q")
	n.Want(0, "move", music, "--into", basalt+"/ines", "--yes", "-q")
}

// With the drive away there is nothing to bring back, and it is said what is
// left if it never comes; a link can be taken away all the same.
func TestDriveAway(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Documents/a: a"}.Make(t, skerry)
	folder := filepath.Join(skerry, "Documents")
	before := lab.Print(t, folder)
	n := lab.New(t, program)
	n.Want(0, "move", folder, "--into", basalt, "--yes", "-q")
	lab.Unmount(t, basalt)
	out := n.Want(7, "bring-back", "documents", "--yes")
	require.Contains(t, out, "[drive-away]")
	require.Regexp(t,
		`if the drive is lost for good, the folder as it was on .* is .*\.Documents\.held-.*: .nexlin detach documents., then rename it`, out)
	n.Want(7, "discard-original", "documents", "--yes")
	n.Want(7, "undo", n.LastRun(), "--yes")
	out = n.Want(0, "detach", "documents", "--yes")
	require.Contains(t, out, "BASALT is not here; the data stays on it")
	require.NoFileExists(t, folder)
	require.Empty(t, names(t, basalt), "nothing is written where the drive should be")
	n.Want(7, "bring-back", "documents", "--yes")
	lab.Run(t, "mount", "-o", "loop", basalt+".img", basalt)
	n.Want(0, "bring-back", "documents", "--yes")
	require.Equal(t, before, lab.Print(t, folder))
}

// Spaces, quotes, newlines, leading dashes, percent signs and bytes that are
// no UTF-8 may stand anywhere: in the folder, the target, the drive's mount
// point, the state directory.
func TestOddPathsEverywhere(t *testing.T) {
	t.Parallel()
	const odd = "-o 'dd\"\n\xff%20?#"
	dir, basalt := t.TempDir(), lab.Drive(t, "ext4", "BASALT", 32)
	mount := filepath.Join(dir, "mount "+odd)
	require.NoError(t, os.Mkdir(mount, 0o755))
	lab.Mount(t, mount, "--bind", basalt)
	folder := filepath.Join(dir, "home "+odd, "folder "+odd)
	lab.Tree{"a: a", odd + ": b", "link => " + odd}.Make(t, folder)
	before := lab.Print(t, folder)
	n := lab.New(t, program)
	n.State = filepath.Join(dir, "state "+odd)
	into := filepath.Join(mount, "into "+odd)
	out := n.Want(0, "move", folder, "--into", into, "--as", odd, "--yes", "--name", "odd")
	require.NotContains(t, out, "\xff", "bytes that are no text are spelled out")
	text, err := os.Readlink(folder)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(into, odd), text)
	require.Equal(t, before, lab.Print(t, text))
	for _, c := range [][]string{{"check"}, {"list"}, {"show", "odd"}, {"try", "odd"}, {"drives"},
		{"inspect", folder}, {"survey", filepath.Dir(folder)}} {
		require.NotContains(t, n.Want(0, c...), "\xff")
	}
	red := n.JSON("list")["redirects"].([]any)[0].(map[string]any)
	raw, err := base64.StdEncoding.DecodeString(red["link"].(map[string]any)["base64"].(string))
	require.NoError(t, err)
	require.Equal(t, folder, string(raw))
	n.Want(0, "detach", "odd", "--yes")
	n.Want(0, "undo", n.LastRun(), "--yes")
	n.Want(0, "bring-back", folder, "--yes") // by the path of the link
	require.Equal(t, before, lab.Print(t, folder))
	n.Want(0, "discard-original", "odd", "--yes")
}

// A program that stores into a mapped page of the folder, before and after
// the switch: nothing of it is lost, although no time stamp moves at once.
func TestMappedWrites(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Log/mapped: " + strings.Repeat("x", 8192), "Log/other: 1"}.Make(t, skerry)
	folder := filepath.Join(skerry, "Log")
	f, err := os.OpenFile(filepath.Join(folder, "mapped"), os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := unix.Mmap(int(f.Fd()), 0, 8192, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	require.NoError(t, err)
	unmap := sync.OnceFunc(func() { require.NoError(t, unix.Munmap(m)) })
	defer unmap()
	require.NoError(t, f.Close())
	copy(m, "stored before")
	n := lab.New(t, program)
	out := n.Want(6, "move", folder, "--into", basalt, "--yes")
	require.Contains(t, out, "[in-use]")
	n.Want(0, "move", folder, "--into", basalt, "--yes", "--while-in-use")
	content, err := os.ReadFile(filepath.Join(basalt, "Log", "mapped"))
	require.NoError(t, err)
	require.Equal(t, "stored before", string(content[:13]))

	copy(m[4096:], "stored after")
	require.Contains(t, n.Want(4, "check"), "[late-write]")
	require.Contains(t, n.Want(6, "discard-original", "log", "--yes"), "[held-in-use]")
	unmap()
	n.Want(0, "discard-original", "log", "--yes")
	content, err = os.ReadFile(filepath.Join(basalt, "Log", "mapped"))
	require.NoError(t, err)
	require.Equal(t, "stored after", string(content[4096:4108]))
	n.Want(0, "check")
}

// A bit that flips on the drive, while no time stamp moves, is rot: the held
// original is not given up, neither is it while a run is resumed.
func TestRotIsFound(t *testing.T) {
	t.Parallel()
	rot := func(t *testing.T, at string, content, bad string) {
		t.Helper()
		lab.Unmount(t, at)
		img, err := os.ReadFile(at + ".img")
		require.NoError(t, err)
		require.Equal(t, 1, bytes.Count(img, []byte(content)))
		f, err := os.OpenFile(at+".img", os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte(bad), int64(bytes.Index(img, []byte(content))))
		require.NoError(t, errors.Join(err, f.Close()))
		lab.Run(t, "mount", "-o", "loop", at+".img", at)
	}
	const content, bad = "the only copy of a storm petrel", "the only copy of a storm petreL"
	t.Run("discard", func(t *testing.T) {
		skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
		lab.Tree{"Notes/a: " + content, "Notes/b: b"}.Make(t, skerry)
		n := lab.New(t, program)
		n.Want(0, "move", filepath.Join(skerry, "Notes"), "--into", basalt, "--yes", "-q")
		rot(t, basalt, content, bad)
		require.Contains(t, n.Want(4, "check", "--deep"), "[rot]")
		out := n.Want(3, "discard-original", "notes", "--yes", "--accept", "changed-since")
		require.Contains(t, out, "[rot]")
		held, err := filepath.Glob(filepath.Join(skerry, ".Notes.held-*", "a"))
		require.NoError(t, err)
		require.Len(t, held, 1)
		// A drive that forgets is no time to delete anything at all.
		n.Want(3, "discard-original", "notes", "--yes", "--only-equal")
		require.FileExists(t, held[0])
	})
	t.Run("bring-back from a held original that lends", func(t *testing.T) {
		skerry, basalt := lab.Drive(t, "xfs", "SKERRY", 300), lab.Drive(t, "ext4", "BASALT", 32)
		lab.Tree{"Notes/a: " + content, "Notes/b: b"}.Make(t, skerry)
		n := lab.New(t, program)
		n.Want(0, "move", filepath.Join(skerry, "Notes"), "--into", basalt, "--yes", "-q")
		before := lab.Print(t, filepath.Join(basalt, "Notes"))
		rot(t, skerry, content, bad)
		n.Want(0, "bring-back", "notes", "--yes", "-q")
		require.Equal(t, before, lab.Print(t, filepath.Join(skerry, "Notes")))
	})
	t.Run("resume", func(t *testing.T) {
		skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
		lab.Tree{"Notes/a: " + content, "Notes/b: b"}.Make(t, skerry)
		before := lab.Print(t, filepath.Join(skerry, "Notes"))
		n := lab.New(t, program)
		n.Env = []string{"NEXLIN_FAULT=kill:sealed"}
		n.Want(-1, "move", filepath.Join(skerry, "Notes"), "--into", basalt, "--yes", "-q")
		n.Env = nil
		rot(t, basalt, content, bad)
		out := n.Want(5, "resume", "--yes", "-q")
		require.Contains(t, out, "the copy differs: content")
		n.Want(0, "resume", "--yes", "-q")
		require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "Notes")))
	})
}

// A system drive need not have an identity: what is held on it is found all
// the same.
func TestFromTheSystemDrive(t *testing.T) {
	t.Parallel()
	dir, basalt := t.TempDir(), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Documents/a: a"}.Make(t, dir)
	n := lab.New(t, program)
	n.Want(0, "move", filepath.Join(dir, "Documents"), "--into", basalt, "--yes", "-q")
	n.Want(0, "check")
	n.Want(0, "discard-original", "documents", "--yes", "-q")
	n.Want(0, "bring-back", "documents", "--yes", "-q")
	n.Want(0, "discard-original", "documents", "--yes", "-q")
	require.Contains(t, n.Want(0, "list", "--held"), "nothing is held")
}

// In a user namespace an account without rights has drives of its own.
func TestTmpfsInUserNamespace(t *testing.T) {
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.Mkdir(a, 0o755))
	require.NoError(t, os.Mkdir(b, 0o755))
	n := lab.New(t, program)
	if os.Geteuid() == 0 {
		n.As(ordinary)
	}
	if out, err := exec.Command("unshare", "-Urm", "true").CombinedOutput(); err != nil {
		lab.Skip(t, "no user namespaces here: "+string(out))
	}
	n.Wrap = []string{"unshare", "-Urm", "sh", "-ec", `
		mount -t tmpfs -o size=4M none "$A"; mount -t tmpfs -o size=2M none "$B"
		mkdir "$A/docs"; echo one > "$A/docs/one"; ln -s one "$A/docs/link"
		"$0" move "$A/docs" --into "$B" --yes --accept target-in-memory
		test "$(cat "$A/docs/link")" = one; test -L "$A/docs"
		"$0" check
		"$0" bring-back docs --yes; test ! -L "$A/docs"; test "$(cat "$A/docs/one")" = one
		mkdir "$A/big"; head -c 3000k /dev/zero | tr '\0' x > "$A/big/x"
		if "$0" move "$A/big" --into "$B" --yes --accept target-in-memory; then exit 9; fi
		test ! -L "$A/big"`}
	n.Env = []string{"A=" + a, "B=" + b}
	out := n.Want(0)
	require.Contains(t, out, "[space-short]")
}

// A drive that is here and locked is told apart from one that is away, and nothing is done.
func TestLockedDrive(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"docs/a: 1", "more/b: 2"})
	s.Want(0, "move", s.at("docs"), "--into", "BASALT:/ines", "--yes", "-q")
	basalt := filepath.Join(s.dir, "basalt")
	require.NoError(t, os.Rename(basalt, basalt+".away"))
	require.NotContains(t, s.Want(7, "check"), "locked")
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "drives.yaml"),
		[]byte(strings.Replace(drivesFile, "{label: BASALT", "{locked: true, label: BASALT", 1)), 0o644))
	require.Equal(t, []any{basalt}, s.JSON("drives")["locked"])
	for _, args := range [][]string{
		{"check"}, {"drives", "BASALT"}, {"move", s.at("more"), "--into", "BASALT:/ines"},
		{"move", s.at("more"), "--into", basalt + "/ines"}, {"bring-back", "docs"},
	} {
		out := s.Want(7, args...)
		require.Contains(t, out, basalt+" is locked", "%v", args)
		require.Contains(t, out, "with its password", "%v", args)
	}
}
