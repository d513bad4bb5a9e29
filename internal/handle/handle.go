// Package handle opens and changes things below a directory handle.
//
// It knows how to reach an entry one name at a time without following a
// link and without crossing a mount, so that whoever may write in a folder
// can't lead Nexlin out of it (I6). Every function takes a name or a path
// relative to a handle; nothing is resolved twice.
//
// It does not know what the entries mean: walking, copying and deciding are
// the work of the packages above. A Dir is counted: whoever keeps one longer
// than a call retains it, and the descriptor closes with the last release.
package handle

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// ErrMount reports an entry that lies on another mount than its directory.
var ErrMount = errors.New("another file system is mounted here")

// ErrNotDir reports a directory that is none any more.
var ErrNotDir = unix.ENOTDIR

// A Dir is an open directory. Its methods may be called from several
// goroutines; the zero value is of no use.
type Dir struct {
	fd   int
	path string // for messages only, never resolved again
	refs atomic.Int32
}

// Open opens the directory at path. Links on the way are followed, also the
// last one: the path comes from a person, or was resolved before. For a
// path that must not be followed use [OpenReal].
// The error is a *fs.PathError.
func Open(path string) (*Dir, error) {
	return openAt(unix.AT_FDCWD, path, path, unix.O_DIRECTORY|unix.O_RDONLY|unix.O_CLOEXEC)
}

// OpenReal opens the directory at an absolute path in which no component
// may be a link: it walks down from the root one handle at a time. Mounts
// on the way are crossed, since a folder's parents may lie on several.
// The error is a *fs.PathError; ELOOP or ENOTDIR means that a link stands
// in the way.
func OpenReal(path string) (*Dir, error) {
	how := unix.OpenHow{
		Flags:   unix.O_DIRECTORY | unix.O_RDONLY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS,
	}
	fd, err := callInt("openat2", func() (int, error) { return unix.Openat2(unix.AT_FDCWD, path, &how) })
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return newDir(fd, path), nil
}

func newDir(fd int, path string) *Dir {
	d := &Dir{fd: fd, path: path}
	d.refs.Store(1)
	return d
}

func openAt(dirfd int, name, full string, flags int) (*Dir, error) {
	fd, err := callInt("openat", func() (int, error) { return unix.Openat(dirfd, name, flags, 0) })
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: full, Err: err}
	}
	return newDir(fd, full), nil
}

// Retain counts one more user of d and returns d.
func (d *Dir) Retain() *Dir { d.refs.Add(1); return d }

// Release gives d up; the last release closes it.
func (d *Dir) Release() {
	if d == nil {
		return
	}
	switch n := d.refs.Add(-1); {
	case n == 0:
		unix.Close(d.fd)
	case n < 0:
		panic("handle: released once too often: " + d.path)
	}
}

// Path is where d was opened, for messages.
func (d *Dir) Path() string { return d.path }

// Fd is the descriptor, valid until the last release.
func (d *Dir) Fd() int { return d.fd }

// Join gives the path of name below d, for messages.
func (d *Dir) Join(name string) string {
	if name == "" || name == "." {
		return d.path
	}
	return strings.TrimSuffix(d.path, "/") + "/" + name
}

func (d *Dir) err(op, name string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: d.Join(name), Err: err}
}

// Sub opens the directory called name, one component, in d. A link there is
// ENOTDIR, never followed; a mount point is [ErrMount] only for callers that
// compare [Stat.Mount], see [Dir.Beneath] for the strict form.
func (d *Dir) Sub(name string) (*Dir, error) {
	return openAt(d.fd, name, d.Join(name), unix.O_DIRECTORY|unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC)
}

