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
	"path"
	"strings"
	"sync/atomic"
	"syscall"
)

// ErrMount reports an entry that lies on another mount than its directory.
var ErrMount = errors.New("another file system is mounted here")

// ErrNotDir reports a directory that is none any more.
var ErrNotDir = syscall.ENOTDIR

// A Dir is an open directory. Its methods may be called from several
// goroutines; the zero value is of no use.
type Dir struct {
	fd   descriptor
	path string // for messages only, never resolved again
	refs atomic.Int32
	kind fileSystem // of the file system it lies on, asked once
}

// fileSystem is what is known of one: its number, as statfs(2) has it; 0 is not asked yet.
type fileSystem struct{ number atomic.Int64 }

// Open opens the directory at path. Links on the way are followed, also the
// last one: the path comes from a person, or was resolved before. For a
// path that must not be followed use [OpenReal].
// The error is a *fs.PathError.
func Open(path string) (*Dir, error) {
	return openBy(path, func() (descriptor, error) { return sysOpen(path) })
}

// OpenReal opens the directory at an absolute path in which no component
// may be a link: it walks down from the root one handle at a time. Mounts
// on the way are crossed, since a folder's parents may lie on several.
// The error is a *fs.PathError; ELOOP or ENOTDIR means that a link stands
// in the way.
func OpenReal(path string) (*Dir, error) {
	return openBy(path, func() (descriptor, error) { return sysOpenReal(path) })
}

func newDir(fd descriptor, path string) *Dir {
	d := &Dir{fd: fd, path: path}
	d.refs.Store(1)
	return d
}

// openBy makes a Dir of what f opens at path.
func openBy(path string, f func() (descriptor, error)) (*Dir, error) {
	fd, err := callFor("openat", f)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return newDir(fd, path), nil
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
		sysClose(d.fd)
	case n < 0:
		panic("handle: released once too often: " + d.path)
	}
}

// Path is where d was opened, for messages.
func (d *Dir) Path() string { return d.path }

// Fd is the descriptor, valid until the last release; on Windows the handle.
func (d *Dir) Fd() uintptr { return uintptr(d.fd) }

// RealPath is where d lies now, as the system tells; empty if it doesn't.
func (d *Dir) RealPath() string { return sysPath(d.fd) }

// Join gives the path of name below d, for messages.
func (d *Dir) Join(name string) string {
	if name == "" || name == "." {
		return d.path
	}
	return join(d.path, name)
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
	return openBy(d.Join(name), func() (descriptor, error) { return sysOpenDir(d.fd, name) })
}

// Beneath opens the directory at rel, a relative path of any depth ("." is
// d itself). No link is followed and no mount is crossed: on Linux by
// openat2(2) with BENEATH, NO_SYMLINKS and NO_XDEV.
func (d *Dir) Beneath(rel string) (*Dir, error) {
	return openBy(d.Join(rel), func() (descriptor, error) { return sysBeneath(d.fd, rel) })
}

// Parent opens the directory that holds rel and returns it with rel's last
// component. Like [Dir.Beneath] it follows nothing.
func (d *Dir) Parent(rel string) (*Dir, string, error) {
	dir, name := path.Split(rel)
	if dir == "" {
		return d.Retain(), name, nil
	}
	p, err := d.Beneath(strings.TrimSuffix(dir, "/"))
	return p, name, err
}

// OpenFile opens the regular file called name in d for reading, without
// following a link and without blocking on a FIFO. Access times are left
// alone where this account may ask for that (O_NOATIME, open(2)).
func (d *Dir) OpenFile(name string) (*File, error) {
	fd, err := callFor("openat", func() (descriptor, error) { return sysOpenFile(d.fd, name) })
	if err != nil {
		return nil, d.err("open", name, err)
	}
	return &File{fd: fd, in: d.path, name: name, disk: sysOnDisk(d)}, nil
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
	fd, err := callFor("openat", func() (descriptor, error) { return sysCreate(d.fd, name, mode) })
	if err != nil {
		return nil, d.err("create", name, err)
	}
	return &File{fd: fd, in: d.path, name: name}, nil
}

