package handle

import (
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A Time is a point in time as file systems keep it; it reaches further
// than time.Time's nanosecond count.
type Time struct {
	Sec  int64
	Nsec uint32
}

func (t Time) spec() unix.Timespec { return unix.Timespec{Sec: t.Sec, Nsec: int64(t.Nsec)} }

// Std converts t for printing and for measuring distances.
func (t Time) Std() time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }

// After reports whether t is later than u.
func (t Time) After(u Time) bool {
	return t.Sec > u.Sec || t.Sec == u.Sec && t.Nsec > u.Nsec
}

// Rounded is a time as a file system with such a time step keeps it.
func Rounded(t Time, step time.Duration) Time {
	switch {
	case step <= time.Nanosecond:
		return t
	case step < time.Second:
		t.Nsec -= t.Nsec % uint32(step)
		return t
	}
	s := int64(step / time.Second)
	t.Nsec = 0
	t.Sec -= ((t.Sec % s) + s) % s
	return t
}

// A Stat is what statx(2) says of an entry. Sizes are in bytes.
type Stat struct {
	Dev, Ino            uint64
	Mode                uint32 // type and permissions, as in stat(2)
	Nlink               uint32
	UID, GID            uint32
	Size                int64
	Allocated           int64 // bytes of blocks in use
	Rdev                uint64
	Atime, Mtime, Ctime Time
	Mount               uint64 // mount id; 0 where the kernel does not tell
	Attributes          uint64 // unix.STATX_ATTR_*
	MountRoot           bool   // the root of a mount
}

// The kinds of entry, by the type bits of the mode.
func (s *Stat) IsDir() bool     { return s.Mode&unix.S_IFMT == unix.S_IFDIR }
func (s *Stat) IsRegular() bool { return s.Mode&unix.S_IFMT == unix.S_IFREG }
func (s *Stat) IsSymlink() bool { return s.Mode&unix.S_IFMT == unix.S_IFLNK }

// IsDevice reports a character or block device node.
func (s *Stat) IsDevice() bool {
	return s.Mode&unix.S_IFMT == unix.S_IFCHR || s.Mode&unix.S_IFMT == unix.S_IFBLK
}

// Type is the type bits of the mode, unix.S_IFREG and so on.
func (s *Stat) Type() uint32 { return s.Mode & unix.S_IFMT }

// Perm is the permission bits with setuid, setgid and sticky.
func (s *Stat) Perm() uint32 { return s.Mode & 0o7777 }

// SameInode reports whether two stats are of one and the same entry.
func (s *Stat) SameInode(o *Stat) bool {
	return s.Dev == o.Dev && s.Ino == o.Ino && s.Type() == o.Type()
}

const statMask = unix.STATX_BASIC_STATS | unix.STATX_MNT_ID

func statx(dirfd int, name string, flags int, out *Stat) error {
	p, err := unix.BytePtrFromString(name)
	if err != nil {
		return err
	}
	return statxAt(dirfd, p, flags, out)
}

// statxAt is statx(2) for a name that ends in a zero byte; a link is not
// followed.
func statxAt(dirfd int, name *byte, flags int, out *Stat) error {
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
		Attributes: x.Attributes,
		MountRoot:  x.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0,
	}
	return nil
}

// Stat looks at the entry called name, a link there not being followed.
func (d *Dir) Stat(name string) (Stat, error) {
	var s Stat
	err := statx(d.fd, name, 0, &s)
	return s, d.err("stat", name, err)
}

// StatInto is [Dir.Stat] into a value of the caller's.
func (d *Dir) StatInto(name string, s *Stat) error {
	return d.err("stat", name, statx(d.fd, name, 0, s))
}

// Self looks at d itself.
func (d *Dir) Self() (Stat, error) {
	var s Stat
	err := statx(d.fd, "", unix.AT_EMPTY_PATH, &s)
	return s, d.err("stat", ".", err)
}

// Lstat looks at a path that a person named; the last component is not
// followed, the ones before it are.
func Lstat(path string) (Stat, error) {
	var s Stat
	if err := statx(unix.AT_FDCWD, path, 0, &s); err != nil {
		return s, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	return s, nil
}

// Session names the time for which the file system of d has been mounted: it
// is another one after the next mount and the next start of the machine.
// Empty where the kernel does not tell (before Linux 6.8, which gives each
// mount a number of its own, statx(2) STATX_MNT_ID_UNIQUE).
func (d *Dir) Session() (string, error) {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", nil
	}
	var x unix.Statx_t
	err = call("statx", func() error {
		return unix.Statx(d.fd, "", unix.AT_EMPTY_PATH, unix.STATX_MNT_ID_UNIQUE, &x)
	})
	if err != nil || x.Mask&unix.STATX_MNT_ID_UNIQUE == 0 {
		return "", d.err("stat", ".", err)
	}
	return strings.TrimSpace(string(boot)) + "/" + strconv.FormatUint(x.Mnt_id, 10), nil
}

// setTimesFd is futimens(3): utimensat(2) with a null path. The x/sys call
// can't pass a null path, so this one does.
func setTimesFd(fd int, ts []unix.Timespec) error {
	_, _, e := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&ts[0])), 0, 0, 0)
	if e != 0 {
		return e
	}
	return nil
}
