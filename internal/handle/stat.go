package handle

import (
	"io/fs"
	"time"
)

// A Time is a point in time as file systems keep it; it reaches further
// than time.Time's nanosecond count.
type Time struct {
	Sec  int64
	Nsec uint32
}

// Std converts t for printing and for measuring distances.
func (t Time) Std() time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }

// After reports whether t is later than u.
func (t Time) After(u Time) bool {
	return t.Sec > u.Sec || t.Sec == u.Sec && t.Nsec > u.Nsec
}

// Rounded is a time as a file system with such a time step keeps it.
func Rounded(t Time, step time.Duration) Time {
	switch {
	case step <= time.Nanosecond:
		return t
	case step < time.Second:
		t.Nsec -= t.Nsec % uint32(step)
		return t
	}
	s := int64(step / time.Second)
	t.Nsec = 0
	t.Sec -= ((t.Sec % s) + s) % s
	return t
}

// The kinds of entry in the type bits of a mode and the bits beside the
// permissions, as inode(7) has them, on every system.
const (
	TypeMask    = 0o170000
	TypeSocket  = 0o140000
	TypeSymlink = 0o120000
	TypeRegular = 0o100000
	TypeBlock   = 0o060000
	TypeDir     = 0o040000
	TypeChar    = 0o020000
	TypeFIFO    = 0o010000

	SetUID = 0o4000
	SetGID = 0o2000
	Sticky = 0o1000
)

// What [Stat.Attributes] may have in it.
const (
	AttrImmutable   = 1 << iota // can't be changed or renamed
	AttrAppend                  // can only grow
	AttrEncrypted               // by the file system
	AttrPlaceholder             // its content is elsewhere and fetched by reading it
	AttrDirLink                 // a link that says itself that it leads to a directory (NTFS)
	AttrNoDump                  // not for dumps, see dump(8)
	AttrCompressed              // by the file system
)

// An Xattr is one extended attribute (xattr(7)).
type Xattr struct {
	Name  string
	Value []byte
}

// A Stat is what statx(2) says of an entry, or what comes nearest to it. Sizes are in bytes.
type Stat struct {
	Dev, Ino            uint64
	Mode                uint32 // type and permissions, as in stat(2)
	Nlink               uint32
	UID, GID            uint32
	Size                int64
	Allocated           int64 // bytes of blocks in use
	Rdev                uint64
	Atime, Mtime, Ctime Time
	Mount               uint64 // mount id; 0 where the kernel does not tell
	Attributes          uint64 // Attr…
	MountRoot           bool   // the root of a mount
}

// The kinds of entry, by the type bits of the mode.
func (s *Stat) IsDir() bool     { return s.Mode&TypeMask == TypeDir }
func (s *Stat) IsRegular() bool { return s.Mode&TypeMask == TypeRegular }
func (s *Stat) IsSymlink() bool { return s.Mode&TypeMask == TypeSymlink }

// IsDevice reports a character or block device node.
func (s *Stat) IsDevice() bool {
	return s.Mode&TypeMask == TypeChar || s.Mode&TypeMask == TypeBlock
}

// Type is the type bits of the mode, [TypeRegular] and so on.
func (s *Stat) Type() uint32 { return s.Mode & TypeMask }

// Perm is the permission bits with setuid, setgid and sticky.
func (s *Stat) Perm() uint32 { return s.Mode & 0o7777 }

// AdministratorsAlone reports whether an entry is the administrator's, and nobody else may
// write to it.
func (s *Stat) AdministratorsAlone() bool { return s.UID == 0 && s.Perm()&0o022 == 0 }

// SameInode reports whether two stats are of one and the same entry.
func (s *Stat) SameInode(o *Stat) bool {
	return s.Dev == o.Dev && s.Ino == o.Ino && s.Type() == o.Type()
}

// Elsewhere reports that an entry below a folder lies on another mount or in
// another subvolume than the folder itself. An overlay gives files the device
// numbers of their layers: where the kernel tells mounts apart by itself, only
// the number of a directory counts.
func (s *Stat) Elsewhere(folder *Stat) bool {
	if s.MountRoot || s.Mount != folder.Mount {
		return true
	}
	return s.Dev != folder.Dev && (s.IsDir() || s.Mount == 0)
}

// A FileID names a file on this machine while its file system is mounted.
type FileID struct{ Dev, Ino uint64 }

// ID is what s is known by.
func (s *Stat) ID() FileID { return FileID{s.Dev, s.Ino} }

// Stat looks at the entry called name, a link there not being followed.
func (d *Dir) Stat(name string) (Stat, error) {
	var s Stat
	err := statAt(d.fd, name, &s)
	return s, d.err("stat", name, err)
}

// StatInto is [Dir.Stat] into a value of the caller's.
func (d *Dir) StatInto(name string, s *Stat) error {
	return d.err("stat", name, statAt(d.fd, name, s))
}

// Self looks at d itself.
func (d *Dir) Self() (Stat, error) {
	var s Stat
	err := statOpen(d.fd, &s)
	return s, d.err("stat", ".", err)
}

// Lstat looks at a path that a person named; the last component is not
// followed, the ones before it are.
func Lstat(path string) (Stat, error) {
	var s Stat
	if err := statPath(path, &s); err != nil {
		return s, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	return s, nil
}

// Marks are what a file system notes of an entry beside its attributes, and a
// copy elsewhere has not.
type Marks struct {
	FoldsCase bool   // names in a directory that differ in case alone are one
	Project   uint32 // for quotas; 0 is none
	Handling  bool   // written in place, written through, or read without noting it
}

// Marks looks at the marks of d; none where the file system has no such thing.
func (d *Dir) Marks() Marks { return sysMarks(d.fd) }

// Marks looks at the marks of f, as [Dir.Marks].
func (f *File) Marks() Marks { return sysMarks(f.fd) }

// Session names the time for which the file system of d has been mounted: it
// is another one after the next mount and the next start of the machine.
// Empty where the system does not tell.
func (d *Dir) Session() (string, error) {
	session, err := sysSession(d.fd)
	return session, d.err("stat", ".", err)
}

// Room is what a file system says of its room, in bytes but for Inodes.
type Room struct {
	Size, Free, Block int64 // Free is what ordinary accounts may use
	Inodes            int64 // free inodes; -1 where they are made as needed
}

// RoomAt measures the file system that path, which must exist, lies on.
func RoomAt(path string) (Room, error) {
	r, err := sysRoom(path)
	if err != nil {
		err = &fs.PathError{Op: "statfs", Path: path, Err: err}
	}
	return r, err
}
