package handle

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// A descriptor is what the system knows an open file by.
type descriptor = windows.Handle

// FlushesWhole says that [Dir.SyncAll] flushes a whole file system; where it
// doesn't, whoever writes flushes every file and directory by itself. Here
// that takes an administrator.
const FlushesWhole = false

// Rights and ways of opening (NtCreateFile). What stands under a name is
// opened itself, a reparse point too: nothing is followed.
const (
	toStat  = windows.FILE_READ_ATTRIBUTES | windows.SYNCHRONIZE
	toList  = windows.FILE_LIST_DIRECTORY | windows.FILE_TRAVERSE | windows.FILE_READ_EA | windows.READ_CONTROL | toStat
	toMake  = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.FILE_WRITE_ATTRIBUTES
	shared  = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	itself  = windows.FILE_OPEN_REPARSE_POINT | windows.FILE_OPEN_FOR_BACKUP_INTENT | windows.FILE_SYNCHRONOUS_IO_NONALERT
	dirOnly = windows.FILE_DIRECTORY_FILE
)

// plainName refuses what is no single name here: records of another system
// may have a name with a separator or a stream in it (I6).
func plainName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "\\/:\x00") {
		return syscall.EINVAL
	}
	return nil
}

// ntOpen opens or makes what name, empty for at itself, is in at. With at 0
// the name is a path of the object manager.
func ntOpen(at windows.Handle, name string, access, disposition, options uint32) (windows.Handle, error) {
	text, err := windows.NewNTUnicodeString(name)
	if err != nil {
		return 0, syscall.EINVAL
	}
	oa := windows.OBJECT_ATTRIBUTES{RootDirectory: at, ObjectName: text, Attributes: windows.OBJ_CASE_INSENSITIVE}
	oa.Length = uint32(unsafe.Sizeof(oa))
	var h windows.Handle
	var io windows.IO_STATUS_BLOCK
	err = windows.NtCreateFile(&h, access, &oa, &io, nil, windows.FILE_ATTRIBUTE_NORMAL, shared, disposition, options, 0, 0)
	if err != nil {
		return 0, portable(err)
	}
	return h, nil
}

// openName is ntOpen for a single name.
func openName(at windows.Handle, name string, access, options uint32) (windows.Handle, error) {
	if name == "." {
		name = ""
	} else if err := plainName(name); err != nil {
		return 0, err
	}
	return ntOpen(at, name, access, windows.FILE_OPEN, options|itself)
}

