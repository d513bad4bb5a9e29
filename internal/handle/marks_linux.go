package handle

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// sysMarks asks by the flags of ioctl_iflags(2), and for the project of
// ioctl_xfs_fsgetxattr(2). A file system without one of them has none.
func sysMarks(fd descriptor) Marks {
	const casefold = 0x40000000 // FS_CASEFOLD_FL
	// FS_NOCOW_FL, FS_NOATIME_FL, FS_SYNC_FL, FS_DIRSYNC_FL
	const handling = 0x800000 | 0x80 | 0x8 | 0x10000
	var m Marks
	if flags, err := unix.IoctlGetUint32(int(fd), unix.FS_IOC_GETFLAGS); err == nil {
		m.FoldsCase, m.Handling = flags&casefold != 0, flags&handling != 0
	}
	const getXattr = 0x801c581f // FS_IOC_FSGETXATTR
	var x struct {
		flags, extent, extents, project, cow uint32
		pad                                  [8]byte
	}
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), getXattr, uintptr(unsafe.Pointer(&x))); e == 0 {
		m.Project = x.project
	}
	return m
}
