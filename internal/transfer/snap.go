package transfer

import (
	"crypto/sha256"
	"encoding/binary"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A Snap is an entry as it was at one moment: any difference between two
// snaps of one side means that somebody changed it.
//
// It has no device number: all entries of a folder lie on one mount, and the
// number of a drive changes with the next start of the machine.
type Snap struct {
	Ino                   uint64
	Size                  int64
	Mtime, Ctime          handle.Time
	Mode, UID, GID, Nlink uint32
	Attrs                 [16]byte // digest of the extended attributes
}

// SnapOf takes a snap. Attributes that the system puts on every file by its
// own rules are left out.
func SnapOf(st *handle.Stat, xattrs []handle.Xattr) Snap {
	s := Snap{
		Ino: st.Ino, Size: st.Size, Mtime: st.Mtime, Ctime: st.Ctime,
		Mode: st.Mode, UID: st.UID, GID: st.GID, Nlink: st.Nlink, Attrs: attrSum(xattrs),
	}
	return s
}

// On is the snap as it is recorded: behind FUSE without the inode number,
// which changes there with every mount.
func (s Snap) On(fuse bool) Snap {
	if fuse {
		s.Ino = 0
	}
	return s
}

func attrSum(xattrs []handle.Xattr) (sum [16]byte) {
	h := sha256.New()
	n := 0
	for _, x := range xattrs {
		if inventory.SystemLabel(x.Name) {
			continue
		}
		n++
		var size [16]byte
		binary.LittleEndian.PutUint64(size[:], uint64(len(x.Name)))
		binary.LittleEndian.PutUint64(size[8:], uint64(len(x.Value)))
		h.Write(size[:])
		h.Write([]byte(x.Name))
		h.Write(x.Value)
	}
	if n == 0 {
		return sum
	}
	copy(sum[:], h.Sum(nil))
	return sum
}

// Unchanged reports whether an entry of one side is as it was. The size of a
// directory is left out, and the ctime of the folder itself: the switch renames it. An inode number that
// was not to be trusted was not recorded.
func (s *Snap) Unchanged(now *Snap, root bool) bool {
	a, b := *s, *now
	if a.Ino == 0 {
		b.Ino = 0
	}
	if a.Mode&handle.TypeMask == handle.TypeDir {
		// It says nothing that the times do not, and NTFS through FUSE gives
		// another one when it has not read the directory.
		a.Size, b.Size = 0, 0
	}
	if root {
		a.Ctime, b.Ctime = handle.Time{}, handle.Time{}
		a.Nlink, b.Nlink = 0, 0
	}
	return a == b
}

// sameStat reports whether a stat is the one this snap was taken from,
// extended attributes left aside.
func (s *Snap) sameStat(st *handle.Stat) bool {
	now := SnapOf(st, nil)
	now.Attrs = s.Attrs
	return s.Unchanged(&now, false)
}

// likely is [Snap.sameStat] without the ctime, for a file whose content and attributes are
// proven all the same.
func (s *Snap) likely(st *handle.Stat) bool {
	now := *st
	now.Ctime = s.Ctime
	return s.sameStat(&now)
}

// Still is [Snap.Unchanged] for the snap of a copy: further names of a file
// may have been made or taken away by Nexlin itself.
func (s *Snap) Still(now *Snap, root bool) bool {
	if s.Nlink > 1 && s.Mode&0o170000 != 0o040000 {
		return s.SameButNames(now)
	}
	return s.Unchanged(now, root)
}

// SameButNames reports whether an entry is as it was, apart from names it
// got or lost elsewhere: those move its link count and ctime.
func (s *Snap) SameButNames(now *Snap) bool {
	a := *now
	a.Ctime, a.Nlink = s.Ctime, s.Nlink
	return s.Unchanged(&a, false)
}

// An Allow says what of the entries' metadata the target can't keep and a
// person accepted to lose. Verification lets pass exactly this.
type Allow struct {
	Owners   bool          `json:"owners,omitempty"`
	Modes    bool          `json:"modes,omitempty"`
	Xattrs   bool          `json:"xattrs,omitempty"` // all but ACLs
	ACLs     bool          `json:"acls,omitempty"`
	Links    bool          `json:"hard_links,omitempty"` // each name gets a file of its own
	TimeStep time.Duration `json:"time_step,omitempty"`  // times may differ by less than this, in nanoseconds
}

// keep picks the attributes that have to arrive.
func (a *Allow) keep(xattrs []handle.Xattr) []handle.Xattr {
	if !a.Xattrs && !a.ACLs && !a.Owners {
		return xattrs
	}
	var out []handle.Xattr
	for _, x := range xattrs {
		if a.Owners && handle.IsOwner(x.Name) {
			continue
		}
		if acl := inventory.IsACL(x.Name); acl && !a.ACLs || !acl && !a.Xattrs {
			out = append(out, x)
		}
	}
	return out
}

// Differs names what of the source's metadata the copy lacks, beyond what is
// allowed; empty if nothing.
func (a *Allow) Differs(want, made *Snap, source, copied []handle.Xattr) string {
	what := a.MetaDiffers(want, made, source, copied)
	switch {
	case what != "":
		return what
	case want.Mode&handle.TypeMask == handle.TypeRegular && want.Size != made.Size:
		return "size"
	case !a.sameTime(want.Mtime, made.Mtime):
		return "modification time"
	}
	return ""
}

// MetaDiffers is [Allow.Differs] without size and times.
func (a *Allow) MetaDiffers(want, made *Snap, source, copied []handle.Xattr) string {
	switch {
	case (want.Mode^made.Mode)&handle.TypeMask != 0:
		return "type"
	case !a.Modes && want.Mode != made.Mode:
		return "mode"
	case !a.Owners && (want.UID != made.UID || want.GID != made.GID):
		return "owner or group"
	case attrSum(a.keep(source)) != attrSum(a.keep(copied)):
		return "extended attributes"
	}
	return ""
}

// Untouched reports whether a stat is the one that the record has of one side:
// nothing has been changed about the entry since.
func (r *Record) Untouched(side Side, st *handle.Stat) bool {
	was := r.Fact.Of(side)
	return was.Ctime != handle.Time{} && was.sameStat(st)
}

func (a *Allow) sameTime(x, y handle.Time) bool {
	if a.TimeStep == 0 || x == y {
		return x == y
	}
	d := time.Duration(x.Sec-y.Sec)*time.Second + time.Duration(int64(x.Nsec)-int64(y.Nsec))
	return max(x.Sec, y.Sec)-min(x.Sec, y.Sec) < 1<<20 && d.Abs() < a.TimeStep
}

// LeastStep is how far apart two changes of a file must lie, at the least, to
// show in its time stamps for certain: kernels keep time in ticks, whatever
// the file system could hold.
const LeastStep = 20 * time.Millisecond

// recent reports a file changed so shortly before it was looked at, at the
// moment at, that a second change could carry the same time stamps. step is the
// file system's; [LeastStep] comes on top of it. A stamp that lies in the
// future was set by hand, or by another clock: a change would move it.
func (s *Snap) recent(at time.Time, step time.Duration) bool {
	limit := at.Add(-step - LeastStep)
	for _, t := range []time.Time{s.Mtime.Std(), s.Ctime.Std()} {
		if t.After(limit) && t.Before(time.Now().Add(step+LeastStep)) {
			return true
		}
	}
	return false
}

func (s *Snap) put(b []byte) []byte {
	le := binary.LittleEndian
	b = le.AppendUint64(b, s.Ino)
	b = le.AppendUint64(b, uint64(s.Size))
	for _, t := range []handle.Time{s.Mtime, s.Ctime} {
		b = le.AppendUint64(b, uint64(t.Sec))
		b = le.AppendUint32(b, t.Nsec)
	}
	for _, n := range []uint32{s.Mode, s.UID, s.GID, s.Nlink} {
		b = le.AppendUint32(b, n)
	}
	return append(b, s.Attrs[:]...)
}

func (s *Snap) get(b []byte) []byte {
	le := binary.LittleEndian
	s.Ino, s.Size = le.Uint64(b), int64(le.Uint64(b[8:]))
	b = b[16:]
	for _, t := range []*handle.Time{&s.Mtime, &s.Ctime} {
		t.Sec, t.Nsec = int64(le.Uint64(b)), le.Uint32(b[8:])
		b = b[12:]
	}
	for _, n := range []*uint32{&s.Mode, &s.UID, &s.GID, &s.Nlink} {
		*n = le.Uint32(b)
		b = b[4:]
	}
	copy(s.Attrs[:], b)
	return b[16:]
}
