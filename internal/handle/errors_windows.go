package handle

import (
	"errors"
	"slices"
	"syscall"

	"golang.org/x/sys/windows"
)

// portable gives an error of this system as the one that this package's
// callers know on every system.
func portable(err error) error {
	for _, known := range inWords {
		if slices.ContainsFunc(known.says, func(e error) bool { return errors.Is(err, e) }) {
			return known.is
		}
	}
	var status windows.NTStatus
	if errors.As(err, &status) {
		if e, ok := statuses[status]; ok {
			return e
		}
		err = status.Errno()
	}
	var code syscall.Errno
	if errors.As(err, &code) {
		if e, ok := codes[code]; ok {
			return e
		}
	}
	return err
}

// inWords are answers that no error of other systems stands for.
var inWords = []struct {
	says []error
	is   error
}{
	{[]error{windows.STATUS_VIRUS_INFECTED, windows.STATUS_VIRUS_DELETED, windows.ERROR_VIRUS_INFECTED,
		windows.ERROR_VIRUS_DELETED}, ErrScanned},
	{[]error{windows.STATUS_FVE_LOCKED_VOLUME, syscall.Errno(windows.FVE_E_LOCKED_VOLUME)}, ErrLocked},
}

var statuses = map[windows.NTStatus]syscall.Errno{
	windows.STATUS_OBJECT_NAME_COLLISION:     syscall.EEXIST,
	windows.STATUS_NOT_A_DIRECTORY:           syscall.ENOTDIR,
	windows.STATUS_FILE_IS_A_DIRECTORY:       syscall.EISDIR,
	windows.STATUS_DIRECTORY_NOT_EMPTY:       syscall.ENOTEMPTY,
	windows.STATUS_CANNOT_DELETE:             syscall.EACCES,
	windows.STATUS_DELETE_PENDING:            syscall.EBUSY,
	windows.STATUS_STOPPED_ON_SYMLINK:        syscall.ELOOP,
	windows.STATUS_REPARSE_POINT_ENCOUNTERED: syscall.ELOOP,
	windows.STATUS_INVALID_INFO_CLASS:        syscall.EOPNOTSUPP,
	windows.STATUS_INVALID_PARAMETER:         syscall.EINVAL,
	// A drive that was pulled: turned into a code of the other interface, the first reads as "file not
	// found", which would be "removed".
	windows.STATUS_NO_SUCH_DEVICE:       syscall.ENODEV,
	windows.STATUS_DEVICE_NOT_CONNECTED: syscall.ENODEV,
	windows.STATUS_DEVICE_REMOVED:       syscall.ENODEV,
	windows.STATUS_VOLUME_DISMOUNTED:    syscall.ENODEV,
	windows.STATUS_NO_MEDIA_IN_DEVICE:   syscall.ENODEV,
}

var codes = map[syscall.Errno]syscall.Errno{
	windows.ERROR_FILE_NOT_FOUND:        syscall.ENOENT,
	windows.ERROR_PATH_NOT_FOUND:        syscall.ENOENT,
	windows.ERROR_ACCESS_DENIED:         syscall.EACCES,
	windows.ERROR_FILE_EXISTS:           syscall.EEXIST,
	windows.ERROR_ALREADY_EXISTS:        syscall.EEXIST,
	windows.ERROR_DIR_NOT_EMPTY:         syscall.ENOTEMPTY,
	windows.ERROR_DIRECTORY:             syscall.ENOTDIR,
	windows.ERROR_SHARING_VIOLATION:     syscall.EBUSY,
	windows.ERROR_LOCK_VIOLATION:        syscall.EBUSY,
	windows.ERROR_USER_MAPPED_FILE:      syscall.EBUSY,
	windows.ERROR_PRIVILEGE_NOT_HELD:    syscall.EPERM,
	windows.ERROR_INVALID_OWNER:         syscall.EPERM,
	windows.ERROR_DISK_FULL:             syscall.ENOSPC,
	windows.ERROR_HANDLE_DISK_FULL:      syscall.ENOSPC,
	windows.ERROR_DISK_QUOTA_EXCEEDED:   syscall.EDQUOT,
	windows.ERROR_FILE_TOO_LARGE:        syscall.EFBIG,
	windows.ERROR_WRITE_PROTECT:         syscall.EROFS,
	windows.ERROR_NOT_SAME_DEVICE:       syscall.EXDEV,
	windows.ERROR_INVALID_NAME:          syscall.EILSEQ,
	windows.ERROR_BAD_PATHNAME:          syscall.EILSEQ,
	windows.ERROR_FILENAME_EXCED_RANGE:  syscall.ENAMETOOLONG,
	windows.ERROR_NOT_SUPPORTED:         syscall.EOPNOTSUPP,
	windows.ERROR_INVALID_FUNCTION:      syscall.EOPNOTSUPP,
	windows.ERROR_CALL_NOT_IMPLEMENTED:  syscall.EOPNOTSUPP,
	windows.ERROR_CANT_ACCESS_FILE:      syscall.EOPNOTSUPP,
	windows.ERROR_TOO_MANY_OPEN_FILES:   syscall.EMFILE,
	windows.ERROR_CANT_RESOLVE_FILENAME: syscall.ELOOP,
	windows.ERROR_CRC:                   syscall.EIO,
	windows.ERROR_IO_DEVICE:             syscall.EIO,
	windows.ERROR_FILE_CORRUPT:          syscall.EIO,
	windows.ERROR_DISK_CORRUPT:          syscall.EIO,
	windows.ERROR_READ_FAULT:            syscall.EIO,
	windows.ERROR_WRITE_FAULT:           syscall.EIO,
	windows.ERROR_SEEK:                  syscall.EIO,
	windows.ERROR_NOT_READY:             syscall.ENODEV,
	windows.ERROR_DEV_NOT_EXIST:         syscall.ENODEV,
	windows.ERROR_NO_SUCH_DEVICE:        syscall.ENODEV,
	windows.ERROR_DEVICE_NOT_CONNECTED:  syscall.ENODEV,
	windows.ERROR_FILE_INVALID:          syscall.ENODEV,
	windows.ERROR_WRONG_DISK:            syscall.ENODEV,
	windows.ERROR_MEDIA_CHANGED:         syscall.ENODEV,
	windows.ERROR_DEVICE_REMOVED:        syscall.ENODEV,
}

// damage is what a call answers where a drive or a file system is damaged.
var damage = []error{syscall.EIO}

// passing is what it answers while somebody holds an entry.
var passing = []error{syscall.EBUSY, syscall.EACCES}

// gone is what it answers where a drive is not there any more.
var gone = []error{syscall.ENODEV}
