package inventory

import (
	"strings"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"nexlin/internal/handle"
)

// Limits are what a target's file system can't keep, as tried there. The
// zero value can keep everything.
type Limits struct {
	NoSymlinks  bool
	NoJunctions bool // nor links of Windows, on NTFS
	NoHardLinks bool
	MaxNames    uint32 // most names that a file can have; 0 means no limit
	NoNodes     bool   // FIFOs and sockets
	NoDevices   bool
	NoXattrs    bool // user.*
	NoACLs      bool
	NoHoles     bool
	LinkBytes   int  // longest text of a symbolic link; 0 means no limit
	LinkText    bool // texts of symbolic links have to be UTF-8
	XattrText   bool // names of attributes have to be UTF-8
	XattrUser   bool // only user.* attributes
	XattrBytes  int  // most that the attributes of an entry may take; 0 means no limit

	FixedOwner bool   // every entry belongs to UID and GID
	UID, GID   uint32 // only with FixedOwner
	FixedMode  bool   // every entry has FileMode or DirMode
	FileMode   uint32 // permission bits; only with FixedMode
	DirMode    uint32

	AllOwners bool // owners are kept and ignored: every account there has every entry's rights

	BadBytes  string // bytes that no name may hold
	OnlyText  bool   // names have to be UTF-8
	NoTrail   bool   // names may not end in a space or a full stop
	Reserved  bool   // names such as CON and NUL are taken
	NameBytes int    // longest name in bytes; 0 means no limit
	NameUnits int    // longest name in UTF-16 units; 0 means no limit
	Folds     bool   // names that differ in case alone are one
	Composes  bool   // names that differ in Unicode normalisation alone are one

	MaxFile  int64         // largest file in bytes; 0 means no limit
	TimeStep time.Duration // times are rounded to it; 0 and 1 ns mean exact
	NoTimes  bool          // times are not kept at all
	Oldest   int64         // seconds since 1970: earlier times can't be kept
	Newest   int64         // later times can't be kept; 0 means no limit
}

// A Loss is a kind of thing that an entry would lose on the target.
type Loss int

// The losses, gravest first.
const (
	LossName    Loss = iota // the name can't be kept
	LossCollide             // two names become one
	LossSymlink
	LossNode
	LossSize
	LossYear    // the time can't be kept at all
	LossPrivate // private, and would become readable for others
	LossHardLink
	LossOwner
	LossMode
	LossACL
	LossXattr
	LossXattrFit // some of its attributes are too large, or of a kind that is not kept
	LossPath     // the path inside the folder is too long to be reached
	LossTime
	LossHole
	losses
)

// maxPath bounds paths inside a folder, in bytes: the kernel takes 4095 for
// one with what stands before it.
const maxPath = 3800

// lost adds what e would lose to the facts; names that collide are found by
// [Limits.collisions].
func (l *Limits) lost(f *Facts, e *Entry) {
	st := &e.Stat
	lose := func(what Loss, if_ bool) {
		if if_ {
			f.Lost[what].add(e.Path)
		}
	}
	link := st.IsSymlink()
	lose(LossName, e.Path != "." && !l.nameFits(e.Name))
	lose(LossSymlink, link && !l.linkFits(st))
	lose(LossPath, len(e.Path) > maxPath)
	lose(LossNode, st.IsDevice() && l.NoDevices || isNode(st) && l.NoNodes)
	lose(LossHardLink, !st.IsDir() && l.splits(st))
	lose(LossOwner, l.FixedOwner && (st.UID != l.UID || st.GID != l.GID))
	if st.IsRegular() {
		lose(LossSize, l.MaxFile > 0 && st.Size > l.MaxFile)
		lose(LossHole, l.NoHoles && st.Allocated < st.Size/2 && st.Size >= 64<<10)
	}
	if !link {
		lose(LossMode, l.FixedMode && st.Perm() != l.modeOf(st))
		lose(LossPrivate, l.exposes(st))
	}
	lose(LossYear, l.NoTimes || l.Newest != 0 && (st.Mtime.Sec < l.Oldest || st.Mtime.Sec > l.Newest))
	lose(LossTime, handle.Rounded(st.Mtime, l.TimeStep) != st.Mtime)
}

