//go:build linux

package test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

// hostileIn is set for the process that flips what Nexlin works on: the
// directories, separated by colons, that it may write in.
const hostileIn = "NEXLIN_TEST_HOSTILE"

const secret = "a nest that nobody may know of"

// An administrator moves an account's folder, merges halves of it, brings it
// back, discards and restores, while that account swaps directories for links, renames what is above,
// plants FIFOs and puts a directory of the administrator's in the place of
// new ones, as fast as it can. It exchanges a file of its own, which everybody
// may read, with one of the administrator's between any two calls, so that its
// rights would get to that content. Nothing outside the folder is read, written,
// given away or deleted (I6), and nothing of the administrator's is readable. A
// thousand runs with NEXLIN_MATRIX=all, a twelfth of them in the suite.
func TestHostileFolder(t *testing.T) {
	t.Parallel()
	faultless := plain(t)
	runs := 1000 / everyNth(12)
	if n, err := strconv.Atoi(os.Getenv("NEXLIN_HOSTILE_RUNS")); err == nil {
		runs = n
	}
	skerry, basalt := lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64)
	home, theirs := filepath.Join(skerry, "home", "wren"), filepath.Join(basalt, "wren")
	var watched []string
	for _, dir := range []string{skerry, basalt, home, theirs} { // the last two may be renamed by the account
		canary := filepath.Join(dir, "canary")
		lab.Tree{"file: " + secret, "sub/deep: " + secret, "sub/link => deep", "a/x: " + secret,
			"b: " + secret}.Make(t, canary)
		require.NoError(t, os.Chmod(canary, 0o700))
		watched = append(watched, canary)
	}
	for _, dir := range []string{home, theirs} {
		require.NoError(t, os.Chown(dir, ordinary, ordinary))
	}
	before := printAll(t, watched)
	vault := filepath.Join(skerry, "vault")
	require.NoError(t, os.Mkdir(vault, 0o700))
	flip := startHostile(t, home, theirs)
	ends := map[int]int{}
	for i := range runs / 9 {
		plant(t, vault, home)
		for code, n := range hostileRound(t, faultless, home, theirs, i) {
			ends[code] += n
		}
		if i%20 == 0 {
			flip(false)
			require.Empty(t, lab.Changes(before, printAll(t, watched)), "after round %d", i)
			require.Empty(t, readable(home, theirs), "after round %d", i)
			flip(true)
		}
	}
	flip(false)
	require.Empty(t, lab.Changes(before, printAll(t, watched)))
	require.Empty(t, leaks(home, theirs))
	require.Empty(t, readable(home, theirs))
	t.Logf("exit statuses of %d runs: %v", runs, ends)
	require.GreaterOrEqual(t, ends[0], runs/50, "too few runs came to an end to prove anything")
}

// printAll prints the watched directories, wherever their parents have them
// by now: a name that the account took away is looked for by its content.
func printAll(t *testing.T, dirs []string) string {
	t.Helper()
	var b strings.Builder
	for _, dir := range dirs {
		found := dir
		if st, err := os.Lstat(dir); err != nil || !st.IsDir() || st.Sys().(*syscall.Stat_t).Uid != 0 {
			found = ""
			_ = filepath.WalkDir(filepath.Dir(dir), func(path string, d fs.DirEntry, err error) error {
				if err == nil && d.IsDir() && path != filepath.Dir(dir) {
					if _, err := os.Lstat(filepath.Join(path, "sub", "deep")); err == nil {
						found = path
						return filepath.SkipAll
					}
				}
				return nil
			})
		}
		if found == "" {
			out, _ := exec.Command("find", filepath.Dir(filepath.Dir(dir)), "-printf", "%p %M %u %l\n").Output()
			t.Log(string(out))
		}
		require.NotEmpty(t, found, "%s is gone", dir)
		b.WriteString(lab.Print(t, found))
	}
	return b.String()
}

// leaks lists files of the account's that have the secret in them.
func leaks(dirs ...string) (out []string) {
	for _, dir := range dirs {
		_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			var st unix.Stat_t
			if unix.Lstat(path, &st) != nil || st.Uid == 0 || !d.Type().IsRegular() {
				return nil
			}
			if b, err := os.ReadFile(path); err == nil && bytes.Contains(b, []byte(secret)) {
				out = append(out, path)
			}
			return nil
		})
	}
	return out
}

// rootFile is a file of the administrator's that lies in the account's home.
const rootFile = "administrator's"

// plant puts one there: made where the account does not get, and renamed.
func plant(t *testing.T, vault, home string) {
	t.Helper()
	at := filepath.Join(vault, rootFile)
	require.NoError(t, os.WriteFile(at, []byte(secret), 0o600))
	_ = os.Rename(at, filepath.Join(home, rootFile)) // a directory may stand there just now
}

