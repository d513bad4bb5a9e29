//go:build linux

package test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

// On an overlay a folder of a lower layer can't be renamed: that is found before
// the copy. What lies in the upper one is moved, plain files are no mounts, and
// a kill between the two exchanges of the trial leaves the folder reachable.
func TestOverlay(t *testing.T) {
	lower, upper, basalt := lab.Drive(t, "ext4", "LOWER", 16), lab.Drive(t, "ext4", "UPPER", 16),
		lab.Drive(t, "ext4", "BASALT", 16)
	lab.Tree{"home/low/a: 1", "home/low/deep/b: 2"}.Make(t, lower)
	require.NoError(t, os.Link(filepath.Join(lower, "home/low/a"), filepath.Join(lower, "home/low/second")))
	for _, d := range []string{"u", "w"} {
		require.NoError(t, os.Mkdir(filepath.Join(upper, d), 0o755))
	}
	at := t.TempDir()
	lab.Mount(t, at, "-t", "overlay", "-o",
		fmt.Sprintf("lowerdir=%s,upperdir=%s/u,workdir=%s/w", lower, upper, upper), "overlay")
	low, up := filepath.Join(at, "home/low"), filepath.Join(at, "home/up")
	lab.Tree{"up/a: 1", "up/deep/b: 2"}.Make(t, filepath.Dir(up))
	require.NoError(t, os.Link(filepath.Join(up, "a"), filepath.Join(up, "second")))
	n := lab.New(t, program)
	before := lab.Print(t, filepath.Join(at, "home"))
	out := n.Want(3, "move", low, "--into", basalt+"/x", "--yes", "-q")
	require.Contains(t, out, "lower layer of an overlay")
	require.Equal(t, before, lab.Print(t, filepath.Join(at, "home")))
	require.NoDirExists(t, filepath.Join(basalt, "x"))
	n.Want(0, "check")
	kept := lab.Print(t, up)
	for _, way := range []string{"undo", "resume"} {
		n.Env = []string{"NEXLIN_FAULT=kill:try-folder.swapped"}
		n.Want(-1, "move", up, "--into", basalt+"/x", "--yes", "-q")
		n.Env = nil
		b, err := os.ReadFile(filepath.Join(up, "deep/b"))
		require.NoError(t, err)
		require.Equal(t, "2", string(b))
		n.Want(0, way, "--yes", "-q")
		if way == "undo" {
			require.Equal(t, kept, lab.Print(t, up))
		}
		names, err := os.ReadDir(filepath.Dir(up))
		require.NoError(t, err)
		for _, e := range names {
			require.NotContains(t, e.Name(), "nexlin-swap")
		}
	}
	require.Equal(t, kept, lab.Print(t, filepath.Join(basalt, "x/up")))
}

// Files that come and go are changes, and no errors, in every walk.
func TestTemporaryFilesComeAndGo(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	folder := filepath.Join(skerry, "docs")
	for i := range 400 {
		lab.Tree{fmt.Sprintf("docs/%d/%d: %d", i%7, i, i)}.Make(t, skerry)
	}
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ctx.Err() == nil; i++ {
			d := filepath.Join(folder, fmt.Sprint(i%7))
			for _, make := range []func(string) error{
				func(p string) error { return os.WriteFile(p, []byte("x"), 0o600) },
				func(p string) error { return os.Mkdir(p, 0o700) },
				func(p string) error { return os.Symlink("x", p) },
				func(p string) error { return unix.Mkfifo(p, 0o600) },
			} {
				p := filepath.Join(d, fmt.Sprintf("%d.tmp", i))
				_ = make(p) // the folder may be on its way
				_ = os.Remove(p)
			}
		}
	}()
	defer func() { stop(); <-done }()
	n := lab.New(t, program)
	quiet := func(args ...string) {
		t.Helper()
		for range 3 { // that it does not come to rest is an honest answer
			out, code := n.Exit(append(args, "--yes", "-q")...)
			require.NotContains(t, out, "no such file")
			require.Contains(t, []int{0, 6}, code, out)
			if code == 0 {
				return
			}
			if args = []string{"resume"}; n.JSON("list")["redirects"] == nil {
				return
			}
		}
	}
	quiet("move", folder, "--into", basalt, "--while-in-use")
	out, code := n.Exit("check", "--deep")
	require.NotContains(t, out, "no such file")
	require.Contains(t, []int{0, 4}, code)
	out, _ = n.Exit("pack", folder, "--output", filepath.Join(skerry, "x.tar.zst"), "--yes", "-q", "--while-in-use")
	require.NotContains(t, out, "no such file")
	out, _ = n.Exit("survey", skerry)
	require.NotContains(t, out, "can't be read")
}

