//go:build unix

package inuse

import (
	"os"
	"os/exec"
	"syscall"
)

const rootDir = "/"

// apart has the program run in a session of its own, so that it has no terminal
// to type into and a signal to Nexlin is not one to it, and as its account; it is
// killed with what it started.
func (c Command) apart(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 && c.UID != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: c.UID, Gid: c.GID}
	}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
