package handle

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"nexlin/internal/macos"
)

// The flags of chflags(2) that an account may set and that keep nobody from
// changing the entry are shown as an attribute, and so is its access list: whatever copies,
// compares and records attributes does so with these.
const (
	flagsXattr = "darwin.flags"     // 4 bytes
	keptFlags  = 0x1 | 0x8 | 0x8000 // UF_NODUMP, UF_OPAQUE, UF_HIDDEN
	aclXattr   = "darwin.acl"       // as [macos.AccessList.Encode] writes it
)

// attrList makes fgetattrlist(2) or fsetattrlist(2).
func attrList(trap uintptr, fd int, list *macos.Request, b []byte) error {
	_, _, e := unix.Syscall6(trap, uintptr(fd), uintptr(unsafe.Pointer(list)), uintptr(unsafe.Pointer(&b[0])),
		uintptr(len(b)), 0, 0)
	if e != 0 {
		return e
	}
	return nil
}

// accessList reads the access list of an open entry; nil if it has none, or the file
// system keeps none.
func accessList(fd int) (*macos.AccessList, error) {
	b := make([]byte, 4096) // the longest list takes 3128
	err := attrList(unix.SYS_FGETATTRLIST, fd, macos.Common(macos.ExtendedSecurity), b)
	if err == unix.ENOTSUP || err == unix.EINVAL {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return macos.FromAnswer(b)
}

// setAccessList gives an open entry an access list; nil takes its own away.
func setAccessList(fd int, l *macos.AccessList) error {
	return attrList(unix.SYS_FSETATTRLIST, fd, macos.Common(macos.ExtendedSecurity), macos.Change(l))
}

// dropAccessList takes away what an open entry has inherited.
func dropAccessList(fd int) error {
	l, err := accessList(fd)
	if l == nil || err != nil {
		return err
	}
	return setAccessList(fd, nil)
}

func setFlags(fd int, flags uint32) error {
	if _, _, e := unix.Syscall(unix.SYS_FCHFLAGS, uintptr(fd), uintptr(flags&keptFlags), 0); e != 0 {
		return e
	}
	return nil
}

// Xattrs reads the extended attributes of the entry called name in d, by
// name in byte order; "." is d itself. Nil means there are none, or that
// the file system has no such thing. A link's own attributes are read.
// Resource forks and what the desktop notes of a file are attributes here.
func (d *Dir) Xattrs(name string) (out []Xattr, err error) {
	err = d.withEntry(name, func(fd int) error {
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			return err
		}
		if flags := st.Flags & keptFlags; flags != 0 {
			out = append(out, Xattr{flagsXattr, binary.BigEndian.AppendUint32(nil, flags)})
		}
		acl, err := accessList(fd)
		if acl != nil {
			out = append(out, Xattr{aclXattr, acl.Encode()})
		}
		if err != nil {
			return err
		}
		list, err := sized("listxattr", func(b []byte) (int, error) { return unix.Flistxattr(fd, b) })
		if err == unix.ENOTSUP {
			return nil
		}
		if err != nil || len(list) == 0 {
			return err
		}
		for key := range bytes.SplitSeq(bytes.TrimSuffix(list, []byte{0}), []byte{0}) {
			value, err := macos.ReadWhole(func(b []byte, from uint32) (int, error) {
				return callFor("getxattr", func() (int, error) { return getXattr(fd, string(key), b, from) })
			})
			if err == unix.ENOATTR {
				continue // gone since it was listed; the change of ctime tells
			}
			if err != nil {
				return err
			}
			out = append(out, Xattr{string(key), value})
		}
		return nil
	})
	slices.SortFunc(out, func(a, b Xattr) int { return strings.Compare(a.Name, b.Name) })
	return out, d.err("getxattr", name, err)
}

