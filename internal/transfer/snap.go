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

// Unchanged reports whether an entry of one side is as it was. The ctime of
// the folder itself is left out: the switch renames it.
func (s *Snap) Unchanged(now *Snap, root bool) bool {
	a, b := *s, *now
	if root {
		a.Ctime, b.Ctime = handle.Time{}, handle.Time{}
		a.Nlink, b.Nlink = 0, 0
	}
	return a == b
}

// differs names what of the source's metadata the copy lacks; empty if it
// has all.
func (s *Snap) differs(copied *Snap) string {
	switch {
	case s.Mode != copied.Mode:
		return "type or mode"
	case s.UID != copied.UID || s.GID != copied.GID:
		return "owner or group"
	case s.Mode&0o170000 == 0o100000 && s.Size != copied.Size:
		return "size"
	case s.Mtime != copied.Mtime:
		return "modification time"
	case s.Attrs != copied.Attrs:
		return "extended attributes"
	}
	return ""
}

// recent reports a file changed so shortly before the moment at that a
// second change could carry the same time stamps: at least 20 ms, the time
// step of common file systems.
func (s *Snap) recent(at time.Time, step time.Duration) bool {
	limit := at.Add(-max(step, 20*time.Millisecond))
	return s.Mtime.Std().After(limit) || s.Ctime.Std().After(limit)
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
