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
		return tellShare(below, "the working directory is inside")
	}
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return nil // /proc is hidden: nothing is known
	}
	for _, fd := range fds {
		if open, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil && strings.HasPrefix(open, below) {
			return tellShare(below, open+" is open")
		}
	}
	return nil
}

// tellShare says on standard error, too, what would have gone wrong: a caller may have taken
// the error for something that passes.
func tellShare(dir, why string) error {
	fmt.Fprintf(os.Stderr, "share rules: %s is renamed while %s\n", dir, why)
	return fmt.Errorf("%s: %w", why, syscall.EACCES)
}
