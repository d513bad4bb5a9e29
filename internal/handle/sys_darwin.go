package handle

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// oNoFollowAny refuses a link anywhere on the way (open(2), macOS 11).
const oNoFollowAny = 0x20000000

// FlushesWhole says that [Dir.SyncAll] flushes a whole file system; where it
// doesn't, whoever writes flushes every file and directory by itself.
const FlushesWhole = false

func sysOpenReal(path string) (descriptor, error) {
	return unix.Openat(unix.AT_FDCWD, path, openDir|oNoFollowAny, 0)
}

// sysBeneath walks down one name at a time, since nothing here refuses mounts
// and names that lead up in one call.
func sysBeneath(at descriptor, rel string) (descriptor, error) {
	var root, here unix.Stat_t
	if err := unix.Fstat(at, &root); err != nil {
		return -1, err
	}
	fd, err := unix.Openat(at, ".", openDir, 0)
	for name := range strings.SplitSeq(rel, "/") {
		if err != nil {
			return -1, err
		}
		if name == "." {
			continue
		}
		if name == ".." || name == "" {
			unix.Close(fd)
			return -1, unix.EXDEV
		}
		next, e := unix.Openat(fd, name, openDir|unix.O_NOFOLLOW, 0)
		unix.Close(fd)
		fd, err = next, e
		if err == nil {
			if err = unix.Fstat(fd, &here); err == nil && here.Dev != root.Dev {
				err = ErrMount
			}
			if err != nil {
				unix.Close(fd)
			}
		}
	}
	return fd, err
}

func sysOpenFile(at descriptor, name string) (descriptor, error) {
	return unix.Openat(at, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
}

// sysMknod has no call that goes by a handle here; the trial of a drive
// finds that out, and entries of these kinds are told as what can't be kept.
func sysMknod(descriptor, string, uint32, uint64) error { return unix.ENOTSUP }

func sysChmodEntry(at descriptor, name string, mode uint32) error {
	return unix.Fchmodat(at, name, mode, unix.AT_SYMLINK_NOFOLLOW)
}

// sysRename is renameatx_np(2): APFS swaps two entries in one act.
func sysRename(at descriptor, name string, to descriptor, newName string, how renaming) error {
	flags := [...]uint32{mayReplace: 0, neverReplace: unix.RENAME_EXCL, swap: unix.RENAME_SWAP}
	err := unix.RenameatxNp(at, name, to, newName, flags[how])
	if err == unix.ENOTSUP {
		return unix.EINVAL // what this package's callers know it by
	}
	return err
}

// sysSync is fcntl(2), F_FULLFSYNC: fsync(2) alone leaves the content in the
// drive's own cache.
func sysSync(fd descriptor) error {
	_, err := unix.FcntlInt(uintptr(fd), unix.F_FULLFSYNC, 0)
	if err == unix.ENOTSUP || err == unix.ENOTTY || err == unix.EINVAL {
		return unix.Fsync(fd)
	}
	return err
}

func sysSyncDir(fd descriptor) error { return sysSync(fd) }
func sysSyncAll(fd descriptor) error { return sysSync(fd) }

// sysSetTimes is fsetattrlist(2): futimes(2) cuts times to microseconds.
func sysSetTimes(fd descriptor, atime, mtime Time) error {
	list := struct {
		count, reserved                  uint16
		common, volume, dir, file, forks uint32
	}{count: 5, common: 0x400 | 0x1000} // ATTR_CMN_MODTIME, ATTR_CMN_ACCTIME, in that order
	times := [2]unix.Timespec{timespec(mtime), timespec(atime)}
	_, _, e := unix.Syscall6(unix.SYS_FSETATTRLIST, uintptr(fd), uintptr(unsafe.Pointer(&list)),
		uintptr(unsafe.Pointer(&times)), unsafe.Sizeof(times), 0, 0)
	if e != 0 {
		return e
	}
	return nil
}

func sysAccess(at descriptor, name string, mode uint32) error {
	return unix.Faccessat(at, name, mode, unix.AT_EACCESS|unix.AT_SYMLINK_NOFOLLOW)
}

// sysClone has no way into a file that is there already; a clone is made by
// name here and is of no use between drives, so the content is copied.
func sysClone(_, _ descriptor) error { return unix.EOPNOTSUPP }

// sysSeek finds the next data, or the next hole, at or after at (lseek(2)).
func sysSeek(fd descriptor, at int64, hole bool) (int64, error) {
	const seekHole, seekData = 3, 4
	if hole {
		return unix.Seek(fd, at, seekHole)
	}
	return unix.Seek(fd, at, seekData)
}

// sysUncache has no call to look whether pages are gone.
func sysUncache(descriptor, int64, int64) bool { return false }

func sysPath(fd descriptor) string {
	var buf [1024]byte // MAXPATHLEN
	_, _, e := unix.Syscall(unix.SYS_FCNTL, uintptr(fd), unix.F_GETPATH, uintptr(unsafe.Pointer(&buf[0])))
	if e != 0 {
		return ""
	}
	return unix.ByteSliceToString(buf[:])
}

func sysRoom(path string) (Room, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return Room{}, err
	}
	b := int64(st.Bsize)
	return Room{Size: int64(st.Blocks) * b, Free: int64(st.Bavail) * b, Block: b, Inodes: -1}, nil
}

