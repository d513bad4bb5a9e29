//go:build faults && linux

package handle

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// shareRules holds Nexlin to what Windows allows, in programs built for tests: a directory can't
// be renamed while a handle lies below it or a working directory is inside, this process's
// own ones too. An exchange is not looked at: there is none on Windows, and where there is one
// a handle does no harm.
func shareRules(d *Dir, name string, how renaming) error {
	var st Stat
	if how == swap || statAt(d.fd, name, &st) != nil || !st.IsDir() {
		return nil
	}
	below := filepath.Join(sysPath(d.fd), name) + "/"
	if at, err := os.Getwd(); err == nil && strings.HasPrefix(at+"/", below) {
		return fmt.Errorf("%s has the working directory in it: %w", below, syscall.EACCES)
	}
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return nil // /proc is hidden: nothing is known
	}
	for _, fd := range fds {
		if open, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil && strings.HasPrefix(open, below) {
			return fmt.Errorf("%s is open in it: %w", open, syscall.EACCES)
		}
	}
	return nil
}
