// Package drive knows the drives: where each is mounted, what file system it
// carries, its size and room, by what it is known again wherever it is
// mounted (drive tag, file system UUID), and what it can keep, which is
// found out by trying.
//
// Stand-in drives, folders described in a file with a capacity and an
// identity of their own, are drives like others to every caller.
//
// It does not know redirects, and it writes nothing but the drive tag and
// the trial directory.
package drive

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// A Drive is a mounted volume. Sizes are in bytes.
type Drive struct {
	Label    string // its own label; empty if it has none
	Mount    string // where it is mounted
	FS       string // file system, as the kernel names it
	Source   string // device or server, as the kernel names it
	UUID     string // of the file system; empty if it has none or the kernel doesn't tell
	Tag      *Tag   // the drive tag in its root; nil if there is none
	Size     int64
	Free     int64 // free to ordinary accounts
	Block    int64
	Inodes   int64 // free inodes; -1 where the file system makes them as needed
	ReadOnly bool
	Memory   bool // what it holds is gone when the machine stops
	Fuse     bool
	Loop     bool // backed by a file on another drive
	Network  bool
	Standin  bool
	NoOwners bool   // who owns an entry is ignored there: every account may do what its owner may
	Locked   bool   // encrypted, and not opened: nothing else is known of it
	Spinning bool   // its heads have to move from place to place
	Options  string // mount options

	inner   string // the file system behind FUSE, in lower case; empty if that is not known
	pseudo  bool   // holds no files of people's
	mountID uint64
	reach   reach
	device  string // major:minor, or the stand-in's id: one per file system
}

// reach is how a drive is reached whose top directory is not at its mount point.
type reach struct {
	top    string // where that is; empty if it is the mount point
	alsoID uint64 // the other mount of a drive that has two volumes; 0 if there is none
}

// Name is what people call the drive: its label, or where it is mounted.
func (d *Drive) Name() string {
	if d.Label != "" {
		return d.Label
	}
	return d.Mount
}

// ID is the drive tag's id, or the UUID of the file system; empty if the
// drive has neither.
func (d *Drive) ID() string {
	if d.Tag != nil {
		return d.Tag.ID
	}
	return d.UUID
}

// Identity is what the drive is called by in documents: the UUID of its file
// system, and the id of its tag where it has none. A drive may have several tags.
func (d *Drive) Identity() string { return cmp.Or(d.UUID, d.ID()) }

// Same reports whether two drives are one file system: subvolumes and bind
// mounts of one are one drive.
func (d *Drive) Same(o *Drive) bool { return d.device == o.device }

// Holds reports whether what was looked at lies on this very mount of the drive.
func (d *Drive) Holds(st *handle.Stat) bool {
	return st.Mount != 0 && (st.Mount == d.mountID || st.Mount == d.reach.alsoID)
}

// root is where the drive's own top directory is reached.
func (d *Drive) root() string { return cmp.Or(d.reach.top, d.Mount) }

// Option reports whether the drive is mounted with an option such as nosuid.
func (d *Drive) Option(name string) bool {
	return slices.Contains(strings.Split(d.Options, ","), name)
}

// maxNames is how many names a file can have, where that is fewer than anybody
// would try (pathconf(3), _PC_LINK_MAX).
var maxNames = map[string]uint32{"ext2": 32_000, "ext3": 32_000, "ext4": 65_000, "btrfs": 65_535, "jfs": 65_535,
	"ntfs": 1024, "ntfs3": 1024, "ntfs-3g": 1024}

// MaxNames is how many names a file on this drive can have; 0 where that is no
// limit anybody meets.
func (d *Drive) MaxNames() uint32 { return maxNames[d.fileSystem()] }

// NTFS reports a drive with the file system that has junctions.
func (d *Drive) NTFS() bool { return strings.HasPrefix(d.fileSystem(), "ntfs") }

// fat are the names that systems have for the file systems that keep no inode numbers: each
// makes them up while an entry is in memory.
var fat = []string{"fat", "fat12", "fat16", "fat32", "vfat", "msdos", "exfat", "texfat"}