// A file on which a program has a lease is waited for.
func TestLease(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
	lab.Tree{"docs/a: 1", "docs/b: 2"}.Make(t, skerry)
	f, err := os.OpenFile(filepath.Join(skerry, "docs/a"), os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_WRLCK)
	require.NoError(t, err)
	given := make(chan error)
	go func() {
		time.Sleep(500 * time.Millisecond)
		_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
		given <- err
	}()
	n := lab.New(t, program)
	n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", basalt, "--yes", "-q", "--while-in-use")
	require.NoError(t, <-given)
}

// What the copy could not have is found before it begins.
func TestFoundBefore(t *testing.T) {
	t.Parallel()
	basalt := lab.Drive(t, "ext4", "BASALT", 64)
	n := lab.New(t, program)
	preview := func(status int, folder, code string) {
		t.Helper()
		before := lab.Print(t, filepath.Dir(folder))
		require.Contains(t, n.Want(status, "move", folder, "--into", basalt+"/x", "--preview"), "["+code+"]")
		require.Equal(t, before, lab.Print(t, filepath.Dir(folder)))
	}
	t.Run("names without regard to case", func(t *testing.T) {
		if b, err := os.ReadFile("/sys/fs/ext4/features/casefold"); err != nil {
			lab.Skip(t, "this kernel has no case-insensitive directories: "+string(b)+err.Error())
		}
		skerry := lab.Drive(t, "ext4", "SKERRY", 16, "-O", "casefold")
		lab.Tree{"docs/a: 1"}.Make(t, skerry)
		require.NoError(t, os.Mkdir(filepath.Join(skerry, "docs/folded"), 0o755))
		if out, err := exec.Command("chattr", "+F", filepath.Join(skerry, "docs/folded")).CombinedOutput(); err != nil {
			lab.Skip(t, "no case-insensitive directories here: "+string(out))
		}
		preview(3, filepath.Join(skerry, "docs"), "marks-not-kept")
	})
	t.Run("a project", func(t *testing.T) {
		skerry := lab.Drive(t, "xfs", "SKERRY", 300)
		lab.Tree{"docs/in/a: 1"}.Make(t, skerry)
		lab.Run(t, "chattr", "-p", "42", filepath.Join(skerry, "docs/in"))
		preview(3, filepath.Join(skerry, "docs"), "marks-not-kept")
		n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", basalt+"/projects", "--yes", "-q", "--accept",
			"marks-not-kept")
	})
	t.Run("how it is treated", func(t *testing.T) {
		skerry := lab.Drive(t, "btrfs", "SKERRY", 150)
		tells := func(what string, told bool) {
			t.Helper()
			out := n.Want(0, "move", filepath.Join(skerry, what), "--into", basalt+"/x", "--preview")
			require.Equal(t, told, strings.Contains(out, "[handling-not-kept]"), out)
		}
		large := strings.Repeat("image", 300<<10)
		for _, mark := range []string{"d", "c", "C"} {
			file := filepath.Join(skerry, mark, "in/file")
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, nil, 0o644)) // it takes C only while it is empty
			tells(mark, false)
			lab.Run(t, "chattr", "+"+mark, file)
			require.NoError(t, os.WriteFile(file, []byte(large), 0o644))
			tells(mark, true)
		}
		lab.Tree{"dir/in/file: 1"}.Make(t, skerry)
		lab.Run(t, "chattr", "+C", filepath.Join(skerry, "dir/in"))
		tells("dir", true)
	})
	t.Run("a subvolume, and a snapshot", func(t *testing.T) {
		skerry := lab.Drive(t, "btrfs", "SKERRY", 150)
		lab.Tree{"docs/a: 1"}.Make(t, skerry)
		lab.Run(t, "btrfs", "subvolume", "create", filepath.Join(skerry, "docs/sub"))
		preview(3, filepath.Join(skerry, "docs"), "mount-inside")
		lab.Run(t, "btrfs", "subvolume", "create", filepath.Join(skerry, "vol"))
		lab.Tree{"vol/b: 2"}.Make(t, skerry)
		lab.Run(t, "btrfs", "subvolume", "snapshot", "-r", filepath.Join(skerry, "vol"), filepath.Join(skerry, "snap"))
		preview(3, filepath.Join(skerry, "snap"), "immutable-entries")
	})
	t.Run("an access list that denies removing", func(t *testing.T) {
		skerry := lab.Drive(t, "ext4", "SKERRY", 16)
		lab.Tree{"docs/a: 1"}.Make(t, skerry)
		docs := filepath.Join(skerry, "docs")
		denied := lab.New(t, program)
		denied.Env = []string{"NEXLIN_FAULT=call:mayremove:1+:EACCES"}
		out := denied.Want(3, "move", docs, "--into", basalt+"/denied", "--yes")
		require.Contains(t, out, "[removal-denied]")
		require.Contains(t, out, "chmod -R -a \"group:everyone deny delete\" "+docs)
		require.NoFileExists(t, basalt+"/denied")
	})
	t.Run("others are cut off", func(t *testing.T) {
		skerry := lab.Drive(t, "ext4", "SKERRY", 16)
		lab.Open(t, skerry)
		lab.Tree{"docs/a: 1"}.Make(t, skerry)
		closed := filepath.Join(basalt, "closed")
		require.NoError(t, os.Mkdir(closed, 0o700))
		out := n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", closed, "--preview")
		require.Contains(t, out, "[rights-would-shrink]")
		require.NotContains(t, n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", basalt+"/open",
			"--preview"), "rights-would-shrink")
	})
	t.Run("links of bytes on NTFS", func(t *testing.T) {
		skerry := lab.Drive(t, "ext4", "SKERRY", 16)
		ntfs, _ := lab.FuseDrive(t, "ntfs", "DUNE", 32)
		lab.Tree{"docs/a: 1"}.Make(t, skerry)
		require.NoError(t, os.Symlink("\xff\xfe", filepath.Join(skerry, "docs/bytes")))
		require.Contains(t, n.Want(3, "move", filepath.Join(skerry, "docs"), "--into", ntfs, "--preview"),
			"[links-not-kept]")
	})
	t.Run("a way over another account's link", func(t *testing.T) {
		skerry := lab.Drive(t, "ext4", "SKERRY", 16)
		lab.Tree{"private/docs/a: 1", "ines/x: 2"}.Make(t, skerry)
		require.NoError(t, os.Chmod(filepath.Join(skerry, "private"), 0o700))
		require.NoError(t, os.Symlink(filepath.Join(skerry, "private"), filepath.Join(skerry, "ines/way")))
		lab.Run(t, "chown", "-hR", "12345:12345", filepath.Join(skerry, "ines"))
		preview(3, filepath.Join(skerry, "ines/way/docs"), "in-others-hands")
		require.Contains(t, n.Want(3, "pack", filepath.Join(skerry, "ines/way/docs"), "--output", basalt+"/p.tar.zst",
			"--preview"), "in-others-hands")
		require.Contains(t, n.Want(3, "move", filepath.Join(basalt, "closed"), "--into",
			filepath.Join(skerry, "ines/way/new"), "--preview"), "in-others-hands")
	})
}

