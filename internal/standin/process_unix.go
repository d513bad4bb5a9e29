//go:build unix

package standin

import (
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
)

// alive reports whether a process is there and has not ended.
func alive(pid int) bool {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		_, missing := os.Stat("/proc/self")
		return missing != nil && syscall.Kill(pid, 0) == nil
	}
	return !strings.Contains(string(b), ") Z ")
}

func apart(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

func end(pid int) error { return syscall.Kill(pid, syscall.SIGTERM) }
