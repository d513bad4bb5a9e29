package handle

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"nexlin/internal/macos"
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

// sysFlush is fsync(2), which hands content to the drive and leaves it in the drive's own
// cache: F_FULLFSYNC takes 5 to 30 ms for each file.
func sysFlush(fd descriptor) error    { return unix.Fsync(fd) }
func sysFlushDir(fd descriptor) error { return unix.Fsync(fd) }

func sysSyncDir(fd descriptor) error { return sysSync(fd) }

// sysSyncAll has the drive empty its cache, which is one for all files.
func sysSyncAll(fd descriptor) error { return sysSync(fd) }

// sysSetTimes is fsetattrlist(2): futimes(2) cuts times to microseconds.
func sysSetTimes(fd descriptor, atime, mtime Time) error {
	return setTimes(fd, macos.ModificationTime|macos.AccessTime, mtime, atime)
}

// setTimes sets times of an open entry, given in the order of their bits.
func setTimes(fd descriptor, which uint32, times ...Time) error {
	var b []byte
	for _, t := range times {
		b = binary.LittleEndian.AppendUint64(b, uint64(t.Sec)) // struct timespec
		b = binary.LittleEndian.AppendUint64(b, uint64(t.Nsec))
	}
	return attrList(unix.SYS_FSETATTRLIST, fd, macos.Common(which), b)
}

// sysCreated gives an open entry the time at which another one was made.
func sysCreated(fd, as descriptor) error {
	var st unix.Stat_t
	if err := unix.Fstat(as, &st); err != nil {
		return err
	}
	return setTimes(fd, macos.CreationTime, Time{st.Btim.Sec, uint32(st.Btim.Nsec)})
}

func sysAccess(at descriptor, name string, mode uint32) error {
	err := unix.Faccessat(at, name, mode, unix.AT_EACCESS|unix.AT_SYMLINK_NOFOLLOW)
	if err == unix.EINVAL { // a version that does not know the second
		err = unix.Faccessat(at, name, mode, unix.AT_EACCESS)
	}
	return err
}

// sysMayRemove asks for the right to delete an entry, which its access list may deny to
// everybody. An administrator is asked for nothing.
func sysMayRemove(at descriptor, name string) error { return sysAccess(at, name, macos.DeleteOK) }

// sysClone has no way into a file that is there already; a clone is made by
// name here and is of no use between drives, so the content is copied.
func sysClone(_, _ descriptor) error { return unix.EOPNOTSUPP }

// sysSeek tells of no holes: what SEEK_HOLE answers may be data that is not flushed yet.
func sysSeek(descriptor, int64, bool) (int64, error) { return 0, unix.EOPNOTSUPP }

// uncached is how much of a file is mapped at once to have its pages dropped, in bytes.
const uncached = 64 << 20

// sysUncache keeps reads through fd out of the cache (fcntl(2), F_NOCACHE), which still has them
// answered by pages that are there: those are dropped (msync(2), MS_INVALIDATE), and
// looked for (mincore(2)).
func sysUncache(f *File, off, n int64) bool {
	fd := f.fd
	if _, err := unix.FcntlInt(uintptr(fd), unix.F_NOCACHE, 1); err != nil {
		return false
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return false
	}
	end := st.Size
	if n > 0 {
		end = min(end, off+n)
	}
	page := int64(os.Getpagesize())
	for at := off - off%page; at < end; at += uncached {
		if !dropPages(fd, at, int(min(uncached, end-at)), int(page)) {
			return false
		}
	}
	return true
}

func dropPages(fd descriptor, at int64, n, page int) bool {
	b, err := unix.Mmap(fd, at, n, unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return false
	}
	defer unix.Munmap(b)
	if unix.Msync(b, unix.MS_INVALIDATE) != nil {
		return false
	}
	here := make([]byte, (n+page-1)/page)
	_, _, e := unix.Syscall(unix.SYS_MINCORE, uintptr(unsafe.Pointer(&b[0])), uintptr(n),
		uintptr(unsafe.Pointer(&here[0])))
	return e == 0 && len(bytes.Trim(here, "\x00")) == 0
}

func sysPath(fd descriptor) string {
	var buf [1024]byte // MAXPATHLEN
	_, _, e := unix.Syscall(unix.SYS_FCNTL, uintptr(fd), unix.F_GETPATH, uintptr(unsafe.Pointer(&buf[0])))
	if e != 0 {
		return ""
	}
	return unix.ByteSliceToString(buf[:])
}

// mountsOnDemand reports a directory in which a name that is asked for is looked for elsewhere.
func mountsOnDemand(dir string) bool {
	var st unix.Statfs_t
	return unix.Statfs(dir, &st) == nil && unix.ByteSliceToString(st.Fstypename[:]) == "autofs"
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
	var fs unix.Statfs_t
	if unix.Stat(filepath.Dir(path), &up) == nil && (uint64(uint32(up.Dev)) != out.Dev || path == "/") &&
		unix.Statfs(path, &fs) == nil {
		out.MountRoot = macos.MountRoot(path, unix.ByteSliceToString(fs.Mntonname[:]))
	}
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
	const ufNoDump, ufImmutable, ufAppend, ufCompressed = 0x1, 0x2, 0x4, 0x20
	const sfImmutable, sfAppend, sfDataless = 0x20000, 0x40000, 0x40000000
	for flags, means := range map[uint32]uint64{ufImmutable | sfImmutable: AttrImmutable, ufNoDump: AttrNoDump,
		ufAppend | sfAppend: AttrAppend, ufCompressed: AttrCompressed, sfDataless: AttrPlaceholder} {
		if st.Flags&flags != 0 {
			out.Attributes |= means
		}
	}
	if st.Flags&ufCompressed != 0 {
		out.Allocated = max(out.Allocated, out.Size) // it has no holes
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
	apart := keepsAttributesApart(fd)
	for {
		names, err := dir.Readdirnames(1000)
		if apart {
			names = macos.WithoutAttributes(names, func(name string) bool {
				var st unix.Stat_t
				return unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil
			})
		}
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

// apart remembers of file systems, by their numbers, whether they keep attributes in files of
// their own.
var apart sync.Map // unix.Fsid: bool

// keepsAttributesApart reports a file system that has no attributes: the system keeps them in
// files called ._NAME there, which it makes, renames and removes with NAME.
func keepsAttributesApart(fd descriptor) bool {
	var fs unix.Statfs_t
	if unix.Fstatfs(fd, &fs) != nil {
		return false
	}
	if is, known := apart.Load(fs.Fsid); known {
		return is.(bool)
	}
	root, err := unix.Open(unix.ByteSliceToString(fs.Mntonname[:]), openDir, 0)
	if err != nil {
		return false
	}
	defer unix.Close(root)
	b := make([]byte, 64)
	if attrList(unix.SYS_FGETATTRLIST, root, macos.OfVolume(macos.VolumeCan), b) != nil {
		return false
	}
	is := macos.KeepsAttributesApart(b)
	apart.Store(fs.Fsid, is)
	return is
}

// init keeps walks from fetching files whose content is elsewhere (setiopolicy_np(3)): to
// read one is refused then, instead of filling the drive.
func init() {
	const set, process, dataless, off = 2, 0, 3, 1
	how := [3]int32{process, dataless, off}
	// A system that does not know the policy has no such files.
	_, _, _ = unix.Syscall(unix.SYS_IOPOLICYSYS, set, uintptr(unsafe.Pointer(&how)), 0)
}

// passing is what a call answers while somebody holds an entry.
var passing = []error{syscall.EBUSY, syscall.ETXTBSY}
