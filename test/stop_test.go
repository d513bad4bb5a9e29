//go:build linux

package test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
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

// midway starts a move that waits at a step, does something to the world
// there, lets it go on, and returns its output and exit status.
func midway(t *testing.T, n *lab.Nexlin, step string, do func(*os.Process), args ...string) (string, int) {
	t.Helper()
	goOn := filepath.Join(t.TempDir(), "go")
	cmd := n.Cmd(args...)
	cmd.Env = append(cmd.Env, "NEXLIN_FAULT=wait:"+step, "NEXLIN_FAULT_GO="+goOn)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	// After a failure in between it would wait for ever, on drives that are to go.
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait() // it was waited for, unless the test failed
	})
	require.Eventually(t, func() bool { return lab.Exists(goOn + ".waiting") }, 20*time.Second, 5*time.Millisecond)
	do(cmd.Process)
	require.NoError(t, os.WriteFile(goOn, nil, 0o600))
	err := cmd.Wait()
	code := 0
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		code = exit.ExitCode()
	}
	return out.String(), code
}

// A run that is stopped in the middle says why and in which state, leaves
// the folder whole, and goes on when the cause is put right.
func TestStoppedInTheMiddle(t *testing.T) {
	t.Parallel()
	sent := func(s syscall.Signal) func(*testing.T, string, *os.Process) {
		return func(t *testing.T, _ string, p *os.Process) { require.NoError(t, p.Signal(s)) }
	}
	for _, c := range []struct {
		name, step string
		do         func(t *testing.T, basalt string, p *os.Process)
		says       string
		mend       func(t *testing.T, basalt string)
	}{
		{"full", "part.done", func(t *testing.T, basalt string, _ *os.Process) {
			// The whole drive: dd stops when there is no more.
			_ = exec.Command("dd", "if=/dev/zero", "of="+basalt+"/fill", "bs=64k").Run()
		}, "BASALT is full", func(t *testing.T, basalt string) { require.NoError(t, os.Remove(basalt+"/fill")) }},
		{"out of inodes", "part.done", func(t *testing.T, basalt string, _ *os.Process) {
			require.NoError(t, os.Mkdir(basalt+"/fill", 0o755))
			for i := 0; os.WriteFile(filepath.Join(basalt, "fill", string(rune('a'+i%26))+strings.Repeat("x", i/26)),
				nil, 0o600) == nil; i++ {
			}
		}, "BASALT is full", func(t *testing.T, basalt string) { require.NoError(t, os.RemoveAll(basalt+"/fill")) }},
		{"read-only", "pass-1", func(t *testing.T, basalt string, _ *os.Process) {
			lab.Run(t, "mount", "-o", "remount,ro", basalt)
		}, "BASALT can only be read by now",
			func(t *testing.T, basalt string) { lab.Run(t, "mount", "-o", "remount,rw", basalt) }},
		{"pulled", "pass-1", func(t *testing.T, basalt string, _ *os.Process) {
			// The file system goes down as if its device were gone (ext4: EXT4_IOC_SHUTDOWN, nothing flushed).
			d, err := os.Open(basalt)
			require.NoError(t, err)
			defer d.Close()
			require.NoError(t, unix.IoctlSetPointerInt(int(d.Fd()), 0x8004587d, 2))
		}, "BASALT reports an input/output error", plugIn},
		{"unmounted", "verified-1", func(t *testing.T, basalt string, _ *os.Process) {
			lab.Run(t, "umount", "-l", basalt)
		}, "BASALT is not at ", func(t *testing.T,
			basalt string) {
			lab.Run(t, "mount", "-o", "loop", basalt+".img", basalt)
		}},
		{"interrupt", "pass-1", sent(syscall.SIGINT), "interrupted", nil},
		{"terminate", "verified-1", sent(syscall.SIGTERM), "interrupted", nil},
		{"hang-up", "sealed", sent(syscall.SIGHUP), "interrupted", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.name == "interrupt" && signal.Ignored(os.Interrupt) {
				lab.Skip(t, "the tests were started with that signal ignored")
			}
			skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32, "-N", "512")
			var tr lab.Tree
			for _, a := range "abcdefghijklmnopqrstuvwxyz" {
				for _, b := range "0123456789" {
					tr = append(tr, "Documents/"+string(a)+"/"+string(b)+": "+strings.Repeat(string(a), 40000))
				}
			}
			tr.Make(t, skerry)
			folder := filepath.Join(skerry, "Documents")
			before := lab.Print(t, folder)
			n := lab.New(t, raced)
			out, code := midway(t, n, c.step, func(p *os.Process) { c.do(t, basalt, p) }, "move", folder, "--into",
				basalt, "--yes", "-q")
			require.Equal(t, 5, code, out)
			require.Contains(t, out, c.says)
			require.Contains(t, out, "is as it was, whole, at its old place")
			require.Contains(t, out, "nexlin resume ")
			require.Contains(t, out, "nexlin undo ")
			require.Equal(t, before, lab.Print(t, folder))
			if c.mend != nil {
				// As long as the cause is there, resume stops again, no worse.
				out, code := n.Exit("resume", "--yes", "-q")
				require.NotZero(t, code, out)
				require.Equal(t, before, lab.Print(t, folder))
				c.mend(t, basalt)
			}
			require.NotContains(t, n.Want(0, "resume", "--yes"), "context canceled")
			require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "Documents")))
			n.Want(0, "check")
		})
	}
}

