package handle

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// The flags of chflags(2) that an account may set and that keep nobody from
// changing the entry are shown as an attribute: whatever copies, compares and
// records attributes does so with these.
const (
	flagsXattr = "darwin.flags"     // 4 bytes
	keptFlags  = 0x1 | 0x8 | 0x8000 // UF_NODUMP, UF_OPAQUE, UF_HIDDEN
)

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
		list, err := sized("listxattr", func(b []byte) (int, error) { return unix.Flistxattr(fd, b) })
		if err == unix.ENOTSUP {
			return nil
		}
		if err != nil || len(list) == 0 {
			return err
		}
		for key := range bytes.SplitSeq(bytes.TrimSuffix(list, []byte{0}), []byte{0}) {
			value, err := sized("getxattr", func(b []byte) (int, error) { return unix.Fgetxattr(fd, string(key), b) })
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

// XattrsOf is [Dir.Xattrs] for an entry that is open.
func (d *Dir) XattrsOf(f *File, name string) ([]Xattr, error) {
	return (&Dir{fd: f.fd, path: d.Join(name)}).Xattrs(".")
}

// SetXattrOf is [Dir.SetXattr] for an entry that is open.
func (d *Dir) SetXattrOf(f *File, name string, x Xattr) error {
	return (&Dir{fd: f.fd, path: d.Join(name)}).SetXattr(".", x)
}

// DropInherited does nothing: access lists are not read here.
func (d *Dir) DropInherited() error { return nil }

// DropInherited does nothing: access lists are not read here.
func (f *File) DropInherited() error { return nil }

// IsACL reports an attribute that holds rights. The system's access lists are
// none: they are not read.
func IsACL(string) bool { return false }

// SampleACL is empty: nothing can be tried.
func SampleACL() Xattr { return Xattr{} }

// NeedsRights reports an attribute that only an administrator may set.
func NeedsRights(name string) bool { return name == "com.apple.rootless" }

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
		return call("setxattr", func() error { return unix.Fsetxattr(fd, x.Name, x.Value, 0) })
	}))
}

// RemoveXattr removes one; that it is not there is no error.
func (d *Dir) RemoveXattr(name, key string) error {
	err := d.withEntry(name, func(fd int) error {
		if key == flagsXattr {
			return setFlags(fd, 0)
		}
		return call("removexattr", func() error { return unix.Fremovexattr(fd, key) })
	})
	if err == unix.ENOATTR {
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