// An account whose folder holds entries of others can accept that they become
// its own, or is told the command that keeps them.
func TestOwnersOfContainers(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
	lab.Tree{"docs/a: 1", "docs/of a container: 2"}.Make(t, skerry)
	lab.Run(t, "chown", "-R", "12345:12345", filepath.Join(skerry, "docs"), basalt)
	lab.Run(t, "chown", "12345:12345", skerry)
	lab.Run(t, "chown", "100999:100999", filepath.Join(skerry, "docs/of a container"))
	n := lab.New(t, program).As(12345)
	lab.Open(t, skerry)
	lab.Open(t, basalt)
	args := []string{"move", filepath.Join(skerry, "docs"), "--into", basalt, "--yes", "-q"}
	out := n.Want(3, args...)
	require.Contains(t, out, "sudo nexlin")
	require.Contains(t, out, "--accept owner-needs-rights")
	n.Want(0, append(args, "--accept", "owner-needs-rights")...)
	b, err := os.ReadFile(filepath.Join(skerry, "docs/of a container"))
	require.NoError(t, err)
	require.Equal(t, "2", string(b))
	n.Want(0, "discard-original", "docs", "--yes", "-q")
}

// What hides a target, or stands where an original was held, is told, and keeps
// nobody from looking at the rest.
func TestHiddenAndOdd(t *testing.T) {
	t.Parallel()
	skerry, basalt, dune := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16),
		lab.Drive(t, "ext4", "DUNE", 16)
	lab.Tree{"docs/a: 1", "music/b: 2"}.Make(t, skerry)
	n := lab.New(t, program)
	n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", basalt+"/ines", "--yes", "-q")
	n.Want(0, "move", filepath.Join(skerry, "music"), "--into", dune, "--yes", "-q")
	over := lab.Drive(t, "ext4", "OVER", 16)
	lab.Run(t, "mount", "--bind", over, basalt+"/ines")
	out := n.Want(0, "list")
	require.Contains(t, out, "away")
	out = n.Want(7, "check", "docs")
	require.Contains(t, out, "covered-by-a-mount")
	var remedy string
	for line := range strings.SplitSeq(out, "\n") {
		if _, rest, ok := strings.Cut(line, "→ `umount "); ok {
			remedy, _, _ = strings.Cut(rest, "`")
		}
	}
	n.Want(7, "bring-back", "docs", "--yes", "-q")
	n.Want(7, "move", filepath.Join(skerry, "docs"), "--into", dune+"/x", "--yes", "-q")
	require.NoError(t, exec.Command("sh", "-c", "umount "+remedy).Run(), remedy)
	n.Want(0, "check")

	held, err := filepath.Glob(filepath.Join(skerry, ".docs.held-*"))
	require.NoError(t, err)
	require.Len(t, held, 1)
	require.NoError(t, os.Rename(held[0], filepath.Join(skerry, "away")))
	for name, make := range map[string]func() error{
		"a link": func() error { return os.Symlink("/etc", held[0]) },
		"a FIFO": func() error { return unix.Mkfifo(held[0], 0o600) },
		"a file": func() error { return os.WriteFile(held[0], nil, 0o600) },
	} {
		require.NoError(t, make(), name)
		out := n.Want(4, "check")
		require.Contains(t, out, "[held-changed]", name)
		require.Contains(t, out, "music", name)
		doc := n.JSON("check")
		require.Len(t, doc["redirects"], 2, name)
		w := startWatch(t, n)
		seen := map[string]bool{}
		w.await(20*time.Second, func(ev map[string]any) bool {
			if r, ok := ev["redirect"].(map[string]any); ok {
				seen[r["name"].(string)] = true
			}
			return len(seen) == 2
		})
		require.NoError(t, os.Remove(held[0]))
	}
}