// Link gives the file called name one more name, newName in to, which must
// not exist (linkat(2)).
func (d *Dir) Link(name string, to *Dir, newName string) error {
	if err := call("linkat", func() error { return sysLink(d.fd, name, to.fd, newName) }); err != nil {
		return &os.LinkError{Op: "link", Old: d.Join(name), New: to.Join(newName), Err: err}
	}
	return nil
}

// Mknod makes a FIFO, a socket's name or a device node, as the type bits of
// mode say (mknod(2)).
func (d *Dir) Mknod(name string, mode uint32, device uint64) error {
	return d.err("mknod", name, call("mknodat", func() error { return sysMknod(d.fd, name, mode, device) }))
}

// ChmodEntry sets the permission bits of the entry called name, which is no
// link.
func (d *Dir) ChmodEntry(name string, mode uint32) error {
	return d.err("chmod", name, call("fchmodat", func() error { return sysChmodEntry(d.fd, name, mode) }))
}

// Mkdir makes the directory called name, which must not exist.
func (d *Dir) Mkdir(name string, mode uint32) error {
	return d.err("mkdir", name, call("mkdirat", func() error { return sysMkdir(d.fd, name, mode) }))
}

// Symlink makes a symbolic link called name with the given text.
func (d *Dir) Symlink(text, name string) error {
	return d.err("symlink", name, call("symlinkat", func() error { return sysSymlink(text, d.fd, name) }))
}

// Readlink returns the text of the symbolic link called name.
func (d *Dir) Readlink(name string) (text string, err error) {
	err = call("readlinkat", func() error { text, err = sysReadlink(d.fd, name); return err })
	return text, d.err("readlink", name, err)
}

// Unlink removes the entry called name, which is no directory.
func (d *Dir) Unlink(name string) error {
	return d.err("remove", name, call("unlinkat", func() error { return sysUnlink(d.fd, name) }))
}

// Rmdir removes the empty directory called name.
func (d *Dir) Rmdir(name string) error {
	return d.err("remove", name, call("rmdir", func() error { return sysRmdir(d.fd, name) }))
}

// Rename gives name in d the name newName in to. An entry that is already
// there is never replaced: the error is then fs.ErrExist (renameat2(2),
// RENAME_NOREPLACE). Where the file system lacks that, it is looked first:
// between the look and the act nobody but this account may write there.
func (d *Dir) Rename(name string, to *Dir, newName string) error {
	err := d.rename(name, to, newName, neverReplace)
	if !errors.Is(err, syscall.EINVAL) {
		return err
	}
	if _, err := to.Stat(newName); err == nil {
		return &os.LinkError{Op: "rename", Old: d.Join(name), New: to.Join(newName), Err: fs.ErrExist}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return d.rename(name, to, newName, mayReplace)
}

// Replace is [Dir.Rename] that replaces what is there.
func (d *Dir) Replace(name string, to *Dir, newName string) error {
	return d.rename(name, to, newName, mayReplace)
}

// Exchange swaps two entries in one act (renameat2(2), RENAME_EXCHANGE).
// A file system that can't answers EINVAL.
func (d *Dir) Exchange(name string, with *Dir, other string) error {
	return d.rename(name, with, other, swap)
}

// A renaming says what becomes of an entry that has the new name already.
type renaming int

const (
	mayReplace renaming = iota
	neverReplace
	swap
)

func (d *Dir) rename(name string, to *Dir, newName string, how renaming) error {
	err := shareRules(d, name, how)
	if err == nil {
		err = call("renameat2", func() error { return sysRename(d.fd, name, to.fd, newName, how) })
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: d.Join(name), New: to.Join(newName), Err: err}
	}
	return nil
}

// Sync flushes the directory itself: the names in it, not what they name.
func (d *Dir) Sync() error {
	return d.err("sync", ".", call("fsync", func() error { return sysSyncDir(d.fd) }))
}

// Flush is [Dir.Sync], as [File.Flush] is [File.Sync].
func (d *Dir) Flush() error {
	return d.err("sync", ".", call("fsync", func() error { return sysFlushDir(d.fd) }))
}

