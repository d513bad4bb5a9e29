package inuse

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// mapped names a mapped file by what proc(5) says of its map.
type mapped struct {
	ino  uint64
	path string
}

// maps looks at the mapped files: a shared map with the right to write changes a
// file without any descriptor being open.
func (s *scan) maps() {
	f, err := os.Open(s.root + "/maps")
	if err != nil {
		s.denied = s.denied || os.IsPermission(err)
		return
	}
	defer f.Close()
	if asked := s.askMaps(f, s.oneMap); !asked {
		s.readMaps(f, s.oneMap)
	}
}

// eachMap hears of a map of the place's device: the inode and the path of the file, the
// addresses as proc(5) names them, and whether what is written there goes to the file.
type eachMap func(ino uint64, path, span string, writes bool)

// A vmaQuery is struct procmap_query of linux/fs.h, where a pointer has 64 bits. The
// name's is a real one, so that what it points to stays where the kernel writes it.
type vmaQuery struct {
	size, flags, addr                       uint64
	start, end, is, page, offset, ino       uint64
	devMajor, devMinor, nameSize, buildSize uint32
	nameAddr                                unsafe.Pointer
	buildAddr                               uint64
}

// PROCMAP_QUERY and its flags (linux/fs.h, since Linux 6.11).
const (
	procmapQuery = 3<<30 | unsafe.Sizeof(vmaQuery{})<<16 | 'f'<<8 | 17
	vmaWritable  = 0x02
	vmaShared    = 0x08
	vmaNext      = 0x10 // the one at the address, or the next one
	vmaOfFile    = 0x20
)

// ask has the kernel find the next map; ENOENT if there is none.
func (q *vmaQuery) ask(f *os.File) error {
	q.size = uint64(unsafe.Sizeof(*q))
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), procmapQuery, uintptr(unsafe.Pointer(q))); errno != 0 {
		return errno
	}
	return nil
}

// askMaps has the kernel pick the maps; it reports false where that does not answer,
// which older ones don't.
func (s *scan) askMaps(f *os.File, each eachMap) bool {
	flags := uint64(vmaNext | vmaOfFile)
	if s.onlyWriters {
		flags |= vmaWritable | vmaShared
	}
	name := make([]byte, unix.PathMax)
	for at := uint64(0); ; {
		q := vmaQuery{flags: flags, addr: at}
		switch err := q.ask(f); {
		case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ESRCH):
			return true
		case err != nil:
			return at > 0 // it answered before: the program has ended
		}
		at = q.end
		if s.place.inMaps != [2]uint32{q.devMajor, q.devMinor} {
			continue
		}
		each(q.ino, nameOf(f, q.start, name), fmt.Sprintf("%x-%x", q.start, q.end),
			q.is&(vmaWritable|vmaShared) == vmaWritable|vmaShared)
	}
}

// nameOf is the path of the file that is mapped at an address, by way of name; empty if
// that is too short for it, or the map has gone.
func nameOf(f *os.File, at uint64, name []byte) string {
	q := vmaQuery{addr: at, nameSize: uint32(len(name)), nameAddr: unsafe.Pointer(&name[0])}
	if q.ask(f) != nil {
		return ""
	}
	return unix.ByteSliceToString(name)
}

// readMaps reads the maps as text (proc(5), maps).
func (s *scan) readMaps(f io.Reader, each eachMap) {
	text, err := io.ReadAll(f)
	if err != nil {
		s.denied = s.denied || os.IsPermission(err)
		return
	}
	device := fmt.Sprintf("%02x:%02x", s.place.inMaps[0], s.place.inMaps[1])
	for len(text) > 0 {
		var line []byte
		line, text, _ = bytes.Cut(text, []byte{'\n'})
		// span rights offset device inode path
		span, rest, _ := bytes.Cut(line, []byte{' '})
		rights, rest, _ := bytes.Cut(rest, []byte{' '})
		_, rest, _ = bytes.Cut(rest, []byte{' '})
		of, rest, _ := bytes.Cut(rest, []byte{' '})
		writes := bytes.HasPrefix(rights, []byte("rw")) && bytes.HasSuffix(rights, []byte{'s'})
		if string(of) != device || s.onlyWriters && !writes {
			continue
		}
		number, path, _ := bytes.Cut(rest, []byte{' '})
		ino, err := strconv.ParseUint(string(number), 10, 64)
		if err != nil {
			continue
		}
		each(ino, strings.ReplaceAll(strings.TrimLeft(string(path), " "), `\012`, "\n"), unpadded(string(span)), writes)
	}
}

// unpadded is a span of addresses as the names in map_files have it, without zeros
// before it.
func unpadded(span string) string {
	from, to, _ := strings.Cut(span, "-")
	return strings.TrimLeft(from, "0") + "-" + strings.TrimLeft(to, "0")
}

// oneMap looks at one map of the place's device, once for each file.
func (s *scan) oneMap(ino uint64, path, span string, writes bool) {
	m := mapped{ino, path}
	if ino == 0 || s.seen[m] {
		return
	}
	how := Mapped
	if writes {
		how = Writing
	}
	if !s.seeMap(&m, span, how) {
		s.seen[m] = true
	}
}

// seeMap judges one map; it reports whether it may be of the place.
func (s *scan) seeMap(m *mapped, span string, how How) bool {
	// The path says where to look; what has another inode is followed, which an
	// ordinary account may not do.
	var st unix.Statx_t
	v, shown := isUnsure, m.path
	if statAt(m.path, &st) == nil && st.Ino == m.ino && s.mayHold(&st) {
		v, shown = s.judge(&st, m.path, true)
	} else if s.stat("map_files/"+span, &st) == nil {
		return s.see("map_files/"+span, func(*unix.Statx_t) How { return how })
	}
	switch v {
	case isOutside:
		return false
	case isInside:
		s.report.Holders = append(s.report.Holders, s.holder(shown, how))
	default:
		s.rest = append(s.rest, candidate{m.ino, s.holder(shown, how)})
	}
	return true
}
