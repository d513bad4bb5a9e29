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

// ownStage says in the environment how far [OwnNamespaces] has come.
const ownStage = "NEXLIN_TEST_NAMESPACES"

// outerMounts names the mount namespace that the tests were started in.
const outerMounts = ownStage + "_OUTER"

// noProc is the exit status of a first process that may not mount proc(5).
const noProc = 125

// OwnNamespaces has the tests of a package run in a mount and a process namespace of
// their own, where this account may make them: then nothing outside keeps their drives
// mounted or is looked through for who uses a folder, and nothing of theirs stays, nor
// any process (namespaces(7)). It is called first in TestMain, and returns in the
// process that runs the tests.
func OwnNamespaces() {
	switch stage := os.Getenv(ownStage); {
	case stage == "first":
		beFirst()
	case stage == "" && os.Geteuid() == 0:
		outer, _ := os.Readlink("/proc/self/ns/mnt") // without proc(5) there are none of our own
		_ = os.Setenv(outerMounts, outer)
		code, err := again("first", syscall.CLONE_NEWPID)
		if err != nil || code == noProc {
			code, err = again("tests", 0)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "no namespaces of the tests' own:", err)
			return
		}
		os.Exit(code)
	}
}

// InOwnNamespaces reports whether they are, so that what is mounted is seen by nobody else.
func InOwnNamespaces() bool { return os.Getenv(ownStage) == "tests" && ownMounts() }

// ownMounts reports whether this process has another mount namespace than the one that started it.
func ownMounts() bool {
	mine, err := os.Readlink("/proc/self/ns/mnt")
	return err == nil && mine != os.Getenv(outerMounts)
}

// again runs this program in a mount namespace of its own, and in what else is wanted.
func again(stage string, namespaces uintptr) (code int, err error) {
	cmd := itself(stage)
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS, Cloneflags: namespaces,
		Pdeathsig: syscall.SIGKILL}
	runtime.LockOSThread() // the child ends with this thread
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	passSignals(cmd.Process)
	err = cmd.Wait()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return max(exit.ExitCode(), 1), nil
	}
	return 0, err
}

func itself(stage string) *exec.Cmd {
	cmd := exec.Command("/proc/self/exe", os.Args[1:]...)
	cmd.Env = append(os.Environ(), ownStage+"="+stage)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	return cmd
}

func passSignals(to *os.Process) {
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGQUIT)
	go func() {
		for s := range signals {
			_ = to.Signal(s) // it may have ended
		}
	}()
}

// beFirst is the first process of a namespace: it has the tests run in another one, and
// takes in what they leave behind.
func beFirst() {
	if err := syscall.Mount("proc", "/proc", "proc", 0, ""); err != nil {
		os.Exit(noProc)
	}
	cmd := itself("tests")
	if err := cmd.Start(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	passSignals(cmd.Process)
	for {
		var ended syscall.WaitStatus
		switch pid, err := syscall.Wait4(-1, &ended, 0, nil); {
		case errors.Is(err, syscall.EINTR):
		case err != nil:
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		case pid == cmd.Process.Pid:
			if ended.Signaled() {
				os.Exit(1)
			}
			os.Exit(ended.ExitStatus())
		}
	}
}