// exposes reports an entry that is private and would not be there.
func (l *Limits) exposes(st *handle.Stat) bool {
	return st.Mode&0o077 == 0 && (l.AllOwners || l.FixedMode && l.modeOf(st)&0o077 != 0)
}

// modeOf is the mode that every file, or every directory, has where modes are fixed.
func (l *Limits) modeOf(st *handle.Stat) uint32 {
	if st.IsDir() {
		return l.DirMode
	}
	return l.FileMode
}

func (l *Limits) linkFits(st *handle.Stat) bool {
	return !l.NoSymlinks && (l.LinkBytes == 0 || st.Size <= int64(l.LinkBytes))
}

// splits reports whether names of one file become files of their own.
func (l *Limits) splits(st *handle.Stat) bool {
	return st.Nlink > 1 && l.NoHardLinks || l.MaxNames > 0 && st.Nlink > l.MaxNames
}

func (l *Limits) lostXattrs(f *Facts, e *Entry, xattrs []handle.Xattr) {
	acl, other, odd, size := false, false, false, 0
	for _, x := range xattrs {
		size += len(x.Name) + len(x.Value) + 24 // about what ext4 keeps beside them
		switch {
		case SystemLabel(x.Name):
		case IsACL(x.Name):
			acl = true
		default:
			odd = odd || l.XattrText && !utf8.ValidString(x.Name) || l.XattrUser && !strings.HasPrefix(x.Name, "user.")
			other = true
		}
	}
	if acl && l.NoACLs {
		f.Lost[LossACL].add(e.Path)
	}
	if !l.NoXattrs && (odd || l.XattrBytes > 0 && size > l.XattrBytes) {
		f.Lost[LossXattrFit].add(e.Path)
	}
	if other && l.NoXattrs {
		f.Lost[LossXattr].add(e.Path)
	}
}

func isNode(st *handle.Stat) bool {
	t := st.Type()
	return t == handle.TypeFIFO || t == handle.TypeSocket
}

// IsACL reports an attribute that holds rights.
func IsACL(name string) bool { return handle.IsACL(name) }

func (l *Limits) nameFits(name string) bool {
	if l.BadBytes != "" && strings.ContainsAny(name, l.BadBytes) {
		return false
	}
	if l.OnlyText && !utf8.ValidString(name) {
		return false
	}
	if l.NoTrail && (strings.HasSuffix(name, ".") || strings.HasSuffix(name, " ")) {
		return false
	}
	if l.Reserved && reserved(name) {
		return false
	}
	if l.NameBytes > 0 && len(name) > l.NameBytes {
		return false
	}
	return l.NameUnits == 0 || len(utf16.Encode([]rune(name))) <= l.NameUnits
}

// reserved reports the names that stand for devices on some systems, with
// any extension.
func reserved(name string) bool {
	stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
	stem = strings.TrimRight(stem, " ")
	switch stem {
	case "CON", "PRN", "AUX", "NUL":
		return true
	}
	return len(stem) == 4 && (strings.HasPrefix(stem, "COM") || strings.HasPrefix(stem, "LPT")) && stem[3] >= '1' &&
		stem[3] <= '9'
}

// key is what the target tells names apart by.
func (l *Limits) key(name string) string {
	if l.Composes {
		name = norm.NFD.String(name)
	}
	if !l.Folds || !utf8.ValidString(name) {
		return name
	}
	return strings.Map(func(r rune) rune {
		least := r
		for o := unicode.SimpleFold(r); o != r; o = unicode.SimpleFold(o) {
			least = min(least, o)
		}
		return least
	}, name)
}

// collisions lists the names of one directory that would become one.
func (l *Limits) collisions(dir *handle.Dir, each func(name string)) error {
	if !l.Folds && !l.Composes {
		return nil
	}
	last, lastKey, told := "", "", false
	return dir.EachNameBy(l.key, func(name string) error {
		key := l.key(name)
		if last != "" && key == lastKey {
			if !told {
				each(last)
			}
			each(name)
			told = true
		} else {
			told = false
		}
		last, lastKey = name, key
		return nil
	})
}
