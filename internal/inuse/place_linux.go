package inuse

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// A place is a folder as the kernel knows it: its file system, and where it
// lies in that, whatever it is mounted as.
type place struct {
	dir       string
	mount     uint64 // mount id
	dev       [2]uint32
	device    string    // of the file system, as mountinfo has it
	inMaps    [2]uint32 // as maps have it
	inside    string    // where it lies in the file system; empty if that is not told
	mountRoot bool
}

// placeOf gives nil for a folder that is not there.
func placeOf(dir string) (*place, error) {
	var st unix.Statx_t
	err := statAt(dir, &st)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) {
		return nil, nil
	}
	if err != nil {
		return nil, &fs.PathError{Op: "stat", Path: dir, Err: err}
	}
	return &place{dir: dir, mount: st.Mnt_id, dev: [2]uint32{st.Dev_major, st.Dev_minor},
		mountRoot: st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0}, nil
}

// learn takes in what the mount says of the place; where it is not known, the
// device that stat(2) gives has to do.
func (p *place) learn(mounts mountTable) {
	m := mounts[p.mount]
	p.device, p.inside = m.device, m.within(p.dir)
	major, minor := p.dev[0], p.dev[1]
	if p.device != "" {
		if n, err := fmt.Sscanf(p.device, "%d:%d", &major, &minor); n != 2 || err != nil {
			p.device = ""
		}
	}
	p.inMaps = [2]uint32{major, minor}
}

// Asking what a path or a link of proc(5) leads to must not wait for a server
// or a file system's program that does not answer: what is known already will do.
const asKnown = unix.AT_NO_AUTOMOUNT | unix.AT_STATX_DONT_SYNC

const placeMask = unix.STATX_TYPE | unix.STATX_MODE | unix.STATX_INO | unix.STATX_NLINK | unix.STATX_MNT_ID

func statFollowing(path string, st *unix.Statx_t) error {
	return unix.Statx(unix.AT_FDCWD, path, asKnown, placeMask, st)
}

func statAt(path string, st *unix.Statx_t) error {
	return unix.Statx(unix.AT_FDCWD, path, asKnown|unix.AT_SYMLINK_NOFOLLOW, placeMask, st)
}

// A mounted is one mount of any namespace.
type mounted struct {
	device string // of the file system, major:minor
	root   string // which directory of the file system is mounted
	at     string // where
}

// mountTable has the mounts of all namespaces by their ids, which the kernel
// gives once.
type mountTable map[uint64]mounted

func (t mountTable) add(m *mountinfo.Info) {
	if _, known := t[uint64(m.ID)]; !known {
		t[uint64(m.ID)] = mounted{fmtDevice(m), m.Root, m.Mountpoint}
	}
}

func fmtDevice(m *mountinfo.Info) string { return fmt.Sprintf("%d:%d", m.Major, m.Minor) }

// within says where in the file system the entry at a path lies that is
// reached through the mount; empty if the path does not lead through it.
func (m mounted) within(path string) string {
	rel, ok := below(m.at, path)
	if m.at == "" || !ok {
		return ""
	}
	return filepath.Join(m.root, rel)
}

// below gives the rest of a path that is dir or lies below it; "." for dir.
func below(dir, path string) (string, bool) {
	if path == dir {
		return ".", true
	}
	return strings.CutPrefix(path, strings.TrimSuffix(dir, "/")+"/")
}

// A verdict says whether something is of the place.
type verdict int

const (
	isOutside verdict = iota
	isInside
	isUnsure // only the names in the folder can tell
)

// mayHold says by the mount, or by the device where that is not known, whether
// an entry could be of the place.
func (l *look) mayHold(st *unix.Statx_t) bool {
	if m, known := l.mounts[st.Mnt_id]; known && l.place.device != "" {
		return m.device == l.place.device
	}
	return l.place.dev == [2]uint32{st.Dev_major, st.Dev_minor}
}

// judge says whether an entry on the place's file system is of the place, with
// the path to show. path is what the kernel calls it, by the way it was opened;
// ours says that this process sees the same mounts.
func (l *look) judge(st *unix.Statx_t, path string, ours bool) (verdict, string) {
	at := l.mounts[st.Mnt_id].within(path)
	if at == "" || l.place.inside == "" {
		return isUnsure, path
	}
	if rel, ok := below(l.place.inside, at); ok {
		return isInside, filepath.Join(l.place.dir, rel)
	}
	isDir := uint32(st.Mode)&unix.S_IFMT == unix.S_IFDIR
	if !isDir && st.Nlink > 1 || !ours && !l.confirmed(st, at) {
		return isUnsure, path // another name of it may lie there; what another namespace shows is looked at
	}
	return isOutside, path
}

// confirmed looks whether the entry lies where a mount of another namespace
// says, as this process sees the file system.
func (l *look) confirmed(st *unix.Statx_t, at string) bool {
	own := l.mounts[l.place.mount]
	rel, ok := below(own.root, at)
	var is unix.Statx_t
	return ok && statAt(filepath.Join(own.at, rel), &is) == nil && is.Ino == st.Ino && is.Dev_major == st.Dev_major &&
		is.Dev_minor == st.Dev_minor
}
