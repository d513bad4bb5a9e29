//go:build linux

package lab

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// A Terminal is a pseudo-terminal with a command on it (pty(7)).
type Terminal struct {
	t     testing.TB
	pty   *os.File
	cmd   *exec.Cmd
	mu    sync.Mutex
	seen  bytes.Buffer
	typed int // how much was shown when keys were typed last
	done  chan struct{}
}

// OnTerminal starts a command on a terminal of 100 by 30.
func OnTerminal(t testing.TB, cmd *exec.Cmd) *Terminal {
	t.Helper()
	return OnTerminalOf(t, cmd, 100, 30)
}

// OnTerminalOf is [OnTerminal] for one of another size.
func OnTerminalOf(t testing.TB, cmd *exec.Cmd, columns, rows uint16) *Terminal {
	t.Helper()
	pty, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		Skip(t, "no pseudo-terminals: "+err.Error())
	}
	t.Cleanup(func() { pty.Close() })
	if err := unix.IoctlSetPointerInt(int(pty.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(int(pty.Fd()), unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	if err := unix.IoctlSetWinsize(int(pty.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: rows, Col: columns}); err != nil {
		t.Fatal(err)
	}
	tty, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer tty.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.Env = append(cmd.Env, "TERM=xterm")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	term := &Terminal{t: t, pty: pty, cmd: cmd, done: make(chan struct{})}
	t.Cleanup(func() { _ = cmd.Process.Kill() }) // it has ended, unless the test failed
	go term.read()
	return term
}

func (term *Terminal) read() {
	defer close(term.done)
	buf := make([]byte, 4096)
	for {
		n, err := term.pty.Read(buf)
		term.mu.Lock()
		term.seen.Write(buf[:n])
		term.mu.Unlock()
		if err != nil {
			return // the other end is gone
		}
	}
}

// Screen is everything that was written to the terminal.
func (term *Terminal) Screen() string {
	term.mu.Lock()
	defer term.mu.Unlock()
	return term.seen.String()
}

// Await waits until the terminal shows something that it did not show before the last keys were
// typed, and then types.
func (term *Terminal) Await(shows, then string) {
	term.t.Helper()
	term.AwaitMore(shows, strings.Count(term.Screen()[:term.typed], shows))
	if strings.Contains(then, "\x1b") {
		term.awaitForm()
	}
	time.Sleep(100 * time.Millisecond) // a form takes keys once it is drawn
	if then == "" {
		return
	}
	term.typed = len(term.Screen())
	if _, err := term.pty.WriteString(then); err != nil {
		term.t.Fatal(err)
	}
}

// awaitForm waits until the program takes key by key: before, a key that is no letter would be echoed and lost.
func (term *Terminal) awaitForm() {
	term.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if set, err := unix.IoctlGetTermios(int(term.pty.Fd()), unix.TCGETS); err == nil && set.Lflag&unix.ICANON == 0 {
			return
		}
	}
	term.t.Fatalf("no form was drawn:\n%s", term.Screen())
}

// AwaitMore waits until the terminal has shown something more often than so many times.
func (term *Terminal) AwaitMore(shows string, times int) {
	term.t.Helper()
	for end := time.Now().Add(20 * time.Second); strings.Count(term.Screen(), shows) <= times; {
		if time.Now().After(end) {
			term.t.Fatalf("the terminal never showed %q:\n%s", shows, term.Screen())
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Wait waits for the command's end and returns its exit status.
func (term *Terminal) Wait() int {
	stuck := time.AfterFunc(30*time.Second, func() { _ = term.cmd.Process.Kill() })
	_ = term.cmd.Wait() // the status says it
	stuck.Stop()
	select {
	case <-term.done:
	case <-time.After(2 * time.Second):
	}
	return term.cmd.ProcessState.ExitCode()
}