// plugIn mounts a drive anew.
func plugIn(t *testing.T, at string) {
	lab.Unmount(t, at)
	lab.Run(t, "mount", "-o", "loop", at+".img", at)
}

// The drive with the records fills up in the middle: that is said, and the run
// goes on once there is room.
func TestLedgerDriveFull(t *testing.T) {
	for _, step := range []string{"part.intent", "pass-1", "sealed", "switch.act", "tried"} {
		t.Run(step, func(t *testing.T) {
			skerry, basalt, records := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32),
				lab.MemoryDrive(t, "RECORDS", 6)
			lab.Tree{"Documents/a: a", "Documents/sub/b: b"}.Make(t, skerry)
			folder := filepath.Join(skerry, "Documents")
			before := lab.Print(t, folder)
			n := lab.New(t, program)
			n.State = filepath.Join(records, "state")
			fill := filepath.Join(records, "fill")
			out, code := midway(t, n, step, func(*os.Process) {
				// A reserve that is kept for the ledger is not to be had; what is free is.
				_ = exec.Command("dd", "if=/dev/zero", "of="+fill, "bs=4k").Run()
			}, "move", folder, "--into", basalt, "--yes", "-q")
			require.Equal(t, before, lab.Print(t, folder+"/."))
			require.NoError(t, os.Remove(fill))
			if code != 0 {
				require.Equal(t, 5, code, out)
				require.Contains(t, out, "records, at "+n.State+" is full")
				n.Want(0, "resume", "--yes", "-q")
			}
			require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "Documents")))
			n.Want(0, "check")
		})
	}
}

// A program that opens a file for writing after the inspection keeps the run
// from switching; with --wait-quiet the run waits for it.
func TestWriterAppears(t *testing.T) {
	for wait, want := range map[string]int{"0s": 6, "60s": 0} {
		t.Run("wait "+wait, func(t *testing.T) {
			t.Parallel()
			skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
			lab.Tree{"Documents/log: first\n", "Documents/b: b"}.Make(t, skerry)
			folder := filepath.Join(skerry, "Documents")
			n := lab.New(t, raced)
			writer := exec.Command("sh", "-c", `exec 9>>"$1"; echo; sleep 10; echo last >&9`, "sh",
				filepath.Join(folder, "log"))
			out, code := midway(t, n, "verified-1", func(*os.Process) {
				opened, err := writer.StdoutPipe()
				require.NoError(t, err)
				require.NoError(t, writer.Start())
				_, err = opened.Read(make([]byte, 1))
				require.NoError(t, err)
			}, "move", folder, "--into", basalt, "--yes", "-q", "--wait-quiet", wait)
			_ = writer.Wait() // it has ended, or ends with its sleep
			require.Equal(t, want, code, out)
			if want != 0 {
				require.Contains(t, out, "programs have files of it open for writing")
				require.Regexp(t, `written to by sh .*Documents/log`, out)
				require.Contains(t, out, "is as it was, whole, at its old place")
				n.Want(0, "resume", "--yes", "-q")
			}
			content, err := os.ReadFile(filepath.Join(basalt, "Documents", "log"))
			require.NoError(t, err)
			require.Equal(t, "first\nlast\n", string(content))
			n.Want(0, "check")
		})
	}
}

// A second signal ends the run at once; it is recoverable all the same.
func TestSecondSignal(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Documents/a: a"}.Make(t, skerry)
	folder := filepath.Join(skerry, "Documents")
	before := lab.Print(t, folder)
	n := lab.New(t, raced)
	_, code := midway(t, n, "switch.act", func(p *os.Process) {
		require.NoError(t, p.Signal(syscall.SIGTERM))
		require.Eventually(t, func() bool { // until the first one is taken
			return p.Signal(syscall.SIGTERM) != nil || exec.Command("kill", "-0", strconv.Itoa(p.Pid)).Run() != nil ||
				zombie(p.Pid)
		}, 10*time.Second, 50*time.Millisecond)
	}, "move", folder, "--into", basalt, "--yes", "-q")
	require.Equal(t, -1, code, "it waits at a step and does not hear the first one")
	require.Equal(t, before, lab.Print(t, folder+"/."))
	n.Want(0, "undo", "--yes")
	require.Equal(t, before, lab.Print(t, folder))
}

