package ledger

import (
	"os"

	"golang.org/x/sys/unix"
)

// allocate gives a file so many bytes of room on its drive (fcntl(2),
// F_PREALLOCATE, in as many pieces as need be). Where that can't be had the
// room is only measured.
func allocate(f *os.File, bytes int64) error {
	err := unix.FcntlFstore(f.Fd(), unix.F_PREALLOCATE, &unix.Fstore_t{
		Flags: unix.F_ALLOCATEALL, Posmode: unix.F_PEOFPOSMODE, Length: bytes,
	})
	if err == unix.ENOTSUP || err == unix.EINVAL {
		return nil
	}
	return err
}
