//go:build unix

package handle

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// A descriptor is what the system knows an open file by.
type descriptor = int

const openDir = unix.O_DIRECTORY | unix.O_RDONLY | unix.O_CLOEXEC

// Administrator reports that this account may give entries to others and look everywhere.
func Administrator() bool { return os.Geteuid() == 0 }

// StandAside has nothing to do: a working directory keeps nobody from renaming it.
func StandAside() {}

func sysClose(fd descriptor) error { return unix.Close(fd) }

func sysOpen(path string) (descriptor, error) { return unix.Open(path, openDir, 0) }

func sysOpenDir(at descriptor, name string) (descriptor, error) {
	return unix.Openat(at, name, openDir|unix.O_NOFOLLOW, 0)
}

func sysCreate(at descriptor, name string, mode uint32) (descriptor, error) {
	return unix.Openat(at, name, unix.O_RDWR|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, mode)
}

func sysLink(at descriptor, name string, to descriptor, newName string) error {
	return unix.Linkat(at, name, to, newName, 0)
}

func sysMkdir(at descriptor, name string, mode uint32) error { return unix.Mkdirat(at, name, mode) }

func readlink(at descriptor, name string) (string, error) {
	for size := 256; ; size *= 2 {
		buf := make([]byte, size)
		n, err := unix.Readlinkat(at, name, buf)
		if err != nil {
			return "", err
		}
		if n < size {
			return string(buf[:n]), nil
		}
	}
}

func sysUnlink(at descriptor, name string) error { return unix.Unlinkat(at, name, 0) }

func sysRmdir(at descriptor, name string) error { return unix.Unlinkat(at, name, unix.AT_REMOVEDIR) }

func sysLock(fd descriptor, exclusive bool) error {
	how := unix.LOCK_SH
	if exclusive {
		how = unix.LOCK_EX
	}
	return unix.Flock(fd, how|unix.LOCK_NB)
}

func sysChmod(fd descriptor, mode uint32) error { return unix.Fchmod(fd, mode) }

func sysChown(fd descriptor, uid, gid uint32) error { return unix.Fchown(fd, int(uid), int(gid)) }

func sysChownEntry(at descriptor, name string, uid, gid uint32) error {
	return unix.Fchownat(at, name, int(uid), int(gid), unix.AT_SYMLINK_NOFOLLOW)
}

func sysSetTimesEntry(at descriptor, name string, atime, mtime Time) error {
	return unix.UtimesNanoAt(at, name, []unix.Timespec{timespec(atime), timespec(mtime)}, unix.AT_SYMLINK_NOFOLLOW)
}

func timespec(t Time) unix.Timespec {
	return unix.Timespec{Sec: t.Sec, Nsec: int64(t.Nsec)}
}

func sysRead(fd descriptor, b []byte) (int, error)  { return unix.Read(fd, b) }
func sysWrite(fd descriptor, b []byte) (int, error) { return unix.Write(fd, b) }

func sysPread(fd descriptor, b []byte, at int64) (int, error)  { return unix.Pread(fd, b, at) }
func sysPwrite(fd descriptor, b []byte, at int64) (int, error) { return unix.Pwrite(fd, b, at) }

func sysTruncate(fd descriptor, size int64) error { return unix.Ftruncate(fd, size) }

func join(dir, name string) string {
	if dir == "/" {
		return dir + name
	}
	return dir + "/" + name
}

func sysAccessPath(path string, mode uint32) error { return unix.Access(path, mode) }

// OwnerOf is the account that what os.Stat looked at belongs to; false where
// the system does not tell.
func OwnerOf(fi fs.FileInfo) (uint32, bool) {
	st, ok := fi.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return st.Uid, true
}

// Device puts the number of a device node together.
func Device(major, minor uint32) uint64 { return unix.Mkdev(major, minor) }

// DeviceParts takes it apart.
func DeviceParts(device uint64) (major, minor uint32) { return unix.Major(device), unix.Minor(device) }

// Trusted looks from d upwards, for an administrator: whoever owns a directory
// can put any other one that is in it already under another name there, also
// one of the administrator's (I6). So what lies in an account's directory has
// to belong to that account. The error is a *HandsError; for other accounts
// there is none, since they are led nowhere that they may not go.
func (d *Dir) Trusted() error {
	if !administrator() {
		return nil
	}
	is, err := d.Self()
	for up := ".."; err == nil; up += "/.." { // no link can stand on this way
		var above Stat
		if err = d.StatInto(up, &above); err != nil || above.SameInode(&is) {
			return err
		}
		if above.UID != 0 && is.UID != above.UID {
			return &HandsError{Path: d.path, Owner: is.UID, Hands: above.UID}
		}
		is = above
	}
	return err
}

func sysReal(path string) (string, error) { return filepath.EvalSymlinks(path) }
