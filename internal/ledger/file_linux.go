package ledger

import (
	"os"

	"golang.org/x/sys/unix"
)

// allocate gives a file so many bytes of room on its drive (fallocate(2)).
// Where that can't be had the room is only measured.
func allocate(f *os.File, bytes int64) error {
	err := unix.Fallocate(int(f.Fd()), 0, 0, bytes)
	if err == unix.EOPNOTSUPP {
		return nil
	}
	return err
}
