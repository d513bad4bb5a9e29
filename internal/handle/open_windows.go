package handle

import (
	"errors"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/windows"

	"nexlin/internal/junction"
)

// Rights and ways of opening (NtCreateFile). What stands under a name is
// opened itself, a reparse point too: nothing is followed.
const (
	toStat = windows.FILE_READ_ATTRIBUTES | windows.SYNCHRONIZE
	toList = windows.FILE_LIST_DIRECTORY | windows.FILE_TRAVERSE | windows.FILE_READ_EA | windows.READ_CONTROL | toStat
	toMake = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.FILE_WRITE_ATTRIBUTES
	shared = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	itself = windows.FILE_OPEN_REPARSE_POINT | windows.FILE_OPEN_FOR_BACKUP_INTENT |
		windows.FILE_SYNCHRONOUS_IO_NONALERT
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
	if strings.ContainsRune(name, 0) {
		return 0, syscall.EINVAL
	}
	h, err := system.create(at, name, access, disposition, options)
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
	for dir, rest, more := strings.Cut(rel, "/"); ; dir, rest, more = strings.Cut(rest, "/") {
		next, err := sysOpenDir(h, dir)
		if more && errors.Is(err, syscall.EACCES) { // to pass through is enough, as above another account's home
			next, err = ntOpen(h, dir, windows.FILE_TRAVERSE|toStat, windows.FILE_OPEN, itself|dirOnly)
			next, err = realDirectory(next, err)
		}
		if errors.Is(err, syscall.ENOTDIR) {
			if root, ok := volumeAt(h, dir); ok {
				next, err = openDirectory(0, root, itself)
				next, err = realDirectory(next, err)
			}
		}
		sysClose(h)
		if h = next; err != nil || !more {
			return h, err
		}
	}
}

// volumeAt is the top directory, by its volume's name, of a drive that is mounted in a folder: such a
// place leads to the top of a volume, and no other reparse point is passed.
func volumeAt(at windows.Handle, name string) (string, bool) {
	data, err := sysReparse(at, name)
	if err != nil || data == nil {
		return "", false
	}
	l, err := junction.Decode(data)
	if err != nil || !junction.IsRoot(l.Target()) || !strings.HasPrefix(l.Target(), `\\?\Volume{`) {
		return "", false
	}
	return `\??\` + strings.TrimPrefix(l.Target(), `\\?\`), true
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
	h, err = ntOpen(at, name, toRead, windows.FILE_OPEN,
		itself&^windows.FILE_OPEN_REPARSE_POINT|windows.FILE_NON_DIRECTORY_FILE)
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
	h, err := ntOpen(at, name, windows.FILE_GENERIC_READ|windows.FILE_GENERIC_WRITE, windows.FILE_CREATE,
		itself|windows.FILE_NON_DIRECTORY_FILE)
	if err == nil {
		inherit(h, at)
	}
	return h, err
}
