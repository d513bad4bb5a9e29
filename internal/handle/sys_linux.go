package handle

import (
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// FlushesWhole says that [Dir.SyncAll] flushes a whole file system; where it
// doesn't, whoever writes flushes every file and directory by itself.
const FlushesWhole = true

func sysOpenReal(path string) (descriptor, error) {
	return unix.Openat2(unix.AT_FDCWD, path, &unix.OpenHow{
		Flags:   openDir,
		Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS,
	})
}

func sysBeneath(at descriptor, rel string) (descriptor, error) {
	how := unix.OpenHow{
		Flags:   openDir | unix.O_NOFOLLOW,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV | unix.RESOLVE_NO_MAGICLINKS,
	}
	for {
		switch fd, err := unix.Openat2(at, rel, &how); err {
		case unix.EAGAIN: // a rename raced with the look-up: openat2(2) says try again
		case unix.EXDEV:
			return -1, ErrMount
		default:
			return fd, err
		}
	}
}

func sysOpenFile(at descriptor, name string) (descriptor, error) {
	const flags = unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC
	for wait := time.Millisecond; ; wait = min(2*wait, 100*time.Millisecond) {
		fd, err := unix.Openat(at, name, flags|unix.O_NOATIME, 0)
		if err == unix.EPERM {
			fd, err = unix.Openat(at, name, flags, 0)
		}
		if err != unix.EAGAIN {
			return fd, err
		}
		// Another program holds a lease on the file. The call has asked for it
		// to be given up, and the kernel takes it back after a time of its own,
		// by default 45 seconds (fcntl(2), leases).
		time.Sleep(wait)
	}
}

func sysMknod(at descriptor, name string, mode uint32, device uint64) error {
	return unix.Mknodat(at, name, mode, int(device))
}

func sysChmodEntry(at descriptor, name string, mode uint32) error {
	err := unix.Fchmodat(at, name, mode, unix.AT_SYMLINK_NOFOLLOW)
	if err == unix.EOPNOTSUPP || err == unix.ENOSYS {
		err = chmodPinned(at, name, mode)
	}
	return err
}

// chmodPinned does it where the kernel has no fchmodat2(2), before Linux 6.6:
// through a descriptor that pins the entry without opening it (O_PATH).
func chmodPinned(at descriptor, name string, mode uint32) error {
	fd, err := unix.Openat(at, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT == unix.S_IFLNK {
		return unix.EOPNOTSUPP
	}
	return unix.Chmod("/proc/self/fd/"+strconv.Itoa(fd), mode)
}

func sysRename(at descriptor, name string, to descriptor, newName string, how renaming) error {
	flags := [...]uint{mayReplace: 0, neverReplace: unix.RENAME_NOREPLACE, swap: unix.RENAME_EXCHANGE}
	return unix.Renameat2(at, name, to, newName, flags[how])
}

func sysSync(fd descriptor) error     { return unix.Fsync(fd) }
func sysFlush(fd descriptor) error    { return unix.Fsync(fd) }
func sysFlushDir(fd descriptor) error { return unix.Fsync(fd) }
func sysSyncDir(fd descriptor) error  { return unix.Fsync(fd) }
func sysSyncAll(fd descriptor) error  { return unix.Syncfs(fd) }

// sysSetTimes is futimens(3): utimensat(2) with a null path. The x/sys call
// can't pass a null path, so this one does.
func sysSetTimes(fd descriptor, atime, mtime Time) error {
	ts := [2]unix.Timespec{timespec(atime), timespec(mtime)}
	_, _, e := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&ts[0])), 0, 0, 0)
	if e != 0 {
		return e
	}
	return nil
}

func sysAccess(at descriptor, name string, mode uint32) error {
	return unix.Faccessat2(at, name, mode, unix.AT_EACCESS|unix.AT_SYMLINK_NOFOLLOW)
}

func sysClone(fd, from descriptor) error { return unix.IoctlFileClone(fd, from) }

// sysMayRemove has nothing to ask: it is the directory that is changed here.
func sysMayRemove(descriptor, string) error { return nil }

// sysCreated: the time at which an entry was made can't be set here.
func sysCreated(_, _ descriptor) error { return nil }

// sysSeek finds the next data, or the next hole, at or after at (lseek(2)).
func sysSeek(fd descriptor, at int64, hole bool) (int64, error) {
	if hole {
		return unix.Seek(fd, at, unix.SEEK_HOLE)
	}
	return unix.Seek(fd, at, unix.SEEK_DATA)
}

// fileSystem is the number of the one that d lies on; less than 0 where it can't be had.
func (d *Dir) fileSystem() int64 {
	n := d.kind.number.Load()
	if n == 0 {
		var st unix.Statfs_t
		if n = -1; unix.Fstatfs(d.fd, &st) == nil {
			n = int64(st.Type)
		}
		d.kind.number.Store(n)
	}
	return n
}

// sysOnDisk reports a file system that the kernel reads from a disk by itself. What waits for
// another process, or for the network, would keep even a killed process from ending
// while it is asked for asynchronously.
func sysOnDisk(d *Dir) bool {
	switch d.fileSystem() {
	case unix.EXT4_SUPER_MAGIC, unix.XFS_SUPER_MAGIC, unix.BTRFS_SUPER_MAGIC, unix.F2FS_SUPER_MAGIC:
		return true
	}
	return false
}

// sysUncache is posix_fadvise(2), POSIX_FADV_DONTNEED.
func sysUncache(f *File, off, n int64) bool {
	return unix.Fadvise(f.fd, off, n, unix.FADV_DONTNEED) == nil && sysUncached(f.fd, off, n)
}

