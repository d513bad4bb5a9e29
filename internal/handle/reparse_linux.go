package handle

import (
	"errors"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nexlin/internal/junction"
)

// A rescue system reads NTFS through ntfs-3g, which shows a reparse point's
// bytes as an extended attribute of the entry and the entry as a symbolic
// link. The kernel keeps for a moment what it knew of an entry before.
const settles = 3 * time.Second

// mayHaveReparse reports a file system that may be NTFS through FUSE.
func mayHaveReparse(fd descriptor) bool {
	var st unix.Statfs_t
	return unix.Fstatfs(fd, &st) == nil && st.Type == unix.FUSE_SUPER_MAGIC
}

func sysReparse(at descriptor, name string) ([]byte, error) {
	if !mayHaveReparse(at) {
		return nil, nil
	}
	path := procPath(at, name)
	b, err := sized("getxattr", func(b []byte) (int, error) { return unix.Lgetxattr(path, ReparseXattr, b) })
	switch err {
	case unix.ENODATA, unix.EOPNOTSUPP, unix.EINVAL, unix.ENOSYS:
		return nil, nil
	}
	return b, err
}

func sysLinksDir(at descriptor, name string) (bool, error) {
	var b [4]byte
	_, err := unix.Lgetxattr(procPath(at, name), "system.ntfs_attrib_be", b[:])
	const directory = 0x10
	return b[3]&directory != 0, err
}

// sysMakeReparse makes an empty directory, or file, into a reparse point. It
// returns once the kernel shows it as one.
func sysMakeReparse(at descriptor, name string, data []byte, directory bool) error {
	if !mayHaveReparse(at) {
		return unix.EOPNOTSUPP
	}
	made, remove := -1, 0
	var err error
	if directory {
		remove = unix.AT_REMOVEDIR
		if err = unix.Mkdirat(at, name, 0o700); err == nil {
			made, err = unix.Openat(at, name, openDir|unix.O_NOFOLLOW, 0)
		}
	} else {
		made, err = unix.Openat(at, name, unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	}
	if err != nil {
		return err
	}
	err = unix.Fsetxattr(made, ReparseXattr, data, 0)
	if err == nil {
		err = unix.Fsync(made)
	}
	unix.Close(made)
	if err != nil {
		return errors.Join(err, unix.Unlinkat(at, name, remove))
	}
	return settled(at, name)
}

// sysSetReparse changes the bytes of a reparse point that is there.
func sysSetReparse(at descriptor, name string, data []byte) error {
	if err := unix.Lsetxattr(procPath(at, name), ReparseXattr, data, unix.XATTR_REPLACE); err != nil {
		return err
	}
	return settled(at, name)
}

// settled waits until the kernel has forgotten what the entry was before.
func settled(at descriptor, name string) error {
	for wait := time.Millisecond; ; wait *= 2 {
		var st Stat
		err := statAt(at, name, &st)
		if err == nil && st.IsSymlink() {
			return nil
		}
		if wait > settles {
			if err == nil {
				err = unix.EIO
			}
			return err
		}
		time.Sleep(wait)
	}
}

// sysSymlink makes a symbolic link, or a junction if the text is one's: then
// on NTFS only.
func sysSymlink(text string, at descriptor, name string) error {
	if target, ok := strings.CutPrefix(text, JunctionText); ok && mayHaveReparse(at) {
		data, err := junction.EncodeSubstitute(target)
		if err != nil {
			return err
		}
		return sysMakeReparse(at, name, data, true)
	}
	return unix.Symlinkat(text, at, name)
}

// sysReadlink gives the text of a link; for a link of Windows its bytes', not
// what the driver makes of them.
func sysReadlink(at descriptor, name string) (string, error) {
	data, err := sysReparse(at, name)
	if err != nil {
		return "", err
	}
	if tag := junction.TagOf(data); tag == junction.Tag || tag == junction.SymlinkTag {
		return reparseText(data)
	}
	return readlink(at, name)
}

const hiddenBit = 0x2 // FILE_ATTRIBUTE_HIDDEN, in the last of four bytes

func sysHidden(at descriptor, name string) (hidden, ok bool, err error) {
	var b [4]byte
	if !mayHaveReparse(at) {
		return false, false, nil
	}
	n, err := unix.Lgetxattr(procPath(at, name), attribXattr, b[:])
	if err == unix.ENODATA || err == unix.EOPNOTSUPP || err == unix.EINVAL || err == unix.ENOSYS {
		return false, false, nil // another file system behind FUSE
	}
	return b[3]&hiddenBit != 0, err == nil && n == len(b), err
}

func sysHide(at descriptor, name string, hidden bool) error {
	var b [4]byte
	path := procPath(at, name)
	if _, err := unix.Lgetxattr(path, attribXattr, b[:]); err != nil {
		return err
	}
	if b[3] &^= hiddenBit; hidden {
		b[3] |= hiddenBit
	}
	return unix.Lsetxattr(path, attribXattr, b[:], 0)
}