// Many moves begun at once towards a fresh drive: one tag, and every run ends.
func TestManyAtOnceTowardsAFreshDrive(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	var cmds []*exec.Cmd
	for i := range 12 {
		lab.Tree{fmt.Sprintf("f%d/a: %d", i, i)}.Make(t, skerry)
		n := lab.New(t, program) // each with records of its own, and so with a tag of its own in mind
		cmds = append(cmds, n.Cmd("move", filepath.Join(skerry, fmt.Sprintf("f%d", i)), "--into", basalt, "--yes",
			"-q"))
	}
	said := make([]bytes.Buffer, len(cmds))
	for i, c := range cmds {
		c.Stdout, c.Stderr = &said[i], &said[i]
		require.NoError(t, c.Start())
	}
	for i, c := range cmds {
		require.NoError(t, c.Wait(), "%d: %s", i, &said[i])
	}
	names, err := os.ReadDir(filepath.Join(basalt, ".nexlin"))
	require.NoError(t, err)
	require.Len(t, names, 1+2*len(cmds), "a tag, and a note and a manifest of each")
}

// A full system drive does not keep anybody from freeing it.
func TestDiscardOnAFullDrive(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 40), lab.Drive(t, "ext4", "BASALT", 40)
	for i := range 20 {
		lab.Tree{fmt.Sprintf("docs/%d: %s", i, strings.Repeat("x", 100_000))}.Make(t, skerry)
	}
	n := lab.New(t, program)
	n.State = filepath.Join(skerry, "state")
	n.Want(0, "move", filepath.Join(skerry, "docs"), "--into", basalt, "--yes", "-q")
	fill, err := os.Create(filepath.Join(skerry, "fill"))
	require.NoError(t, err)
	for err == nil {
		_, err = fill.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, fill.Close())
	n.Want(0, "discard-original", "docs", "--yes", "-q")
	n.Want(0, "check")
}

