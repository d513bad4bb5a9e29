package inuse

import (
	"os/exec"
	"syscall"

	"golang.org/x/sys/windows"
)

const rootDir = ""

// apart has the program run in a group of its own, so that a signal to Nexlin
// is not one to it.
func (c Command) apart(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
}
