package ledger

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockFile takes the lock on a file without waiting (LockFileEx); it goes
// with the file's closing. ErrBusy if another process has it.
func lockFile(f *os.File, exclusive bool) error {
	flags := uint32(windows.LOCKFILE_FAIL_IMMEDIATELY)
	if exclusive {
		flags |= windows.LOCKFILE_EXCLUSIVE_LOCK
	}
	err := windows.LockFileEx(windows.Handle(f.Fd()), flags, 0, 1, 0, &windows.Overlapped{})
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return ErrBusy
	}
	return err
}

// checkOwner has nothing to look at: an account's profile, where the state
// lies, is closed to others by the rights it inherits.
func checkOwner(string) error { return nil }

// allocate gives a file so many bytes of room on its drive: NTFS allocates
// what a file's end is set to.
func allocate(f *os.File, bytes int64) error { return f.Truncate(bytes) }