// Connections that say nothing do not end a watch.
func TestIdleConnections(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"docs/a: 1"})
	s.Want(0, "move", s.at("docs"), "--into", "BASALT:/", "--yes", "-q")
	cmd := s.Cmd("watch", "--json", "--metrics-listen", "127.0.0.1:0", "--every", "1s")
	cmd.Args = append([]string{"sh", "-c", `ulimit -n 64; exec "$0" "$@"`}, cmd.Args...)
	cmd.Path = "/bin/sh"
	errs, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	buf := make([]byte, 4096)
	address := ""
	for address == "" {
		k, err := errs.Read(buf)
		require.NoError(t, err)
		if _, rest, ok := strings.Cut(string(buf[:k]), "numbers are at http://"); ok {
			address, _, _ = strings.Cut(rest, "/")
		}
	}
	for range 200 {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err != nil {
			break // it takes no more of them
		}
		defer c.Close()
	}
	time.Sleep(3 * time.Second)
	require.NoError(t, cmd.Process.Signal(syscall.Signal(0)))
	require.False(t, zombie(cmd.Process.Pid), "watch has ended")
}

// An administrator who asks whether a drive may go hears of every account's
// redirects and stopped runs, and reads no record of theirs with own rights.
func TestUnplugKnowsEveryAccount(t *testing.T) {
	if os.Getenv("NEXLIN_TEST_NAMESPACES") == "" {
		lab.Skip(t, "no mount namespace for a list of accounts of its own")
	}
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
	home := filepath.Join(skerry, "home", "ines")
	lab.Tree{"docs/a: 1", "music/b: 2"}.Make(t, home)
	lab.Open(t, skerry)
	lab.Run(t, "chown", "-R", "12345:12345", home, basalt)
	passwd, err := os.ReadFile("/etc/passwd")
	require.NoError(t, err)
	list := filepath.Join(t.TempDir(), "passwd")
	require.NoError(t, os.WriteFile(list, append(passwd, fmt.Sprintf("ines:x:12345:12345::%s:/bin/sh\n", home)...),
		0o644))
	lab.Mount(t, "/etc/passwd", "--bind", list)
	ines, root := lab.New(t, program).As(12345), lab.New(t, program)
	ines.Home, ines.State = home, filepath.Join(home, ".local/state/nexlin")
	ines.Want(0, "move", filepath.Join(home, "docs"), "--into", basalt, "--yes", "-q")
	unplug := func() map[string]any {
		t.Helper()
		return root.JSON("drives", basalt)["drives"].([]any)[0].(map[string]any)["unplug"].(map[string]any)
	}
	u := unplug()
	require.Equal(t, true, u["may"], u)
	require.Contains(t, fmt.Sprint(u["reasons"]), "docs of ines")
	ines.Env = []string{"NEXLIN_FAULT=kill:pass-1"}
	ines.Want(-1, "move", filepath.Join(home, "music"), "--into", basalt, "--yes", "-q")
	ines.Env = nil
	u = unplug()
	require.Equal(t, false, u["may"])
	require.Contains(t, fmt.Sprint(u["reasons"]), "of account ines was stopped half-way")
	// One identity in every document.
	id := root.JSON("drives", basalt)["drives"].([]any)[0].(map[string]any)["id"]
	for _, r := range ines.JSON("list")["redirects"].([]any) {
		require.Equal(t, id, r.(map[string]any)["drive"].(map[string]any)["id"])
	}
	// Records that are led elsewhere, or are no database, are that account's trouble.
	require.NoError(t, os.WriteFile(filepath.Join(ines.State, "ledger.db"), []byte("no database"), 0o600))
	require.Contains(t, fmt.Sprint(unplug()["reasons"]), "what account ines has there can't be asked")
}

