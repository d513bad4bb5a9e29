//go:build linux

package lab

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"syscall"
)

// ownMounts says in the environment that a test process has a mount namespace of
// its own.
const ownMounts = "NEXLIN_TEST_OWN_MOUNTS"

// OwnMounts has the tests of a package run in a mount namespace of their own,
// where this account may make one: then nothing outside keeps their drives
// mounted, and nothing of theirs stays (mount_namespaces(7)). It is called first
// in TestMain, and returns in the process that runs the tests.
func OwnMounts() {
	if os.Geteuid() != 0 || os.Getenv(ownMounts) != "" {
		return
	}
	cmd := exec.Command("/proc/self/exe", os.Args[1:]...)
	cmd.Env = append(os.Environ(), ownMounts+"=1")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	runtime.LockOSThread() // the child ends with this thread
	if err := cmd.Start(); err != nil {
		fmt.Fprintln(os.Stderr, "no mount namespace of the tests' own:", err)
		return
	}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGQUIT)
	go func() {
		for s := range signals {
			_ = cmd.Process.Signal(s) // it may have ended
		}
	}()
	err := cmd.Wait()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		os.Exit(max(exit.ExitCode(), 1))
	case err != nil:
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}
