package handle

import (
	"encoding/binary"
	"slices"

	"golang.org/x/sys/unix"
)

// Names lists the names in d in byte order, without "." and "..". The list
// is read from the start at each call.
func (d *Dir) Names() ([]string, error) {
	if _, err := unix.Seek(d.fd, 0, 0); err != nil {
		return nil, d.err("read", ".", err)
	}
	var names []string
	buf := make([]byte, 32<<10)
	for {
		n, err := retryInt(func() (int, error) { return unix.Getdents(d.fd, buf) })
		if err != nil {
			return nil, d.err("read", ".", err)
		}
		if n == 0 {
			break
		}
		names = appendNames(names, buf[:n])
	}
	slices.Sort(names)
	return names, nil
}

// appendNames takes the names out of a block of getdents64(2) records:
// inode 8, offset 8, length 2, type 1, name up to a zero byte.
func appendNames(names []string, block []byte) []string {
	for len(block) >= 19 {
		size := int(binary.NativeEndian.Uint16(block[16:]))
		if size < 19 || size > len(block) {
			return names
		}
		name := block[19:size]
		if i := slices.Index(name, 0); i >= 0 {
			name = name[:i]
		}
		if s := string(name); s != "." && s != ".." {
			names = append(names, s)
		}
		block = block[size:]
	}
	return names
}