// A restore whose link can't be made leaves no record behind.
func TestRestoreLeavesNoForeignRecord(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
	lab.Tree{"home/deep/docs/a: 1"}.Make(t, skerry)
	lab.Run(t, "chown", "-R", "12345:12345", filepath.Join(skerry, "home"), basalt)
	lab.Open(t, skerry)
	lab.Open(t, basalt)
	first := lab.New(t, program).As(12345)
	first.Want(0, "move", filepath.Join(skerry, "home/deep/docs"), "--into", basalt, "--yes", "-q")
	first.Want(0, "discard-original", "docs", "--yes", "-q")
	link := filepath.Join(skerry, "home/deep/docs")
	require.NoError(t, os.Remove(link))
	lab.Run(t, "chown", "0:0", filepath.Join(skerry, "home/deep"))
	second := lab.New(t, program).As(12345)
	out, code := second.Exit("restore-links", basalt, "--accept", "outside-home", "--yes")
	require.NotZero(t, code, out)
	require.Empty(t, second.JSON("list")["redirects"], out)
	second.Want(0, "check")
	lab.Run(t, "chown", "12345:12345", filepath.Join(skerry, "home/deep"))
	second.Want(0, "restore-links", basalt, "--accept", "outside-home", "--yes")
	b, err := os.ReadFile(filepath.Join(link, "a"))
	require.NoError(t, err)
	require.Equal(t, "1", string(b))
}

// A repository, its worktree and an environment hold their own paths: they are counted, work on through the
// link, and are not left without one unasked.
func TestPathsInside(t *testing.T) {
	for _, tool := range []string{"git", "python3"} {
		if _, err := exec.LookPath(tool); err != nil {
			lab.Skip(t, tool+" is not installed")
		}
	}
	s := onStandins(t, program, lab.Tree{"Documents/a: 1", ".config/user-dirs.dirs: XDG_DOCUMENTS_DIR=\"$HOME/Documents\""})
	in := s.at("Documents")
	sh := func(script string) string {
		return lab.Run(t, "env", "HOME="+s.Home, "sh", "-euc", "cd "+in+"; "+script)
	}
	sh(`git init -q repo; cd repo; git -c user.name=ines -c user.email=ines@localhost commit -q --allow-empty -m one
		git worktree add -q ../tree; python3 -m venv --without-pip ../env`)
	require.Equal(t, 4, counts(s.JSON("inspect", in), "info")["path-inside"])
	move := []string{"move", in, "--into", "BASALT:/ines", "--yes", "-q"}
	require.Contains(t, s.Want(3, append(move, "--by", "setting")...), "--accept path-inside")
	s.Want(0, move...)
	require.Contains(t, sh("cd tree; git status; git log --oneline"), "one")
	require.Contains(t, sh("cd repo; git worktree list"), in+"/tree")
	require.Equal(t, in+"/env\n", sh(in+"/env/bin/python -c 'import sys; print(sys.prefix)'"))
	s.Want(0, "bring-back", "documents", "--yes", "-q")
	require.Contains(t, sh("cd repo; git worktree list"), in+"/tree")
}