// Beneath opens the directory at rel, a relative path of any depth ("." is
// d itself). No link is followed and no mount is crossed (openat2(2) with
// BENEATH, NO_SYMLINKS and NO_XDEV).
func (d *Dir) Beneath(rel string) (*Dir, error) {
	f, err := d.beneath(rel, unix.O_DIRECTORY|unix.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	return newDir(f, d.Join(rel)), nil
}

// Parent opens the directory that holds rel and returns it with rel's last
// component. Like [Dir.Beneath] it follows nothing.
func (d *Dir) Parent(rel string) (*Dir, string, error) {
	dir, name := filepath.Split(rel)
	if dir == "" {
		return d.Retain(), name, nil
	}
	p, err := d.Beneath(strings.TrimSuffix(dir, "/"))
	return p, name, err
}

func (d *Dir) beneath(rel string, flags int, mode uint32) (int, error) {
	how := unix.OpenHow{
		Flags:   uint64(flags | unix.O_CLOEXEC | unix.O_NOFOLLOW),
		Mode:    uint64(mode),
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV | unix.RESOLVE_NO_MAGICLINKS,
	}
	for {
		fd, err := callInt("openat2", func() (int, error) { return unix.Openat2(d.fd, rel, &how) })
		switch err {
		case nil:
			return fd, nil
		case unix.EAGAIN: // a rename raced with the look-up: openat2(2) says try again
			continue
		case unix.EXDEV:
			return -1, d.err("open", rel, ErrMount)
		}
		return -1, d.err("open", rel, err)
	}
}

// OpenFile opens the regular file called name in d for reading, without
// following a link and without blocking on a FIFO. Access times are left
// alone where this account may ask for that (O_NOATIME, open(2)).
func (d *Dir) OpenFile(name string) (*File, error) {
	const flags = unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC
	fd, err := callInt("openat", func() (int, error) { return unix.Openat(d.fd, name, flags|unix.O_NOATIME, 0) })
	if err == unix.EPERM {
		fd, err = callInt("openat", func() (int, error) { return unix.Openat(d.fd, name, flags, 0) })
	}
	if err != nil {
		return nil, d.err("open", name, err)
	}
	return &File{fd, d.Join(name)}, nil
}

// OpenBeneath is [Dir.OpenFile] for a relative path of any depth.
func (d *Dir) OpenBeneath(rel string) (*File, error) {
	p, name, err := d.Parent(rel)
	if err != nil {
		return nil, err
	}
	defer p.Release()
	return p.OpenFile(name)
}

// Create makes the regular file called name, which must not exist, and
// opens it for reading and writing. The process's umask takes bits off mode.
func (d *Dir) Create(name string, mode uint32) (*File, error) {
	const flags = unix.O_RDWR | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW | unix.O_CLOEXEC
	fd, err := callInt("openat", func() (int, error) { return unix.Openat(d.fd, name, flags, mode) })
	if err != nil {
		return nil, d.err("create", name, err)
	}
	return &File{fd, d.Join(name)}, nil
}

// Link gives the file called name one more name, newName in to, which must
// not exist (linkat(2)).
func (d *Dir) Link(name string, to *Dir, newName string) error {
	if err := call("linkat", func() error { return unix.Linkat(d.fd, name, to.fd, newName, 0) }); err != nil {
		return &os.LinkError{Op: "link", Old: d.Join(name), New: to.Join(newName), Err: err}
	}
	return nil
}

// Mknod makes a FIFO, a socket's name or a device node, as the type bits of
// mode say (mknod(2)).
func (d *Dir) Mknod(name string, mode uint32, device uint64) error {
	return d.err("mknod", name, call("mknodat", func() error { return unix.Mknodat(d.fd, name, mode, int(device)) }))
}

// ChmodEntry sets the permission bits of the entry called name, which is no
// link.
func (d *Dir) ChmodEntry(name string, mode uint32) error {
	err := call("fchmodat", func() error { return unix.Fchmodat(d.fd, name, mode, unix.AT_SYMLINK_NOFOLLOW) })
	if err == unix.EOPNOTSUPP || err == unix.ENOSYS {
		err = d.chmodPinned(name, mode)
	}
	return d.err("chmod", name, err)
}

// chmodPinned does it where the kernel has no fchmodat2(2), before Linux 6.6:
// through a descriptor that pins the entry without opening it (O_PATH).
func (d *Dir) chmodPinned(name string, mode uint32) error {
	fd, err := callInt("openat", func() (int, error) {
		return unix.Openat(d.fd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT == unix.S_IFLNK {
		return unix.EOPNOTSUPP
	}
	return call("fchmodat", func() error { return unix.Chmod("/proc/self/fd/"+strconv.Itoa(fd), mode) })
}

// Mkdir makes the directory called name, which must not exist.
func (d *Dir) Mkdir(name string, mode uint32) error {
	return d.err("mkdir", name, call("mkdirat", func() error { return unix.Mkdirat(d.fd, name, mode) }))
}

// Symlink makes a symbolic link called name with the given text.
func (d *Dir) Symlink(text, name string) error {
	return d.err("symlink", name, call("symlinkat", func() error { return unix.Symlinkat(text, d.fd, name) }))
}

// Readlink returns the text of the symbolic link called name.
func (d *Dir) Readlink(name string) (string, error) {
	for size := 256; ; size *= 2 {
		buf := make([]byte, size)
		n, err := callInt("readlinkat", func() (int, error) { return unix.Readlinkat(d.fd, name, buf) })
		if err != nil {
			return "", d.err("readlink", name, err)
		}
		if n < size {
			return string(buf[:n]), nil
		}
	}
}

// Unlink removes the entry called name, which is no directory.
func (d *Dir) Unlink(name string) error {
	return d.err("remove", name, call("unlinkat", func() error { return unix.Unlinkat(d.fd, name, 0) }))
}

// Rmdir removes the empty directory called name.
func (d *Dir) Rmdir(name string) error {
	return d.err("remove", name, call("rmdir", func() error { return unix.Unlinkat(d.fd, name, unix.AT_REMOVEDIR) }))
}

// Rename gives name in d the name newName in to. An entry that is already
// there is never replaced: the error is then fs.ErrExist (renameat2(2),
// RENAME_NOREPLACE). Where the file system lacks that, it is looked first:
// between the look and the act nobody but this account may write there.
func (d *Dir) Rename(name string, to *Dir, newName string) error {
	err := d.rename(name, to, newName, unix.RENAME_NOREPLACE)
	if !errors.Is(err, unix.EINVAL) {
		return err
	}
	if _, err := to.Stat(newName); err == nil {
		return &os.LinkError{Op: "rename", Old: d.Join(name), New: to.Join(newName), Err: fs.ErrExist}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return d.rename(name, to, newName, 0)
}

// Replace is [Dir.Rename] that replaces what is there.
func (d *Dir) Replace(name string, to *Dir, newName string) error {
	return d.rename(name, to, newName, 0)
}

// Exchange swaps two entries in one act (renameat2(2), RENAME_EXCHANGE).
// A file system that can't answers EINVAL.
func (d *Dir) Exchange(name string, with *Dir, other string) error {
	return d.rename(name, with, other, unix.RENAME_EXCHANGE)
}

func (d *Dir) rename(name string, to *Dir, newName string, flags uint) error {
	err := call("renameat2", func() error { return unix.Renameat2(d.fd, name, to.fd, newName, flags) })
	if err != nil {
		return &os.LinkError{Op: "rename", Old: d.Join(name), New: to.Join(newName), Err: err}
	}
	return nil
}

// Sync flushes the directory itself: the names in it, not what they name.
func (d *Dir) Sync() error {
	return d.err("sync", ".", call("fsync", func() error { return unix.Fsync(d.fd) }))
}

// SyncAll flushes the whole file system that d lies on (syncfs(2)) and
// reports write-back errors that happened since d was opened.
func (d *Dir) SyncAll() error {
	return d.err("sync", ".", call("syncfs", func() error { return unix.Syncfs(d.fd) }))
}

// Lock takes a lock on the directory's own handle, shared or exclusive,
// without waiting (flock(2)). It goes with the last release of d. A lock
// that somebody else holds is [unix.EWOULDBLOCK].
func (d *Dir) Lock(exclusive bool) error {
	how := unix.LOCK_SH
	if exclusive {
		how = unix.LOCK_EX
	}
	return d.err("lock", ".", call("flock", func() error { return unix.Flock(d.fd, how|unix.LOCK_NB) }))
}

// Chmod, Chown and SetTimes change d itself through its handle.
func (d *Dir) Chmod(mode uint32) error {
	return d.err("chmod", ".", call("fchmod", func() error { return unix.Fchmod(d.fd, mode) }))
}

// Chown gives d an owner and a group.
func (d *Dir) Chown(uid, gid uint32) error {
	return d.err("chown", ".", call("fchown", func() error { return unix.Fchown(d.fd, int(uid), int(gid)) }))
}

// SetTimes sets access and modification time of d.
func (d *Dir) SetTimes(atime, mtime Time) error {
	ts := []unix.Timespec{atime.spec(), mtime.spec()}
	return d.err("utimens", ".", call("utimensat", func() error { return setTimesFd(d.fd, ts) }))
}

// ChownEntry and SetTimesEntry work on the entry called name; a link there
// is changed itself, not what it names.
func (d *Dir) ChownEntry(name string, uid, gid uint32) error {
	return d.err("chown", name, call("fchownat", func() error {
		return unix.Fchownat(d.fd, name, int(uid), int(gid), unix.AT_SYMLINK_NOFOLLOW)
	}))
}

// SetTimesEntry sets the times of the entry called name, see [Dir.ChownEntry].
func (d *Dir) SetTimesEntry(name string, atime, mtime Time) error {
	ts := []unix.Timespec{atime.spec(), mtime.spec()}
	return d.err("utimens", name, call("utimensat", func() error {
		return unix.UtimesNanoAt(d.fd, name, ts, unix.AT_SYMLINK_NOFOLLOW)
	}))
}

// Access asks whether this account may do what mode (unix.R_OK, W_OK, X_OK)
// says with the entry called name, a link there not being followed.
func (d *Dir) Access(name string, mode uint32) error {
	return d.err("access", name, call("faccessat2", func() error {
		return unix.Faccessat2(d.fd, name, mode, unix.AT_EACCESS|unix.AT_SYMLINK_NOFOLLOW)
	}))
}