// Created is [File.Created].
func (d *Dir) Created(as *Dir) error { return d.err("utimens", ".", created(sysCreated(d.fd, as.fd))) }

// created passes over that a file system keeps no time at which an entry was made.
func created(err error) error {
	if isOne(err, []error{syscall.EOPNOTSUPP, syscall.EINVAL, syscall.ENOSYS, syscall.EPERM}) {
		return nil
	}
	return err
}

// SyncAll flushes the whole file system that d lies on (syncfs(2)) and
// reports write-back errors that happened since d was opened.
func (d *Dir) SyncAll() error {
	return d.err("sync", ".", call("syncfs", func() error { return sysSyncAll(d.fd) }))
}

// Lock takes a lock on the directory's own handle, shared or exclusive,
// without waiting (flock(2)). It goes with the last release of d. A lock
// that somebody else holds is [syscall.EWOULDBLOCK].
func (d *Dir) Lock(exclusive bool) error {
	return d.err("lock", ".", call("flock", func() error { return sysLock(d.fd, exclusive) }))
}

// Chmod, Chown and SetTimes change d itself through its handle.
func (d *Dir) Chmod(mode uint32) error {
	return d.err("chmod", ".", call("fchmod", func() error { return sysChmod(d.fd, mode) }))
}

// Chown gives d an owner and a group.
func (d *Dir) Chown(uid, gid uint32) error {
	return d.err("chown", ".", call("fchown", func() error { return sysChown(d.fd, uid, gid) }))
}

// SetTimes sets access and modification time of d.
func (d *Dir) SetTimes(atime, mtime Time) error {
	return d.err("utimens", ".", call("utimensat", func() error { return sysSetTimes(d.fd, atime, mtime) }))
}

// ChownEntry and SetTimesEntry work on the entry called name; a link there
// is changed itself, not what it names.
func (d *Dir) ChownEntry(name string, uid, gid uint32) error {
	return d.err("chown", name, call("fchownat", func() error { return sysChownEntry(d.fd, name, uid, gid) }))
}

// SetTimesEntry sets the times of the entry called name, see [Dir.ChownEntry].
func (d *Dir) SetTimesEntry(name string, atime, mtime Time) error {
	return d.err("utimens", name, call("utimensat", func() error { return sysSetTimesEntry(d.fd, name, atime, mtime) }))
}

// What [Dir.Access] asks for, as in access(2).
const (
	MayEnter = 1 << iota
	MayWrite
	MayRead
)

// Access asks whether this account may do what mode ([MayRead], [MayWrite],
// [MayEnter]) says with the entry called name, a link there not being
// followed.
func (d *Dir) Access(name string, mode uint32) error {
	return d.err("access", name, call("faccessat2", func() error { return sysAccess(d.fd, name, mode) }))
}

// MayRemove asks whether this account may remove or rename the entry called name in d as far
// as that is for the entry itself to say: on some systems its own access list can deny it, to
// the owner too (faccessat(2) with _DELETE_OK; the right DELETE). fs.ErrPermission says that it
// does.
func (d *Dir) MayRemove(name string) error {
	return d.err("access", name, call("mayremove", func() error { return sysMayRemove(d.fd, name) }))
}

// Access asks whether this account may do what mode says at a path that a
// person named, links being followed (access(2)).
func Access(path string, mode uint32) error {
	if err := sysAccessPath(path, mode); err != nil {
		return &fs.PathError{Op: "access", Path: path, Err: err}
	}
	return nil
}

// Real is the path at which an absolute one ends up once every link on the way
// is followed, its last component included. A path that leads nowhere is an
// error of the system's.
func Real(path string) (string, error) { return sysReal(path) }

// Spelled is an absolute path with every name on it written as its directory has it, where a file
// system takes another case, another composition of a letter or a short name for the same. A link at
// the end is not followed; those before it have been ([Real]). What is not there, or may not be looked
// at, stays as it is.
func Spelled(path string) string { return sysSpelled(path) }
