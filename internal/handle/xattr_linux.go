package handle

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Xattrs reads the extended attributes of the entry called name in d, by
// name in byte order; "." is d itself. Nil means there are none, or that
// the file system has no such thing. A link's own attributes are read.
func (d *Dir) Xattrs(name string) ([]Xattr, error) {
	return d.xattrs(name,
		func(b []byte) (int, error) { return listXattr(d.fd, name, b) },
		func(key string, b []byte) (int, error) { return unix.Lgetxattr(procPath(d.fd, name), key, b) })
}

// oldKernel says that listxattrat(2) of Linux 6.13 can't be called.
var oldKernel atomic.Bool

// listXattr lists the attributes of an entry, a link not being followed.
func listXattr(dir descriptor, name string, b []byte) (int, error) {
	if name == "." {
		return unix.Flistxattr(dir, b)
	}
	if !oldKernel.Load() {
		path, err := unix.BytePtrFromString(name)
		if err != nil {
			return 0, err
		}
		n, _, errno := unix.Syscall6(unix.SYS_LISTXATTRAT, uintptr(dir), uintptr(unsafe.Pointer(path)),
			unix.AT_SYMLINK_NOFOLLOW, uintptr(unsafe.Pointer(unsafe.SliceData(b))), uintptr(len(b)), 0)
		switch errno {
		case 0:
			return int(n), nil
		case unix.ENOSYS, unix.EPERM: // EPERM is what some sandboxes say of calls they do not know
			oldKernel.Store(true)
		default:
			return 0, errno
		}
	}
	return unix.Llistxattr(procPath(dir, name), b)
}

// XattrsOf is [Dir.Xattrs] for an entry that is open, through its descriptor:
// whatever the name means by now.
func (d *Dir) XattrsOf(f *File, name string) ([]Xattr, error) {
	return d.xattrs(name,
		func(b []byte) (int, error) { return unix.Flistxattr(f.fd, b) },
		func(key string, b []byte) (int, error) { return unix.Fgetxattr(f.fd, key, b) })
}

func (d *Dir) xattrs(name string, names func([]byte) (int, error), value func(string, []byte) (int, error)) ([]Xattr,
	error) {
	list, err := sized("listxattr", names)
	switch err {
	case nil:
	case unix.ENOTSUP, unix.ENOSYS:
		return nil, nil
	default:
		return nil, d.err("listxattr", name, err)
	}
	out := d.ofWindows(value)
	if len(list) == 0 {
		return out, nil
	}
	for key := range bytes.SplitSeq(bytes.TrimSuffix(list, []byte{0}), []byte{0}) {
		v, err := sized("getxattr", func(b []byte) (int, error) { return value(string(key), b) })
		if err == unix.ENODATA {
			continue // gone since it was listed; the change of ctime tells
		}
		if err != nil {
			return nil, d.err("getxattr "+string(key), name, err)
		}
		out = append(out, Xattr{string(key), v})
	}
	slices.SortFunc(out, func(a, b Xattr) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// What a Windows drive keeps beside the content of an entry: its rights, as a
// security descriptor, and whether it is read-only, hidden or of the system, as
// four bytes. ntfs-3g shows them as attributes that it does not list.
const (
	rightsXattr = "system.ntfs_acl"
	attribXattr = "system.ntfs_attrib_be"
)

// OfWindows reports an attribute that is carried over to another Windows drive,
// and is nothing to any other.
func OfWindows(name string) bool { return name == rightsXattr || name == attribXattr }

// ofWindows reads them; nil on other drives.
func (d *Dir) ofWindows(read func(string, []byte) (int, error)) (out []Xattr) {
	if d.fileSystem() != unix.FUSE_SUPER_MAGIC {
		return nil
	}
	// FILE_ATTRIBUTE_READONLY, HIDDEN, SYSTEM; those that go with them.
	const told, archive, notIndexed = 0x7, 0x20, 0x20
	for _, name := range []string{rightsXattr, attribXattr} {
		value, err := sized("getxattr", func(b []byte) (int, error) { return read(name, b) })
		if err != nil {
			continue // no drive of Windows, or none of its rights
		}
		if name == attribXattr {
			if len(value) != 4 || value[3]&told == 0 {
				continue
			}
			value = []byte{0, 0, value[2] & notIndexed, value[3] & (told | archive)}
		}
		out = append(out, Xattr{name, value})
	}
	return out
}

// SetXattr sets one extended attribute of the entry called name in d.
func (d *Dir) SetXattr(name string, x Xattr) error {
	path := procPath(d.fd, name)
	return d.err("setxattr "+x.Name, name,
		call("setxattr", func() error { return unix.Lsetxattr(path, x.Name, x.Value, 0) }))
}

// SetXattrOf is [Dir.SetXattr] for an entry that is open, through its descriptor.
func (d *Dir) SetXattrOf(f *File, name string, x Xattr) error {
	return d.err("setxattr "+x.Name, name,
		call("setxattr", func() error { return unix.Fsetxattr(f.fd, x.Name, x.Value, 0) }))
}

// DropInherited takes the lists of rights off d that the directory around it has
// handed down when it was made: its own and the one that it would hand down.
func (d *Dir) DropInherited() error {
	for _, key := range []string{"system.posix_acl_access", "system.posix_acl_default"} {
		if err := d.err("removexattr "+key, ".", dropACL(d.fd, key)); err != nil {
			return err
		}
	}
	return nil
}

// DropInherited takes the list of rights off f that the directory around it has
// handed down when it was made.
func (f *File) DropInherited() error {
	return f.err("removexattr", dropACL(f.fd, "system.posix_acl_access"))
}

func dropACL(fd descriptor, key string) error {
	err := call("removexattr", func() error { return unix.Fremovexattr(fd, key) })
	if err == unix.ENODATA || err == unix.ENOTSUP || err == unix.ENOSYS {
		return nil
	}
	return err
}

// RemoveXattr removes one; that it is not there is no error.
func (d *Dir) RemoveXattr(name, key string) error {
	path := procPath(d.fd, name)
	err := call("removexattr", func() error { return unix.Lremovexattr(path, key) })
	if err == unix.ENODATA {
		err = nil
	}
	return d.err("removexattr "+key, name, err)
}

// IsACL reports an attribute that holds a list of rights: a POSIX ACL.
func IsACL(name string) bool { return strings.HasPrefix(name, "system.posix_acl_") }

// SampleACL is a list of rights to try a file system with:
// user::rw- user:1:r-- group::--- mask::r-- other::---, acl(5) as stored.
func SampleACL() Xattr {
	return Xattr{Name: "system.posix_acl_access", Value: []byte{
		2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 1, 0, 0, 0, 4, 0, 0, 0, 255, 255, 255, 255,
		16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}}
}

// IsOwner has no part here: owners are no attributes.
func IsOwner(string) bool { return false }

// OpenToOthers has no part here: modes say it.
func (d *Dir) OpenToOthers() (itself, below bool, err error) { return false, false, nil }

// NeedsRights reports an attribute that only an administrator may set.
func NeedsRights(name string) bool { return !strings.HasPrefix(name, "user.") }

// KeepsFromRemoving has no part here: no attribute keeps anybody from removing an entry.
func KeepsFromRemoving(Xattr) bool { return false }

// procPath leads to an entry: the kernel reaches the directory through the
// descriptor, and only the last component is looked up, which the l… calls do
// not follow.
func procPath(fd descriptor, name string) string {
	p := "/proc/self/fd/" + strconv.Itoa(fd)
	if name == "." {
		return p + "/."
	}
	return p + "/" + name
}