// A signal that was ignored when it was started, as nohup(1) has it, stops nothing.
func TestIgnoredSignals(t *testing.T) {
	n, home := stage(t, lab.Tree{"Documents/a: a"})
	n.Wrap = []string{"sh", "-c", `trap "" HUP INT; exec "$@"`, "sh"}
	out, code := midway(t, n, "sealed", func(p *os.Process) {
		require.NoError(t, errors.Join(p.Signal(syscall.SIGHUP), p.Signal(syscall.SIGINT)))
	}, "move", filepath.Join(home, "Documents"), "--into", "BASALT:/", "--yes", "-q")
	require.Zero(t, code, out)
}

func zombie(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && strings.Contains(string(b), ") Z ")
}

// A program that reads through the link path notices nothing of a resume or
// an undo either (I1).
func TestReadersDuringRecovery(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	var tr lab.Tree
	for i := range 300 {
		tr = append(tr, fmt.Sprintf("Documents/%d/%d: %s", i%7, i, strings.Repeat("x", 5000)))
	}
	tr.Make(t, skerry)
	folder := filepath.Join(skerry, "Documents")
	n := lab.New(t, raced)
	for _, c := range []struct {
		step, way string
		command   []string
	}{
		{"pass-1", "resume", []string{"move", folder, "--into", basalt}},
		{"hold.act", "undo", []string{"bring-back", "documents"}},
		{"place.act", "resume", []string{"bring-back", "documents"}},
		{"place.act", "undo", []string{"move", folder, "--into", basalt}},
		{"switch.act", "undo", []string{"move", folder, "--into", basalt}},
		{"switch.intent", "resume", []string{"move", folder, "--into", basalt}},
	} {
		n.Env = []string{"NEXLIN_FAULT=kill:" + c.step}
		n.Want(-1, append(c.command, "--yes", "-q")...)
		n.Env = nil
		r := lab.Read(folder, "0/0", "3/3", "5/299")
		n.Want(0, c.way, "--yes", "-q")
		time.Sleep(20 * time.Millisecond)
		r.Stop(t)
		n.Exit("discard-original", "documents", "--yes", "-q") // what undo has set aside is in the way of the next
	}
}

// Two runs at once on one state directory, of two folders: both are done.
func TestTwoFoldersAtOnce(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"one/a: 1", "two/b: 2"}.Make(t, skerry)
	n := lab.New(t, raced)
	out, code := midway(t, n, "pass-1", func(*os.Process) {
		n.Want(0, "move", filepath.Join(skerry, "two"), "--into", basalt, "--yes", "-q")
		n.Want(6, "resume", n.LastGoing(), "--yes")
	}, "move", filepath.Join(skerry, "one"), "--into", basalt, "--yes", "-q")
	require.Zero(t, code, out)
	n.Want(0, "check")
	require.Len(t, n.JSON("list")["redirects"], 2)
	// The same redirect twice: the second one is told that the first is at it.
	out, code = midway(t, n, "unlink.intent", func(*os.Process) {
		n.Want(6, "detach", "one", "--yes")
		n.Want(6, "bring-back", "one", "--yes")
	}, "detach", "one", "--yes")
	require.Zero(t, code, out)
}

// Two at once: the second one refuses (I7).
func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"outer/inner/deep/a: 1", "outer/b: 2"}.Make(t, skerry)
	for _, second := range []string{"outer", "outer/inner", "outer/inner/deep"} {
		t.Run(second, func(t *testing.T) {
			n, other := lab.New(t, raced), lab.New(t, raced)
			for name, who := range map[string]*lab.Nexlin{"the same ledger": n, "another ledger": other} {
				out, code := midway(t, n, "part.done", func(*os.Process) {
					out, code := who.Exit("move", filepath.Join(skerry, second), "--into",
						filepath.Join(basalt, "two"), "--yes", "-q")
					require.Contains(t, []int{3, 6}, code, "%s: %s", name, out)
					require.Regexp(t, `\[(busy|run-stopped|in-use)\]|another Nexlin`, out)
				}, "move", filepath.Join(skerry, "outer/inner"), "--into", basalt, "--yes", "-q")
				require.Zero(t, code, out)
				n.Want(0, "undo", n.LastRun(), "--yes", "-q")
				n.Want(0, "discard-original", "inner", "--yes", "-q")
			}
		})
	}
}

// A closed output pipe does not kill a run.
func TestClosedPipe(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"skerry/Documents/a: 1", "basalt/", "dune/"}.Make(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "drives.yaml"), []byte(drivesFile), 0o644))
	n := lab.New(t, raced)
	n.Env = []string{"NEXLIN_STANDIN_DRIVES=" + filepath.Join(dir, "drives.yaml")}
	r, w, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, r.Close())
	cmd := n.Cmd("move", filepath.Join(dir, "skerry/Documents"), "--into", "BASALT:/", "--yes")
	cmd.Stdout, cmd.Stderr = w, w
	require.NoError(t, cmd.Run())
	require.NoError(t, w.Close())
	n.Want(0, "check", "documents")
}
