package handle

import (
	"bytes"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// An Xattr is one extended attribute (xattr(7)).
type Xattr struct {
	Name  string
	Value []byte
}

// Xattrs reads the extended attributes of the entry called name in d, by
// name in byte order; "." is d itself. Nil means there are none, or that
// the file system has no such thing. A link's own attributes are read.
func (d *Dir) Xattrs(name string) ([]Xattr, error) {
	// The kernel reaches the directory through the descriptor; only the last
	// component is looked up, and the l… calls do not follow it.
	path := d.procPath(name)
	list, err := sized("listxattr", func(b []byte) (int, error) { return unix.Llistxattr(path, b) })
	switch err {
	case nil:
	case unix.ENOTSUP, unix.ENOSYS:
		return nil, nil
	default:
		return nil, d.err("listxattr", name, err)
	}
	if len(list) == 0 {
		return nil, nil
	}
	var out []Xattr
	for key := range bytes.SplitSeq(bytes.TrimSuffix(list, []byte{0}), []byte{0}) {
		value, err := sized("getxattr", func(b []byte) (int, error) { return unix.Lgetxattr(path, string(key), b) })
		if err == unix.ENODATA {
			continue // gone since it was listed; the change of ctime tells
		}
		if err != nil {
			return nil, d.err("getxattr "+string(key), name, err)
		}
		out = append(out, Xattr{string(key), value})
	}
	slices.SortFunc(out, func(a, b Xattr) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// SetXattr sets one extended attribute of the entry called name in d.
func (d *Dir) SetXattr(name string, x Xattr) error {
	path := d.procPath(name)
	return d.err("setxattr "+x.Name, name, call("setxattr", func() error { return unix.Lsetxattr(path, x.Name, x.Value, 0) }))
}

// RemoveXattr removes one; that it is not there is no error.
func (d *Dir) RemoveXattr(name, key string) error {
	path := d.procPath(name)
	err := call("removexattr", func() error { return unix.Lremovexattr(path, key) })
	if err == unix.ENODATA {
		err = nil
	}
	return d.err("removexattr "+key, name, err)
}

func (d *Dir) procPath(name string) string {
	p := "/proc/self/fd/" + strconv.Itoa(d.fd)
	if name == "." {
		return p + "/."
	}
	return p + "/" + name
}

// sized makes a call with a growing buffer until the answer fits.
func sized(name string, f func([]byte) (int, error)) ([]byte, error) {
	size := 256
	for {
		buf := make([]byte, size)
		n, err := callInt(name, func() (int, error) { return f(buf) })
		if err == unix.ERANGE && size < 1<<20 {
			size *= 8
			continue
		}
		if err != nil {
			return nil, err
		}
		return buf[:n], nil
	}
}