// ntPath is the object manager's name of a path.
func ntPath(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	abs = strings.TrimPrefix(abs, `\\?\`)
	if rest, ok := strings.CutPrefix(abs, `\\`); ok {
		return `\??\UNC\` + rest, nil
	}
	return `\??\` + abs, nil
}

// openDirectory opens a directory to work in, with what rights there are.
func openDirectory(at windows.Handle, name string, options uint32) (windows.Handle, error) {
	h, err := ntOpen(at, name, toList|toMake, windows.FILE_OPEN, options|dirOnly)
	if errors.Is(err, syscall.EACCES) || errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.EBUSY) {
		h, err = ntOpen(at, name, toList, windows.FILE_OPEN, options|dirOnly)
	}
	return h, err
}

// realDirectory closes h again if a reparse point was opened.
func realDirectory(h windows.Handle, err error) (windows.Handle, error) {
	if err != nil {
		return 0, err
	}
	var st Stat
	if err = statOpen(h, &st); err == nil && !st.IsDir() {
		err = syscall.ENOTDIR
	}
	if err != nil {
		sysClose(h)
		return 0, err
	}
	volumes.Store(h, st.Dev)
	return h, nil
}

// volumes has the volume of each directory that is open to work in: a handle
// stays on it, and so does what is opened below it.
var volumes sync.Map

// inherit gives a handle the volume of the directory it was opened in.
func inherit(h, at windows.Handle) {
	if v, ok := volumes.Load(at); ok {
		volumes.Store(h, v)
	}
}

// onLetter gives a handle the volume of the letter that it was opened by: Wine
// tells that of another one for some.
func onLetter(h windows.Handle, path string) {
	if !Emulated() {
		return
	}
	if abs, err := filepath.Abs(path); err == nil {
		if serial, ok := serialOf(abs); ok {
			volumes.Store(h, serial)
		}
	}
}

func sysClose(fd descriptor) error {
	unlock(fd)
	volumes.Delete(fd)
	return portable(windows.CloseHandle(fd))
}

func sysOpen(path string) (descriptor, error) {
	p, err := ntPath(path)
	if err != nil {
		return 0, err
	}
	h, err := openDirectory(0, p, itself&^windows.FILE_OPEN_REPARSE_POINT)
	if err == nil {
		onLetter(h, path)
	}
	return h, err
}

func sysOpenReal(path string) (descriptor, error) {
	root := filepath.VolumeName(path) + `\`
	p, err := ntPath(root)
	if err != nil {
		return 0, err
	}
	h, err := openDirectory(0, p, itself)
	if err != nil {
		return 0, err
	}
	onLetter(h, root)
	rel := strings.Trim(filepath.ToSlash(path[len(root)-1:]), "/")
	if rel == "" {
		return h, nil
	}
	defer sysClose(h)
	return sysBeneath(h, rel)
}

func sysOpenDir(at descriptor, name string) (descriptor, error) {
	if name == "." {
		name = ""
	} else if err := plainName(name); err != nil {
		return 0, err
	}
	h, err := openDirectory(at, name, itself)
	if err == nil {
		inherit(h, at)
	}
	return realDirectory(h, err)
}

// sysBeneath walks down one name at a time; a reparse point on the way, which
// a mounted volume is too, is ENOTDIR.
func sysBeneath(at descriptor, rel string) (descriptor, error) {
	h := at
	for name := range strings.SplitSeq(rel, "/") {
		next, err := sysOpenDir(h, name)
		if h != at {
			sysClose(h)
		}
		if err != nil {
			return 0, err
		}
		h = next
	}
	return h, nil
}

// sysOpenFile opens a file for reading. Compressed and deduplicated files are
// reparse points that only read right when they are followed; it is looked
// that they still are the same file.
func sysOpenFile(at descriptor, name string) (descriptor, error) {
	const toRead = windows.FILE_READ_DATA | windows.FILE_READ_EA | windows.READ_CONTROL | toStat
	h, err := openName(at, name, toRead, windows.FILE_NON_DIRECTORY_FILE)
	if errors.Is(err, syscall.EACCES) {
		h, err = openName(at, name, windows.FILE_READ_DATA|toStat, windows.FILE_NON_DIRECTORY_FILE)
	}
	if err != nil {
		return 0, err
	}
	inherit(h, at)
	var st Stat
	tag, err := stat(h, &st)
	if err == nil && st.IsSymlink() {
		err = syscall.ELOOP
	}
	if err != nil || tag == 0 {
		if err != nil {
			sysClose(h)
		}
		return h, err
	}
	sysClose(h)
	h, err = ntOpen(at, name, toRead, windows.FILE_OPEN, itself&^windows.FILE_OPEN_REPARSE_POINT|windows.FILE_NON_DIRECTORY_FILE)
	if err != nil {
		return 0, err
	}
	inherit(h, at)
	var now Stat
	if err = statOpen(h, &now); err == nil && !now.SameInode(&st) {
		err = syscall.ELOOP
	}
	if err != nil {
		sysClose(h)
		return 0, err
	}
	return h, nil
}

// sysCreate makes a file; modes are the matter of inherited rights here.
func sysCreate(at descriptor, name string, _ uint32) (descriptor, error) {
	if err := plainName(name); err != nil {
		return 0, err
	}
	h, err := ntOpen(at, name, windows.FILE_GENERIC_READ|windows.FILE_GENERIC_WRITE, windows.FILE_CREATE, itself|windows.FILE_NON_DIRECTORY_FILE)
	if err == nil {
		inherit(h, at)
	}
	return h, err
}

func sysMkdir(at descriptor, name string, _ uint32) error {
	h, err := makeName(at, name, toStat, dirOnly)
	if err == nil {
		windows.CloseHandle(h)
	}
	return err
}

func makeName(at descriptor, name string, access, options uint32) (windows.Handle, error) {
	if err := plainName(name); err != nil {
		return 0, err
	}
	return ntOpen(at, name, access, windows.FILE_CREATE, itself|options)
}

// set is NtSetInformationFile.
func set(h windows.Handle, class uint32, b []byte) error {
	var io windows.IO_STATUS_BLOCK
	return portable(windows.NtSetInformationFile(h, &io, &b[0], uint32(len(b)), class))
}

// on runs f with the entry called name open; the directory itself is open
// already, for most of it.
func on(at descriptor, name string, access uint32, f func(windows.Handle) error) error {
	if name == "." && access&^(toList|toMake) == 0 {
		if err := f(at); !errors.Is(err, syscall.EACCES) {
			return err
		}
	}
	h, err := openName(at, name, access|toStat, 0)
	if err != nil {
		return err
	}
	err = f(h)
	windows.CloseHandle(h)
	return err
}

// named is the start of FILE_RENAME_INFORMATION and FILE_LINK_INFORMATION.
func named(replace bool, to descriptor, newName string) ([]byte, error) {
	if err := plainName(newName); err != nil {
		return nil, err
	}
	name, err := syscall.UTF16FromString(newName)
	if err != nil {
		return nil, syscall.EINVAL
	}
	name = name[:len(name)-1]
	type head struct {
		replace bool
		root    windows.Handle
		length  uint32
		name    [1]uint16
	}
	at := unsafe.Offsetof(head{}.name)
	b := make([]byte, int(at)+2*len(name)+2)
	h := (*head)(unsafe.Pointer(&b[0]))
	h.replace, h.root, h.length = replace, to, uint32(2*len(name))
	copy(unsafe.Slice((*uint16)(unsafe.Pointer(&b[at])), len(name)), name)
	return b, nil
}

func sysRename(at descriptor, name string, to descriptor, newName string, how renaming) error {
	if how == swap {
		return syscall.EINVAL
	}
	b, err := named(how == mayReplace, to, newName)
	if err != nil {
		return err
	}
	return on(at, name, windows.DELETE, func(h windows.Handle) error { return set(h, windows.FileRenameInformation, b) })
}

func sysLink(at descriptor, name string, to descriptor, newName string) error {
	const fileLinkInformation = 11
	b, err := named(false, to, newName)
	if err != nil {
		return err
	}
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES, func(h windows.Handle) error { return set(h, fileLinkInformation, b) })
}

// remove takes an entry away at once where the system can, also one that is
// marked read-only; else with its last handle.
func remove(at descriptor, name string, options uint32) error {
	if err := plainName(name); err != nil {
		return err
	}
	h, err := ntOpen(at, name, windows.DELETE|windows.FILE_WRITE_ATTRIBUTES|toStat, windows.FILE_OPEN, itself|options)
	if errors.Is(err, syscall.EACCES) {
		h, err = ntOpen(at, name, windows.DELETE|toStat, windows.FILE_OPEN, itself|options)
	}
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	const onlyLink, posix, readOnlyToo = 0x1, 0x2, 0x10
	err = set(h, windows.FileDispositionInformationEx, []byte{onlyLink | posix | readOnlyToo, 0, 0, 0})
	if err == nil || errors.Is(err, syscall.ENOTEMPTY) {
		return err
	}
	var st Stat
	if statOpen(h, &st) == nil && st.Attributes&attrReadOnly != 0 {
		if err := setBasic(h, nil, nil, windows.FILE_ATTRIBUTE_NORMAL); err != nil {
			return err
		}
	}
	return set(h, windows.FileDispositionInformation, []byte{1})
}

// sysUnlink removes what is no directory; a junction is none.
func sysUnlink(at descriptor, name string) error {
	var st Stat
	switch err := statAt(at, name, &st); {
	case err != nil:
		return err
	case st.IsDir():
		return syscall.EISDIR
	}
	return remove(at, name, 0)
}

// sysRmdir never takes a junction for the directory that it leads to.
func sysRmdir(at descriptor, name string) error {
	var st Stat
	switch err := statAt(at, name, &st); {
	case err != nil:
		return err
	case !st.IsDir():
		return syscall.ENOTDIR
	}
	return remove(at, name, dirOnly)
}

// sysMknod: NTFS has no such entries that Windows would know.
func sysMknod(descriptor, string, uint32, uint64) error { return syscall.EOPNOTSUPP }

// Rights are those that a directory hands down; [Dir.Xattrs] has what was
// given beside them. So modes are neither kept nor refused.
func sysChmodEntry(descriptor, string, uint32) error { return nil }
func sysChmod(descriptor, uint32) error              { return nil }

func sysChown(_ descriptor, uid, _ uint32) error {
	if uid == owner {
		return nil
	}
	return syscall.EPERM
}
func sysChownEntry(_ descriptor, _ string, uid, gid uint32) error { return sysChown(0, uid, gid) }

func sysSync(fd descriptor) error { return portable(windows.FlushFileBuffers(fd)) }

// sysSyncDir flushes the names in a directory. One that could be opened for
// reading only has none that Nexlin wrote.
func sysSyncDir(fd descriptor) error {
	err := sysSync(fd)
	if errors.Is(err, syscall.EACCES) || errors.Is(err, syscall.EOPNOTSUPP) {
		return nil
	}
	return err
}
func sysSyncAll(fd descriptor) error { return sysSyncDir(fd) }

func sysAccess(at descriptor, name string, mode uint32) error {
	var st Stat
	if err := statAt(at, name, &st); err != nil {
		return err
	}
	return on(at, name, rights(mode, st.IsDir()), func(windows.Handle) error { return nil })
}

func sysAccessPath(path string, mode uint32) error {
	p, err := ntPath(path)
	if err != nil {
		return err
	}
	h, err := ntOpen(0, p, rights(mode, true)|toStat, windows.FILE_OPEN, itself&^windows.FILE_OPEN_REPARSE_POINT)
	if err == nil {
		windows.CloseHandle(h)
	}
	return err
}

func rights(mode uint32, dir bool) (access uint32) {
	for bit, means := range map[uint32]uint32{
		MayRead: windows.FILE_READ_DATA, MayWrite: windows.FILE_WRITE_DATA, MayEnter: windows.FILE_TRAVERSE,
	} {
		if mode&bit != 0 {
			access |= means
		}
	}
	if dir && mode&MayWrite != 0 {
		access |= windows.FILE_APPEND_DATA
	}
	return access
}

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
	var n uint32
	var p *byte
	if len(in) > 0 {
		p = &in[0]
	}
	err := windows.DeviceIoControl(h, code, p, uint32(len(in)), &out[0], uint32(room), &n, nil)
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

// sysUncache has no call for it: what is read back may come from the cache.
func sysUncache(descriptor, int64, int64) bool { return false }

func sysPath(fd descriptor) string {
	buf := make([]uint16, 1024)
	for {
		n, err := windows.GetFinalPathNameByHandle(fd, &buf[0], uint32(len(buf)), 0)
		switch {
		case err != nil:
			return ""
		case int(n) > len(buf):
			buf = make([]uint16, n)
			continue
		}
		p := windows.UTF16ToString(buf[:n])
		if rest, ok := strings.CutPrefix(p, `\\?\UNC\`); ok {
			return `\\` + rest
		}
		return strings.TrimPrefix(p, `\\?\`)
	}
}

func sysRoom(path string) (Room, error) {
	p, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return Room{}, syscall.EINVAL
	}
	if st, err := os.Stat(path); err == nil && !st.IsDir() {
		return sysRoom(filepath.Dir(path))
	}
	var free, size, all uint64
	if err := windows.GetDiskFreeSpaceEx(p, &free, &size, &all); err != nil {
		return Room{}, portable(err)
	}
	return Room{Size: int64(size), Free: int64(free), Block: 4096, Inodes: -1}, nil
}

// sysSession: nothing here tells one mount from the next.
func sysSession(descriptor) (string, error) { return "", nil }

func administrator() bool { return windows.GetCurrentProcessToken().IsElevated() }

// Trusted finds nothing: every name is opened by its handle here, and no
// account's reparse point is followed.
func (d *Dir) Trusted() error { return nil }

func join(dir, name string) string {
	return strings.TrimRight(dir, `\/`) + `\` + filepath.FromSlash(name)
}

// Device puts the number of a device node together.
func Device(major, minor uint32) uint64 { return uint64(major)<<32 | uint64(minor) }

// DeviceParts takes it apart.
func DeviceParts(device uint64) (major, minor uint32) { return uint32(device >> 32), uint32(device) }

// sysReal asks the system where a path ends up: it follows junctions, which
// filepath.EvalSymlinks does not.
func sysReal(path string) (string, error) {
	p, err := ntPath(path)
	if err != nil {
		return "", err
	}
	h, err := ntOpen(0, p, toStat, windows.FILE_OPEN, itself&^windows.FILE_OPEN_REPARSE_POINT)
	if err != nil {
		return "", &fs.PathError{Op: "follow", Path: path, Err: err}
	}
	defer windows.CloseHandle(h)
	if real := sysPath(h); real != "" {
		return real, nil
	}
	return filepath.Clean(path), nil // a driver that gives no names
}
