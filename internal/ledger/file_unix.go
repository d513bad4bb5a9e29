//go:build unix

package ledger

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// lockFile takes the lock on a file without waiting (flock(2)); it goes with
// the file's closing. ErrBusy if another process has it.
func lockFile(f *os.File, exclusive bool) error {
	how := unix.LOCK_SH
	if exclusive {
		how = unix.LOCK_EX
	}
	err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB)
	if err == unix.EWOULDBLOCK {
		return ErrBusy
	}
	return err
}

// checkOwner refuses a state directory that is not this account's alone to
// write.
func checkOwner(dir string) error {
	var st unix.Stat_t
	switch err := unix.Stat(dir, &st); {
	case err != nil:
		return &os.PathError{Op: "stat", Path: dir, Err: err}
	case int(st.Uid) != os.Geteuid():
		return &StateDirError{dir, fmt.Sprintf("it belongs to account %d, not to this one", st.Uid)}
	case st.Mode&0o022 != 0:
		return &StateDirError{dir, "other accounts may write to it; chmod go-w puts that right"}
	}
	return nil
}
