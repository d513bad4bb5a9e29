package handle

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
	return portable(system.set(h, class, b))
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
	return on(at, name, windows.DELETE, func(h windows.Handle) error {
		if how == mayReplace {
			// What is replaced may be open (a scanner) or marked read-only: its name goes at once.
			const fileRenameInformationEx = 65
			const replace, posix, readOnlyToo = 0x1, 0x2, 0x40
			modern := slices.Clone(b)
			modern[0] = replace | posix | readOnlyToo
			err := set(h, fileRenameInformationEx, modern)
			if !errors.Is(err, syscall.EOPNOTSUPP) && !errors.Is(err, syscall.EINVAL) {
				return err
			}
		}
		return set(h, windows.FileRenameInformation, b)
	})
}

func sysLink(at descriptor, name string, to descriptor, newName string) error {
	const fileLinkInformation = 11
	b, err := named(false, to, newName)
	if err != nil {
		return err
	}
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES,
		func(h windows.Handle) error { return set(h, fileLinkInformation, b) })
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

func sysSync(fd descriptor) error { return portable(system.flush(fd)) }

// sysFlush hands a file over to the drive, and leaves it in the drive's own cache; where that can't be
// done the drive writes it out.
func sysFlush(fd descriptor) error {
	if system.handOver(fd) == nil {
		return nil
	}
	return sysSync(fd)
}

// sysFlushDir has the drive write everything out: of directories there are few, and the last of a
// copy comes after all of its files.
func sysFlushDir(fd descriptor) error { return sysSyncDir(fd) }

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

// sysMayRemove asks for the right to delete an entry, which renaming it takes: it is
// granted by its own rights or those of its directory.
func sysMayRemove(at descriptor, name string) error {
	return on(at, name, windows.DELETE, func(windows.Handle) error { return nil })
}

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
	return Room{Size: int64(size), Free: int64(free), Block: clusterOf(path), Inodes: -1}, nil
}

var getDiskFreeSpace = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetDiskFreeSpaceW")

// clusterOf is the size of a cluster, in bytes: 128 KiB on many an exFAT, which decides whether many
// small files fit. 4096 where the system does not tell.
func clusterOf(path string) int64 {
	var sectors, bytes, free, all uint32
	root, err := windows.UTF16PtrFromString(filepath.VolumeName(path) + `\`)
	if err != nil {
		return 4096
	}
	ok, _, _ := getDiskFreeSpace.Call(uintptr(unsafe.Pointer(root)), uintptr(unsafe.Pointer(&sectors)),
		uintptr(unsafe.Pointer(&bytes)), uintptr(unsafe.Pointer(&free)), uintptr(unsafe.Pointer(&all)))
	if ok == 0 || sectors == 0 || bytes == 0 {
		return 4096
	}
	return int64(sectors) * int64(bytes)
}

// sysSession: nothing here tells one mount from the next.
func sysSession(descriptor) (string, error) { return "", nil }

func administrator() bool { return windows.GetCurrentProcessToken().IsElevated() }

// Administrator reports that this account may give entries to others and look everywhere: the
// token says so, and no number of the account.
func Administrator() bool { return administrator() }

// StandAside has this process leave its working directory for the system drive's top: where one is,
// no directory above can be renamed, and its handle is not shared for that. Paths are absolute
// by then.
func StandAside() {
	if dir, err := windows.GetSystemWindowsDirectory(); err == nil {
		_ = os.Chdir(filepath.VolumeName(dir) + `\`) // if it can't, the rename says so
	}
}

// init turns on what an administrator may turn on: to read and to write everything as a backup does,
// to give entries to others, to see lists of what is watched.
func init() {
	if !administrator() {
		return
	}
	var token windows.Token
	if windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_ADJUST_PRIVILEGES, &token) != nil {
		return // then the calls that need them say so
	}
	defer token.Close()
	for _, name := range []string{"SeBackupPrivilege", "SeRestorePrivilege", "SeSecurityPrivilege"} {
		text, err := windows.UTF16PtrFromString(name)
		how := windows.Tokenprivileges{PrivilegeCount: 1}
		how.Privileges[0].Attributes = windows.SE_PRIVILEGE_ENABLED
		if err == nil && windows.LookupPrivilegeValue(nil, text, &how.Privileges[0].Luid) == nil {
			_ = windows.AdjustTokenPrivileges(token, false, &how, 0, nil, nil) // as above
		}
	}
}

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

// sysSpelled asks the system what it calls what stands at a path: names as they were made, in place
// of short ones and of another case.
func sysSpelled(path string) string {
	at, rest := filepath.Clean(path), ""
	for {
		if real, ok := calledAt(at); ok {
			return filepath.Join(real, rest)
		}
		parent := filepath.Dir(at)
		if parent == at {
			return path
		}
		at, rest = parent, filepath.Join(filepath.Base(at), rest)
	}
}

// calledAt is the system's own name of what stands at a path; false if nothing does.
func calledAt(path string) (string, bool) {
	p, err := ntPath(path)
	if err != nil {
		return "", false
	}
	h, err := ntOpen(0, p, toStat, windows.FILE_OPEN, itself)
	if err != nil {
		return "", false
	}
	defer windows.CloseHandle(h)
	real := sysPath(h)
	return real, real != ""
}

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