// sysSession: nothing here tells one mount from the next.
func sysSession(descriptor) (string, error) { return "", nil }

var damage = []error{syscall.EIO, syscall.EBADMSG}

var gone = []error{syscall.ENODEV, syscall.ENXIO, syscall.ENOTCONN, syscall.ESHUTDOWN, syscall.ESTALE}

func administrator() bool { return os.Geteuid() == 0 }

func statAt(at descriptor, name string, out *Stat) error {
	return fillStat(out, func(st *unix.Stat_t) error { return unix.Fstatat(at, name, st, unix.AT_SYMLINK_NOFOLLOW) })
}

func statOpen(fd descriptor, out *Stat) error {
	return fillStat(out, func(st *unix.Stat_t) error { return unix.Fstat(fd, st) })
}

func statPath(path string, out *Stat) error {
	if err := statAt(unix.AT_FDCWD, path, out); err != nil || !out.IsDir() {
		return err
	}
	var up unix.Stat_t
	err := unix.Stat(filepath.Dir(path), &up)
	out.MountRoot = err == nil && (uint64(uint32(up.Dev)) != out.Dev || path == "/")
	return nil
}

func fillStat(out *Stat, f func(*unix.Stat_t) error) error {
	var st unix.Stat_t
	if err := call("statx", func() error { return f(&st) }); err != nil {
		return err
	}
	at := func(t unix.Timespec) Time { return Time{t.Sec, uint32(t.Nsec)} }
	*out = Stat{
		Dev: uint64(uint32(st.Dev)), Ino: st.Ino, Mode: uint32(st.Mode), Nlink: uint32(st.Nlink), UID: st.Uid,
		GID:  st.Gid,
		Size: st.Size, Allocated: st.Blocks * 512, Rdev: uint64(uint32(st.Rdev)),
		Atime: at(st.Atim), Mtime: at(st.Mtim), Ctime: at(st.Ctim), Mount: uint64(uint32(st.Dev)),
	}
	// chflags(2), and what the system adds for files whose content is fetched.
	const ufNoDump, ufImmutable, ufAppend = 0x1, 0x2, 0x4
	const sfImmutable, sfAppend, sfDataless = 0x20000, 0x40000, 0x40000000
	for flags, means := range map[uint32]uint64{ufImmutable | sfImmutable: AttrImmutable, ufNoDump: AttrNoDump,
		ufAppend | sfAppend: AttrAppend, sfDataless: AttrPlaceholder} {
		if st.Flags&flags != 0 {
			out.Attributes |= means
		}
	}
	return nil
}

// sysList reads a directory from its start; the runtime knows how.
func sysList(fd descriptor, f func(names [][]byte) bool) error {
	again, err := unix.Openat(fd, ".", openDir, 0)
	if err != nil {
		return err
	}
	dir := os.NewFile(uintptr(again), strconv.Itoa(fd))
	defer dir.Close()
	for {
		names, err := dir.Readdirnames(1000)
		block := make([][]byte, len(names))
		for i, n := range names {
			block[i] = []byte(n)
		}
		if len(block) > 0 && !f(block) {
			return nil
		}
		switch {
		case err == nil:
		case errors.Is(err, io.EOF):
			return nil
		default:
			return err
		}
	}
}

// passing is what a call answers while somebody holds an entry.
var passing = []error{syscall.EBUSY, syscall.ETXTBSY}
