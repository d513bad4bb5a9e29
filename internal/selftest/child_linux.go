package selftest

import (
	"os/exec"
	"syscall"
)

// endsWithUs has a command be killed when this process is (prctl(2), PR_SET_PDEATHSIG).
func endsWithUs(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} }
