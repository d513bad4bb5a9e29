package handle

import (
	"errors"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

func sysRead(fd descriptor, b []byte) (int, error) {
	var n uint32
	err := windows.ReadFile(fd, b, &n, nil)
	return int(n), atEnd(err)
}

func sysWrite(fd descriptor, b []byte) (int, error) {
	var n uint32
	err := windows.WriteFile(fd, b, &n, nil)
	return int(n), portable(err)
}

func sysPread(fd descriptor, b []byte, at int64) (int, error) {
	var n uint32
	err := windows.ReadFile(fd, b, &n, &windows.Overlapped{Offset: uint32(at), OffsetHigh: uint32(at >> 32)})
	return int(n), atEnd(err)
}

func sysPwrite(fd descriptor, b []byte, at int64) (int, error) {
	var n uint32
	err := windows.WriteFile(fd, b, &n, &windows.Overlapped{Offset: uint32(at), OffsetHigh: uint32(at >> 32)})
	return int(n), portable(err)
}

func atEnd(err error) error {
	if errors.Is(err, windows.ERROR_HANDLE_EOF) {
		return nil
	}
	return portable(err)
}

// sysTruncate marks a file that grows as sparse, so that what is added is a
// hole; a file system without them takes no notice.
func sysTruncate(fd descriptor, size int64) error {
	var st Stat
	if err := statOpen(fd, &st); err != nil {
		return err
	}
	if size > st.Size {
		_, _ = control(fd, windows.FSCTL_SET_SPARSE, nil, 0) // room, not content, is what it is about
	}
	var b [8]byte
	*(*int64)(unsafe.Pointer(&b[0])) = size
	return set(fd, windows.FileEndOfFileInformation, b[:])
}

// control is DeviceIoControl: in goes in, up to room bytes come out.
func control(h windows.Handle, code uint32, in []byte, room int) ([]byte, error) {
	out := make([]byte, max(room, 1))
	n, err := system.control(h, code, in, out)
	return out[:n], portable(err)
}

// sysClone: only ReFS shares content, and then within a volume.
func sysClone(_, _ descriptor) error { return syscall.EOPNOTSUPP }

// sysSeek asks for the ranges that are allocated (FSCTL_QUERY_ALLOCATED_RANGES).
func sysSeek(fd descriptor, at int64, hole bool) (int64, error) {
	ask := [2]int64{at, 1<<62 - at}
	b, err := control(fd, windows.FSCTL_QUERY_ALLOCATED_RANGES, unsafe.Slice((*byte)(unsafe.Pointer(&ask)), 16), 16)
	switch {
	case errors.Is(err, windows.ERROR_MORE_DATA):
		err = nil
	case errors.Is(err, windows.ERROR_INVALID_PARAMETER), errors.Is(err, windows.ERROR_NOT_SUPPORTED):
		err = syscall.EOPNOTSUPP
	}
	if err != nil {
		return 0, err
	}
	if len(b) < 16 {
		if hole {
			return at, nil
		}
		return 0, syscall.ENXIO
	}
	start, length := *(*int64)(unsafe.Pointer(&b[0])), *(*int64)(unsafe.Pointer(&b[8]))
	if !hole {
		return max(start, at), nil
	}
	if start > at {
		return at, nil
	}
	return start + length, nil
}

// sysUncache has the file be read past the cache from now on (FILE_NO_INTERMEDIATE_BUFFERING), by another
// handle of it. What is dirty in the cache goes to the device before.
func sysUncache(f *File, _, _ int64) bool {
	h, err := ntOpen(f.fd, "", windows.FILE_READ_DATA|toStat, windows.FILE_OPEN,
		itself&^windows.FILE_OPEN_REPARSE_POINT|windows.FILE_NON_DIRECTORY_FILE|windows.FILE_NO_INTERMEDIATE_BUFFERING)
	if err != nil {
		return false
	}
	inherit(h, f.fd)
	sysClose(f.fd)
	f.fd, f.blocks = h, true
	return !Emulated() // which reads through the cache of the system below it
}