// UnstableInodes reports a drive whose entries get other inode numbers when it is mounted
// again, or earlier.
func (d *Drive) UnstableInodes() bool { return d.Fuse || slices.Contains(fat, d.fileSystem()) }

// ForWindows reports a drive that Windows reads, as far as its file system
// tells.
func (d *Drive) ForWindows() bool {
	return d.NTFS() || d.fileSystem() == "refs" || slices.Contains(fat, d.fileSystem())
}

// FileSystem is what people call the drive's file system, and how it is reached.
func (d *Drive) FileSystem() string {
	if d.Fuse {
		return cmp.Or(d.inner, d.FS) + " through FUSE"
	}
	return d.FS
}

func (d *Drive) fileSystem() string { return strings.ToLower(cmp.Or(d.inner, d.FS)) }

// Reserve is what Nexlin leaves free on a drive of this size, in bytes: two
// hundredths of it, not more than a gibibyte, so that the drive stays usable.
func (d *Drive) Reserve() int64 { return min(d.Size/50, 1<<30) }

// Short is how much room the drive lacks for so many bytes beside its reserve; 0 if it has it.
func (d *Drive) Short(need int64) int64 { return max(need+d.Reserve()-d.Free, 0) }

// A System finds drives. The zero value sees the machine's own.
type System struct {
	standins []standin
	File     string  // the stand-in file in force; empty if none
	machine  machine // nil is this machine; tests put another in its place
}

// A machine is what is asked for drives.
type machine interface {
	// list gives every mount; room and identity are not asked for yet.
	list() ([]Drive, error)
	// lstat is [handle.Lstat].
	lstat(path string) (handle.Stat, error)
	// measure asks for size and room.
	measure(d *Drive) error
	// identify asks for UUID, label and drive tag. What can't be learnt stays empty.
	identify(d *Drive)
}

// thisMachine asks the system that Nexlin runs on.
type thisMachine struct{}

func (thisMachine) list() ([]Drive, error)                 { return mounts() }
func (thisMachine) lstat(path string) (handle.Stat, error) { return handle.Lstat(path) }
func (thisMachine) measure(d *Drive) error                 { return d.measure() }
func (thisMachine) identify(d *Drive)                      { d.identify() }

func (s *System) asked() machine {
	if s.machine == nil {
		return thisMachine{}
	}
	return s.machine
}

// ErrNoDrive reports a path that lies on nothing we know as a drive.
var ErrNoDrive = errors.New("no drive is known here")

// List gives the drives, by mount point. With all, also what is usually
// left out: memory, overlays, second mounts of one file system. With
// stand-ins in force, they alone are listed unless all is set.
func (s *System) List(all bool) ([]Drive, error) {
	return s.list(all, func(d *Drive) bool {
		return !all && (d.pseudo || d.Memory)
	})
}

// Attached gives every mount that a redirect's data may lie on, second mounts
// of one file system too. Network file systems are left out, since looking at
// one whose server is gone takes for ever. With stand-ins in force, they
// alone are given.
func (s *System) Attached() ([]Drive, error) {
	return s.list(s.File == "", func(d *Drive) bool { return d.Network || d.pseudo })
}

func (s *System) list(all bool, without func(*Drive) bool) ([]Drive, error) {
	var out []Drive
	for i := range s.standins {
		if d, ok := s.standins[i].drive(); ok {
			out = append(out, d)
		}
	}
	if s.File != "" && !all {
		return out, nil
	}
	asked := s.asked()
	found, err := asked.list()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, d := range found {
		if without(&d) || !all && seen[d.device] || !d.shows(asked) || asked.measure(&d) != nil || d.Size == 0 && !all {
			continue
		}
		asked.identify(&d)
		seen[d.device] = true
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(a, b Drive) int { return cmp.Compare(a.Mount, b.Mount) })
	return out, nil
}