// readable lists what the account itself can read of the secret: files, and
// archives that somebody gave it.
func readable(dirs ...string) string {
	script := `grep -rlF -e "$0" "$@" 2>/dev/null
		find "$@" -name '*.zst' -readable 2>/dev/null | while read -r f; do zstd -dcq "$f" 2>/dev/null | grep -qaF -e "$0" && echo "$f"; done`
	cmd := exec.Command("sh", append([]string{"-c", script, secret}, dirs...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: ordinary, Gid: ordinary}}
	out, _ := cmd.Output() // nothing found is its own status
	return string(out)
}

// asAccount runs a shell command as the account itself: the tests, too, must not
// be led astray. Where all changes all the time its error means nothing. It has a
// limit: a name may be a FIFO by now, and one that is opened to write waits for a reader.
func asAccount(script string, args ...string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", append([]string{"-c", script, "sh"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: ordinary, Gid: ordinary}}
	return cmd.Run()
}

// hostileRound has some commands run over one folder and counts how they end.
func hostileRound(t *testing.T, program, home, theirs string, i int) map[int]int {
	t.Helper()
	parent := filepath.Join(home, fmt.Sprintf("w%d", i))
	folder := filepath.Join(parent, "Documents")
	_ = asAccount(
		`mkdir -p "$1/a" "$1/c/d" && for f in a/x a/y b c/d/e; do printf theirs > "$1/$f"; chmod 666 "$1/$f"; setfacl -m u:65534:rw "$1/$f"; done`, folder)
	n := lab.New(t, program)
	ends := map[int]int{}
	into := filepath.Join(theirs, fmt.Sprintf("t%d", i), "deep")
	archive := filepath.Join(theirs, fmt.Sprintf("p%d.tar.zst", i))
	for _, c := range [][]string{
		{"pack", folder, "--output", archive, "--yes", "-q", "--while-in-use"},
		{"unpack", archive, "--into", theirs, "--as", fmt.Sprintf("u%d", i), "--yes", "-q"},
		{"move", folder, "--into", into, "--yes", "-q", "--while-in-use", "--name", "theirs", "--accept",
			"target-in-memory"},
		{[]string{"resume", "undo"}[i%2], "--yes", "-q"},
		{"mend", "theirs", "--yes", "-q", "--while-in-use", "--halves", []string{"keep-both", "newer"}[i%2],
			"--accept", "target-in-memory"},
		{[]string{"resume", "undo"}[i%2], "--yes", "-q"},
		{[]string{"bring-back", "discard-original"}[i/2%2], "theirs", "--yes", "-q"},
		{[]string{"discard-original", "detach"}[i/2%2], "theirs", "--yes", "-q"},
		{"restore-links", into, "--yes", "-q", "--accept", "outside-home", "--account", "65534=nobody"},
	} {
		switch c[0] {
		case "discard-original": // a program of the account's writes to the old folder still
			_ = asAccount(
				`for d in "$1"/.Documents.held-*; do echo late > "$d/a/x"; echo late > "$d/late"; chmod 666 "$d/late"; setfacl -m u:65534:rw "$d/late"; done`, parent)
		case "mend": // a program of the account's has made a real folder in the link's place
			_ = asAccount(
				`rm "$1" && mkdir -p "$1/a" "$1/c/d" "$1/new" && for f in a/x a/z c/d/f new/g; do echo newer > "$1/$f"; done`, folder)
		case "restore-links":
			_ = asAccount(`rm "$1"`, folder) // a link, or nothing
			n.State += "-new"
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		cmd := n.Cmd(c...)
		timed := exec.CommandContext(ctx, cmd.Path, cmd.Args[1:]...)
		timed.Env, timed.Dir = cmd.Env, cmd.Dir
		out, err := timed.CombinedOutput()
		require.NoError(t, ctx.Err(), "nexlin %v hangs:\n%s", c, out)
		cancel()
		require.NotContains(t, string(out), "internal error")
		require.NotContains(t, string(out), secret)
		code := 0
		if err != nil {
			code = timed.ProcessState.ExitCode()
		}
		ends[code]++
	}
	// As the account itself: what is in its place by now may be the administrator's.
	// what was renamed away in this moment, or is not the account's, stays
	_ = asAccount(`rm -rf "$@"`, parent, filepath.Dir(into), archive, filepath.Join(theirs, fmt.Sprintf("u%d", i)))
	_ = os.RemoveAll(n.State)
	return ends
}

// startHostile starts the account's process and gives a switch to stop and
// start it again.
func startHostile(t *testing.T, dirs ...string) func(on bool) {
	t.Helper()
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	at := filepath.Join(t.TempDir(), "hostile")
	require.NoError(t, os.WriteFile(at, self, 0o755))
	lab.Open(t, filepath.Dir(at))
	var cmd *exec.Cmd
	flip := func(on bool) {
		if cmd != nil {
			_ = cmd.Process.Kill()
			_ = cmd.Wait() // killed
			cmd = nil
		}
		if on {
			cmd = exec.Command(at)
			cmd.Env = []string{hostileIn + "=" + strings.Join(dirs, ":")}
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: ordinary, Gid: ordinary}}
			require.NoError(t, cmd.Start())
		}
	}
	t.Cleanup(func() { flip(false) })
	flip(true)
	return flip
}

