package handle

import (
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/windows"

	"nexlin/internal/junction"
)

// sysReparse gives the bytes of a reparse point; nil if the entry is none.
func sysReparse(at descriptor, name string) (data []byte, err error) {
	err = on(at, name, 0, func(h windows.Handle) error {
		data, err = control(h, windows.FSCTL_GET_REPARSE_POINT, nil, windows.MAXIMUM_REPARSE_DATA_BUFFER_SIZE)
		if errors.Is(err, windows.ERROR_NOT_A_REPARSE_POINT) {
			data, err = nil, nil
		}
		return err
	})
	return data, err
}

func sysLinksDir(at descriptor, name string) (bool, error) {
	var st Stat
	err := statAt(at, name, &st)
	return st.Attributes&AttrDirLink != 0, err
}

// sysMakeReparse makes an entry that is a reparse point with these bytes. No
// entry stays behind if that fails.
func sysMakeReparse(at descriptor, name string, data []byte, directory bool) error {
	options := uint32(windows.FILE_NON_DIRECTORY_FILE)
	if directory {
		options = dirOnly
	}
	h, err := makeName(at, name, windows.FILE_WRITE_ATTRIBUTES|windows.FILE_WRITE_DATA|windows.DELETE|toStat, options)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	if _, err = control(h, windows.FSCTL_SET_REPARSE_POINT, data, 0); err != nil {
		return errors.Join(err, set(h, windows.FileDispositionInformation, []byte{1}))
	}
	return nil
}

// sysSetReparse changes where a reparse point leads; the tag stays.
func sysSetReparse(at descriptor, name string, data []byte) error {
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES|windows.FILE_WRITE_DATA, func(h windows.Handle) error {
		_, err := control(h, windows.FSCTL_SET_REPARSE_POINT, data, 0)
		return err
	})
}

// sysSymlink makes a symbolic link, or a junction if the text is one's. Only by
// its full path does the system make one for an account that has no more than
// the developer mode; then a name on the way could be another's, which is no
// worse than what that account may do itself. Without either the error is EPERM.
func sysSymlink(text string, at descriptor, name string) error {
	if err := plainName(name); err != nil {
		return err
	}
	if target, ok := strings.CutPrefix(text, JunctionText); ok {
		data, err := junction.EncodeSubstitute(target)
		if err != nil {
			return err
		}
		l := junction.Link{Substitute: text}
		if st, err := os.Stat(l.Target()); err == nil && !st.IsDir() {
			return syscall.ENOTDIR // the system would make it, and nobody could follow it
		}
		return sysMakeReparse(at, name, data, true)
	}
	dir := sysPath(at)
	to := filepath.FromSlash(text)
	abs := to
	if !filepath.IsAbs(to) {
		abs = filepath.Join(dir, to)
	}
	const allowUnprivileged = 2
	flags := uint32(allowUnprivileged)
	if st, err := os.Stat(abs); err == nil && st.IsDir() {
		flags |= windows.SYMBOLIC_LINK_FLAG_DIRECTORY
	}
	link, err := windows.UTF16PtrFromString(`\\?\` + strings.TrimSuffix(dir, `\`) + `\` + name)
	if err != nil {
		return syscall.EINVAL
	}
	target, err := windows.UTF16PtrFromString(to)
	if err != nil {
		return syscall.EINVAL
	}
	return portable(windows.CreateSymbolicLink(link, target, flags))
}

func sysReadlink(at descriptor, name string) (string, error) {
	data, err := sysReparse(at, name)
	if err != nil {
		return "", err
	}
	if data == nil {
		return "", syscall.EINVAL
	}
	return reparseText(data)
}

func sysHidden(at descriptor, name string) (hidden, ok bool, err error) {
	var attrs uint32
	err = on(at, name, 0, func(h windows.Handle) error { attrs, err = attributes(h); return err })
	return attrs&windows.FILE_ATTRIBUTE_HIDDEN != 0, err == nil, err
}

func sysHide(at descriptor, name string, hidden bool) error {
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES, func(h windows.Handle) error {
		attrs, err := attributes(h)
		if err != nil {
			return err
		}
		if attrs &^= windows.FILE_ATTRIBUTE_HIDDEN | windows.FILE_ATTRIBUTE_DIRECTORY; hidden {
			attrs |= windows.FILE_ATTRIBUTE_HIDDEN
		}
		if attrs == 0 {
			attrs = windows.FILE_ATTRIBUTE_NORMAL
		}
		return setBasic(h, nil, nil, attrs)
	})
}

func attributes(h windows.Handle) (uint32, error) {
	var basic [40]byte
	err := query(h, windows.FileBasicInformation, basic[:])
	return binary.LittleEndian.Uint32(basic[32:]), err
}