// shows reports whether the drive's top directory can be looked at where it is mounted.
func (d *Drive) shows(asked machine) bool {
	if d.Locked {
		return false
	}
	st, err := asked.lstat(d.root())
	// Of some systems a drive's top directory is shown as a link to it.
	if err != nil || !st.IsDir() && !st.IsSymlink() {
		return false
	}
	// Else another drive is mounted over it, and its path leads there; a letter has one.
	return st.Mount == 0 || d.mountID == 0 || d.Holds(&st) || handle.Windows
}

// Locked gives the mount points of drives that are here and locked: what they hold is whole, and
// can't be seen before somebody opens them with their password.
func (s *System) Locked() ([]string, error) {
	var out []string
	for i := range s.standins {
		if s.standins[i].Locked {
			out = append(out, s.standins[i].Path)
		}
	}
	if s.File != "" {
		return out, nil
	}
	found, err := s.asked().list()
	for _, d := range found {
		if d.Locked {
			out = append(out, d.Mount)
		}
	}
	return out, err
}

func (d *Drive) measure() error {
	r, err := handle.RoomAt(d.root())
	// Free is what accounts have, for an administrator, too: what the file
	// system keeps back is for the system to breathe, and part of it can't be
	// had by anybody.
	d.Size, d.Free, d.Block, d.Inodes = r.Size, r.Free, r.Block, r.Inodes
	return err
}

// Of finds the drive that path lies on; what does not exist yet counts as
// its nearest ancestor that does.
func (s *System) Of(path string) (Drive, error) { return s.Once()(path) }

// Once gives what answers like [System.Of] and asks for each mount once: for many paths, one
// after the other, in a short time.
func (s *System) Once() func(path string) (Drive, error) {
	known := map[uint64]Drive{}
	return func(path string) (Drive, error) {
		at, err := Existing(path)
		if err != nil {
			return Drive{}, s.orLocked(path, err)
		}
		real, err := handle.Real(at)
		if err != nil {
			return Drive{}, err
		}
		none := &fs.PathError{Op: "drive", Path: path, Err: ErrNoDrive}
		for i := range s.standins {
			if s.standins[i].holds(real) {
				if d, ok := s.standins[i].drive(); ok {
					return d, nil
				}
				return Drive{}, none
			}
		}
		asked := s.asked()
		st, err := asked.lstat(real)
		if err != nil {
			return Drive{}, err
		}
		if d, is := known[st.Mount]; is {
			return d, nil
		}
		found, err := asked.list()
		if err != nil {
			return Drive{}, err
		}
		for _, d := range found {
			if d.Holds(&st) || d.Network && pathtext.Within(real, d.Mount) && d.reached() && d.Holds(&st) {
				if err := asked.measure(&d); err != nil {
					return Drive{}, err
				}
				asked.identify(&d)
				known[st.Mount] = d
				return d, nil
			}
		}
		return Drive{}, none
	}
}

// orLocked is a *[LockedError] where a path lies on a drive that is locked, else err.
func (s *System) orLocked(path string, err error) error {
	locked, e := s.Locked()
	for _, mount := range locked {
		if e == nil && pathtext.Within(path, mount) {
			return &LockedError{mount}
		}
	}
	return err
}

// Existing gives path itself if something stands there, else the nearest
// ancestor that exists.
func Existing(path string) (string, error) {
	for {
		_, err := os.Stat(path)
		if err == nil {
			return path, nil
		}
		parent := filepath.Dir(path)
		// A link that leads nowhere is no ancestor to build on.
		if _, lerr := os.Lstat(path); lerr == nil || !errors.Is(err, fs.ErrNotExist) || parent == path {
			return "", err
		}
		path = parent
	}
}

// Refresh measures size and room again.
func (s *System) Refresh(d *Drive) error {
	if !d.Standin {
		return s.asked().measure(d)
	}
	for i := range s.standins {
		if s.standins[i].ID == d.device {
			now, ok := s.standins[i].drive()
			if !ok {
				return &fs.PathError{Op: "drive", Path: d.Mount, Err: ErrNoDrive}
			}
			d.Size, d.Free = now.Size, now.Free
		}
	}
	return nil
}