// sysUncached is cachestat(2): whether the page cache has nothing of a file. Before Linux
// 6.5 that is not known.
func sysUncached(fd descriptor, off, n int64) bool {
	const sysCachestat = 451 // the same number on every architecture
	span := [2]uint64{uint64(off), uint64(n)}
	var stat [5]uint64 // cached, dirty, written back, evicted, recently evicted
	_, _, e := unix.Syscall6(sysCachestat, uintptr(fd),
		uintptr(unsafe.Pointer(&span)), uintptr(unsafe.Pointer(&stat)), 0, 0, 0)
	return e == 0 && stat[0] == 0
}

func sysPath(fd descriptor) string {
	p, err := os.Readlink("/proc/self/fd/" + strconv.Itoa(fd))
	if err != nil {
		return ""
	}
	return p
}

// mountsOnDemand reports a directory in which a name that is asked for is looked for elsewhere.
func mountsOnDemand(dir string) bool {
	var st unix.Statfs_t
	return unix.Statfs(dir, &st) == nil && st.Type == unix.AUTOFS_SUPER_MAGIC
}

func sysRoom(path string) (Room, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return Room{}, err
	}
	r := Room{Block: int64(st.Frsize), Inodes: int64(st.Ffree)}
	if r.Block == 0 {
		r.Block = int64(st.Bsize)
	}
	if st.Files == 0 {
		r.Inodes = -1
	}
	r.Size, r.Free = int64(st.Blocks)*r.Block, int64(st.Bavail)*r.Block
	return r, nil
}

// sysSession needs Linux 6.8, which gives each mount a number of its own
// (statx(2), STATX_MNT_ID_UNIQUE).
func sysSession(fd descriptor) (string, error) {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", nil
	}
	var x unix.Statx_t
	err = call("statx", func() error {
		return unix.Statx(fd, "", unix.AT_EMPTY_PATH, unix.STATX_MNT_ID_UNIQUE, &x)
	})
	if err != nil || x.Mask&unix.STATX_MNT_ID_UNIQUE == 0 {
		return "", err
	}
	return strings.TrimSpace(string(boot)) + "/" + strconv.FormatUint(x.Mnt_id, 10), nil
}

// damage is what a call answers where a drive or a file system is damaged.
var damage = []error{syscall.EIO, syscall.EBADMSG, syscall.EUCLEAN}

// passing is what it answers while somebody holds an entry.
var passing = []error{syscall.EBUSY, syscall.ETXTBSY}

// gone is what it answers where a drive is not there any more.
var gone = []error{syscall.ENODEV, syscall.ENXIO, syscall.ENOTCONN, syscall.ESHUTDOWN, syscall.ENOMEDIUM,
	syscall.ESTALE}

// administrator reports whether this process has the rights of the machine's
// administrator: the root of a user namespace has but an account's
// (user_namespaces(7)).
var administrator = sync.OnceValue(func() bool {
	b, err := os.ReadFile("/proc/self/uid_map")
	return os.Geteuid() == 0 &&
		(err != nil || slices.Equal(strings.Fields(string(b)), []string{"0", "0", "4294967295"}))
})

const statMask = unix.STATX_BASIC_STATS | unix.STATX_MNT_ID

func statx(dirfd descriptor, name string, flags int, out *Stat) error {
	p, err := unix.BytePtrFromString(name)
	if err != nil {
		return err
	}
	return statxAt(dirfd, p, flags, out)
}

// statxAt is statx(2) for a name that ends in a zero byte; a link is not
// followed.
func statxAt(dirfd descriptor, name *byte, flags int, out *Stat) error {
	if err := fault("statx"); err != nil {
		return err
	}
	flags |= unix.AT_SYMLINK_NOFOLLOW | unix.AT_NO_AUTOMOUNT
	var x unix.Statx_t
	for {
		_, _, e := unix.Syscall6(unix.SYS_STATX, uintptr(dirfd), uintptr(unsafe.Pointer(name)), uintptr(flags),
			statMask, uintptr(unsafe.Pointer(&x)), 0)
		if e == 0 {
			break
		}
		if e != unix.EINTR {
			return e
		}
	}
	*out = Stat{
		Dev: unix.Mkdev(x.Dev_major, x.Dev_minor), Ino: x.Ino, Mode: uint32(x.Mode), Nlink: x.Nlink,
		UID: x.Uid, GID: x.Gid, Size: int64(x.Size), Allocated: int64(x.Blocks) * 512,
		Rdev:       unix.Mkdev(x.Rdev_major, x.Rdev_minor),
		Atime:      Time{x.Atime.Sec, x.Atime.Nsec},
		Mtime:      Time{x.Mtime.Sec, x.Mtime.Nsec},
		Ctime:      Time{x.Ctime.Sec, x.Ctime.Nsec},
		Mount:      x.Mnt_id,
		Attributes: attributes(x.Attributes),
		MountRoot:  x.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0,
	}
	return nil
}

func statAt(at descriptor, name string, out *Stat) error { return statx(at, name, 0, out) }
func statOpen(fd descriptor, out *Stat) error            { return statx(fd, "", unix.AT_EMPTY_PATH, out) }
func statPath(path string, out *Stat) error              { return statx(unix.AT_FDCWD, path, 0, out) }

func attributes(x uint64) (out uint64) {
	for _, p := range [...][2]uint64{{unix.STATX_ATTR_IMMUTABLE, AttrImmutable}, {unix.STATX_ATTR_APPEND, AttrAppend},
		{unix.STATX_ATTR_ENCRYPTED, AttrEncrypted}, {unix.STATX_ATTR_NODUMP, AttrNoDump},
		{unix.STATX_ATTR_COMPRESSED, AttrCompressed}} {
		if x&p[0] != 0 {
			out |= p[1]
		}
	}
	return out
}
