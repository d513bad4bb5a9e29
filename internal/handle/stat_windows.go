package handle

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"nexlin/internal/junction"
)

// owner stands for this account: the system tells accounts by longer names,
// and os.Geteuid is -1.
const owner = ^uint32(0)

// attrReadOnly is kept beside the Attr… that every system has.
const attrReadOnly = 1 << 32

// OwnerOf is the account that what os.Stat looked at belongs to; false where
// the system does not tell.
func OwnerOf(fs.FileInfo) (uint32, bool) { return 0, false }

func statAt(at descriptor, name string, out *Stat) error {
	return on(at, name, 0, func(h windows.Handle) error {
		if h != at {
			inherit(h, at)
			defer volumes.Delete(h)
		}
		return statOpen(h, out)
	})
}

func statPath(path string, out *Stat) error {
	p, err := ntPath(path)
	if err != nil {
		return err
	}
	h, err := ntOpen(0, p, toStat, windows.FILE_OPEN, itself)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	onLetter(h, path)
	defer volumes.Delete(h)
	if err := statOpen(h, out); err != nil {
		return err
	}
	real := sysPath(h)
	out.MountRoot = len(real) > 0 && strings.HasSuffix(strings.TrimSuffix(real, `\`), ":")
	return nil
}

func statOpen(fd descriptor, out *Stat) error {
	_, err := stat(fd, out)
	return err
}

// stat also gives the tag of a reparse point that is no link, 0 for all else.
func stat(fd descriptor, out *Stat) (tag uint32, err error) {
	if err := fault("statx"); err != nil {
		return 0, err
	}
	// FILE_ALL_INFORMATION: basic 0, standard 40, internal 64, and more.
	const fileAllInformation, fileAttributeTagInformation = 18, 35
	var b [1024]byte
	if err := query(fd, fileAllInformation, b[:]); err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	attrs := le.Uint32(b[32:])
	*out = Stat{
		Mode: TypeRegular | 0o600, Nlink: le.Uint32(b[56:]), UID: owner, GID: owner,
		Size: int64(le.Uint64(b[48:])), Allocated: int64(le.Uint64(b[40:])), Ino: le.Uint64(b[64:]),
		Atime: filetime(le.Uint64(b[8:])), Mtime: filetime(le.Uint64(b[16:])), Ctime: filetime(le.Uint64(b[24:])),
	}
	out.Dev, err = volumeOf(fd)
	if err != nil {
		return 0, err
	}
	out.Mount = out.Dev
	if attrs&windows.FILE_ATTRIBUTE_SPARSE_FILE == 0 {
		// What is compressed, deduplicated or kept by a provider takes less, and has no holes.
		out.Allocated = max(out.Allocated, out.Size)
	}
	if attrs&windows.FILE_ATTRIBUTE_DIRECTORY != 0 {
		out.Mode, out.Size = TypeDir|0o700, 0
	}
	if attrs&windows.FILE_ATTRIBUTE_READONLY != 0 {
		out.Attributes |= attrReadOnly
	}
	if attrs&windows.FILE_ATTRIBUTE_ENCRYPTED != 0 {
		out.Attributes |= AttrEncrypted
	}
	if attrs&windows.FILE_ATTRIBUTE_COMPRESSED != 0 {
		out.Attributes |= AttrCompressed
	}
	const recallOnOpen, recallOnData = 0x40000, 0x400000
	if attrs&(windows.FILE_ATTRIBUTE_OFFLINE|recallOnOpen|recallOnData) != 0 {
		out.Attributes |= AttrPlaceholder
	}
	if attrs&windows.FILE_ATTRIBUTE_REPARSE_POINT == 0 {
		return 0, nil
	}
	var at [8]byte
	if err := query(fd, fileAttributeTagInformation, at[:]); err != nil {
		return 0, err
	}
	const compressed, deduplicated, inSync = 0x80000017, 0x80000013, 0x9000001a // read like any other file
	switch tag = le.Uint32(at[4:]); {
	case junction.IsLink(tag) || tag == 0: // 0: a system that shows links and has no tags
		if out.IsDir() {
			out.Attributes |= AttrDirLink
		}
		out.Mode = TypeSymlink | 0o777
		return 0, nil
	case tag&^0xf000 == inSync: // its marks above say whether its content is here
	case tag != compressed && tag != deduplicated:
		out.Attributes |= AttrPlaceholder
	}
	return tag, nil
}

// query is NtQueryInformationFile; that a name at the end does not fit is no
// error.
func query(h windows.Handle, class uint32, b []byte) error {
	_, err := system.query(h, class, b)
	if errors.Is(err, windows.STATUS_BUFFER_OVERFLOW) {
		return nil
	}
	return portable(err)
}

// volumeOf is the serial number of the volume: 64 bits where the file system
// tells them, else 32.
func volumeOf(h windows.Handle) (uint64, error) {
	if v, ok := volumes.Load(h); ok {
		return v.(uint64), nil
	}
	var id [24]byte
	if windows.GetFileInformationByHandleEx(h, windows.FileIdInfo, &id[0], 24) == nil {
		return binary.LittleEndian.Uint64(id[:]), nil
	}
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(h, &info); err != nil {
		return 0, portable(err)
	}
	return uint64(info.VolumeSerialNumber), nil
}

// Emulated reports that the system is not Windows itself but Wine: some of its
// calls are stubs that succeed.
var Emulated = sync.OnceValue(func() bool {
	return windows.NewLazySystemDLL("ntdll.dll").NewProc("wine_get_version").Find() == nil
})

// serialOf is the serial number of the drive whose letter a path begins with.
func serialOf(path string) (uint64, bool) {
	root, err := windows.UTF16PtrFromString(filepath.VolumeName(path) + `\`)
	var serial uint32
	if err == nil {
		err = windows.GetVolumeInformation(root, nil, 0, &serial, nil, nil, nil, 0)
	}
	return uint64(serial), err == nil
}

// Seconds between 1601, from which the system counts, and 1970.
const epoch = 11644473600

func filetime(t uint64) Time {
	const second = 10_000_000 // of 100 ns
	return Time{Sec: int64(t/second) - epoch, Nsec: uint32(t%second) * 100}
}

func (t Time) filetime() uint64 {
	return uint64(t.Sec+epoch)*10_000_000 + uint64(t.Nsec/100)
}

// setBasic sets times, where they are not nil, and attributes, where they are
// not 0 (FILE_BASIC_INFORMATION).
func setBasic(h windows.Handle, atime, mtime *Time, attrs uint32) error {
	var b [40]byte
	le := binary.LittleEndian
	if atime != nil {
		le.PutUint64(b[8:], atime.filetime())
	}
	if mtime != nil {
		le.PutUint64(b[16:], mtime.filetime())
	}
	le.PutUint32(b[32:], attrs)
	return set(h, windows.FileBasicInformation, b[:])
}

// sysCreated gives an open entry the time at which another one was made.
func sysCreated(fd, as descriptor) error {
	var basic, b [40]byte
	if err := query(as, windows.FileBasicInformation, basic[:]); err != nil {
		return err
	}
	copy(b[:8], basic[:8])
	return set(fd, windows.FileBasicInformation, b[:])
}

func sysSetTimes(fd descriptor, atime, mtime Time) error { return setBasic(fd, &atime, &mtime, 0) }

func sysSetTimesEntry(at descriptor, name string, atime, mtime Time) error {
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES,
		func(h windows.Handle) error { return setBasic(h, &atime, &mtime, 0) })
}

// sysList reads a directory from its start, through a handle of its own where
// one can be had: some go on with the names that they read the first time.
func sysList(fd descriptor, f func(names [][]byte) bool) error {
	if again, err := ntOpen(fd, "", windows.FILE_LIST_DIRECTORY|windows.SYNCHRONIZE, windows.FILE_OPEN,
		itself|dirOnly); err == nil {
		defer windows.CloseHandle(again)
		fd = again
	}
	class := uint32(windows.FileIdBothDirectoryRestartInfo)
	buf := make([]byte, 64<<10)
	for {
		err := windows.GetFileInformationByHandleEx(fd, class, &buf[0], uint32(len(buf)))
		if errors.Is(err, windows.ERROR_NO_MORE_FILES) || errors.Is(err, windows.ERROR_FILE_NOT_FOUND) {
			return nil
		}
		if err != nil {
			return portable(err)
		}
		class = windows.FileIdBothDirectoryInfo
		if !f(listed(buf)) {
			return nil
		}
	}
}

// listed gives the names in a block of FILE_ID_BOTH_DIR_INFO: next 0, length
// of the name 60, name 104.
func listed(b []byte) (names [][]byte) {
	le := binary.LittleEndian
	for {
		u := unsafe.Slice((*uint16)(unsafe.Pointer(&b[104])), le.Uint32(b[60:])/2)
		if name := syscall.UTF16ToString(u); name != "." && name != ".." {
			names = append(names, []byte(name))
		}
		next := le.Uint32(b)
		if next == 0 {
			return names
		}
		b = b[next:]
	}
}