// slipIn puts the administrator's directory in the place of one that is just
// being made, whose name can be told before: the last directory is the one
// that targets are made in, a new one each round.
func slipIn(dir string) {
	canary := filepath.Join(dir, "canary")
	for next := 0; ; {
		at := filepath.Join(dir, fmt.Sprintf("t%d", next))
		if unix.Renameat2(unix.AT_FDCWD, canary, unix.AT_FDCWD, at, unix.RENAME_EXCHANGE) == nil {
			time.Sleep(time.Duration(rand.IntN(400)) * time.Microsecond)
			_ = unix.Renameat2(unix.AT_FDCWD, canary, unix.AT_FDCWD, at, unix.RENAME_EXCHANGE)
			next++
		}
		if rand.IntN(5000) > 0 {
			continue
		}
		for _, name := range entries(dir) { // where are we?
			if n, err := strconv.Atoi(strings.TrimPrefix(name, "t")); err == nil {
				next = max(next, n+1)
			}
		}
	}
}

// beHostile is the account's process: it never ends by itself.
func beHostile(dirs []string) {
	go slipIn(dirs[len(dirs)-1])
	for {
		dir := dirs[rand.IntN(len(dirs))]
		for range rand.IntN(6) { // go down
			names := entries(dir)
			if len(names) == 0 {
				break
			}
			next := filepath.Join(dir, names[rand.IntN(len(names))])
			if st, err := os.Lstat(next); err != nil || !st.IsDir() {
				break
			}
			dir = next
		}
		doHarm(dir)
		if rand.IntN(20) == 0 {
			time.Sleep(time.Duration(rand.IntN(30)) * time.Millisecond) // now and then a run gets far
		}
	}
}

func entries(dir string) (names []string) {
	es, _ := os.ReadDir(dir) // one that is gone has none
	for _, e := range es {
		names = append(names, e.Name())
	}
	return names
}

// stealRights exchanges a file of the account's with the administrator's for a
// moment: what is asked of the one before and of the other after.
func stealRights(dir, at string) bool {
	if st, err := os.Lstat(at); err != nil || !st.Mode().IsRegular() {
		return false
	}
	for up := dir; len(up) > 1; up = filepath.Dir(up) {
		theirs := filepath.Join(up, rootFile)
		if unix.Renameat2(unix.AT_FDCWD, theirs, unix.AT_FDCWD, at, unix.RENAME_EXCHANGE) == nil {
			time.Sleep(time.Duration(rand.IntN(400)) * time.Microsecond)
			_ = unix.Renameat2(unix.AT_FDCWD, theirs, unix.AT_FDCWD, at, unix.RENAME_EXCHANGE)
			return true
		}
	}
	return false
}

// doHarm does one thing to an entry of dir, and as a rule takes it back.
func doHarm(dir string) {
	names := entries(dir)
	if len(names) == 0 {
		return
	}
	name := names[rand.IntN(len(names))]
	for _, n := range names { // what Nexlin makes is the best
		if strings.HasPrefix(n, ".nexlin") && rand.IntN(2) == 0 {
			name = n
		}
	}
	at := filepath.Join(dir, name)
	away := at + ".away"
	if strings.HasSuffix(name, ".away") {
		_ = os.Rename(at, strings.TrimSuffix(at, ".away"))
		return
	}
	if rand.IntN(3) == 0 && stealRights(dir, at) {
		return
	}
	if os.Rename(at, away) != nil {
		return
	}
	up := strings.Repeat("../", strings.Count(dir, "/")-2)
	switch rand.IntN(7) {
	case 0:
		_ = os.Symlink(filepath.Join(filepath.Dir(dir), "canary"), at)
	case 1:
		_ = os.Symlink(filepath.Join(dir, up, "canary"), at)
	case 2:
		_ = unix.Mkfifo(at, 0o666)
	case 3:
		_ = os.Mkdir(at, 0o777)
	case 4: // the administrator's own directory, if it is here
		canary := filepath.Join(dir, "canary")
		if os.Rename(canary, at) == nil {
			time.Sleep(time.Duration(rand.IntN(300)) * time.Microsecond)
			_ = os.Rename(at, canary)
		}
	case 5:
		_ = os.Symlink(filepath.Join(filepath.Dir(dir), "canary", "file"), at)
	}
	time.Sleep(time.Duration(rand.IntN(200)) * time.Microsecond)
	_ = os.Remove(at) // a link, a FIFO, an empty directory
	_ = os.Rename(away, at)
}