// getXattr is fgetxattr(2) from a place on, which only a resource fork knows; without a
// buffer it answers the length.
func getXattr(fd int, key string, b []byte, from uint32) (int, error) {
	name, err := unix.BytePtrFromString(key)
	if err != nil {
		return 0, err
	}
	n, _, e := unix.Syscall6(unix.SYS_FGETXATTR, uintptr(fd), uintptr(unsafe.Pointer(name)),
		uintptr(unsafe.Pointer(unsafe.SliceData(b))), uintptr(len(b)), uintptr(from), 0)
	if e != 0 {
		return 0, e
	}
	return int(n), nil
}

// XattrsOf is [Dir.Xattrs] for an entry that is open.
func (d *Dir) XattrsOf(f *File, name string) ([]Xattr, error) {
	return (&Dir{fd: f.fd, path: d.Join(name)}).Xattrs(".")
}

// SetXattrOf is [Dir.SetXattr] for an entry that is open.
func (d *Dir) SetXattrOf(f *File, name string, x Xattr) error {
	return (&Dir{fd: f.fd, path: d.Join(name)}).SetXattr(".", x)
}

// DropInherited takes away the access list that d got from the directory it was made in.
func (d *Dir) DropInherited() error { return d.err("setattrlist", ".", dropAccessList(d.fd)) }

// DropInherited takes away the access list that f got from the directory it was made in.
func (f *File) DropInherited() error { return f.err("setattrlist", dropAccessList(f.fd)) }

// IsACL reports an attribute that holds rights.
func IsACL(name string) bool { return name == aclXattr }

// SampleACL is an access list by which is tried whether a drive keeps any.
func SampleACL() Xattr { return Xattr{aclXattr, macos.Sample(uint32(os.Geteuid())).Encode()} }

// IsOwner has no part here: owners are no attributes.
func IsOwner(string) bool { return false }

// OpenToOthers has no part here: modes say it.
func (d *Dir) OpenToOthers() (itself, below bool, err error) { return false, false, nil }

// NeedsRights has no part here: what an account may not set, the system sets itself.
func NeedsRights(string) bool { return false }

// KeepsFromRemoving reports an access list that keeps everybody from removing or renaming
// what has it.
func KeepsFromRemoving(x Xattr) bool {
	if x.Name != aclXattr {
		return false
	}
	l, err := macos.Decode(x.Value)
	return err == nil && l.KeepsFromDeleting()
}

// OfWindows has no part here: it is for Windows drives behind another system.
func OfWindows(string) bool { return false }

// SetXattr sets one extended attribute of the entry called name in d.
func (d *Dir) SetXattr(name string, x Xattr) error {
	return d.err("setxattr "+x.Name, name, d.withEntry(name, func(fd int) error {
		if x.Name == flagsXattr {
			if len(x.Value) != 4 {
				return unix.EINVAL
			}
			return setFlags(fd, binary.BigEndian.Uint32(x.Value))
		}
		if x.Name == aclXattr {
			l, err := macos.Decode(x.Value)
			if err != nil {
				return unix.EINVAL
			}
			return call("setxattr", func() error { return setAccessList(fd, l) })
		}
		return call("setxattr", func() error { return unix.Fsetxattr(fd, x.Name, x.Value, 0) })
	}))
}

// RemoveXattr removes one; that it is not there is no error.
func (d *Dir) RemoveXattr(name, key string) error {
	err := d.withEntry(name, func(fd int) error {
		if key == flagsXattr {
			return setFlags(fd, 0)
		}
		if key == aclXattr {
			return call("removexattr", func() error { return setAccessList(fd, nil) })
		}
		return call("removexattr", func() error { return unix.Fremovexattr(fd, key) })
	})
	if errors.Is(err, unix.ENOATTR) {
		err = nil
	}
	return d.err("removexattr "+key, name, err)
}

// withEntry opens an entry itself, a link too (open(2), O_SYMLINK), for as
// long as f runs.
func (d *Dir) withEntry(name string, f func(fd int) error) error {
	if name == "." {
		return f(d.fd)
	}
	const oSymlink = 0x200000
	fd, err := callFor("openat", func() (int, error) {
		return unix.Openat(d.fd, name, unix.O_RDONLY|oSymlink|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return f(fd)
}
