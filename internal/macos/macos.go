// Package macos knows what macOS's file calls take and answer, as bytes and values: requests
// for attributes, lists of access, attributes that are read in parts, names that stand for
// what a drive can't keep.
//
// It makes no system call, so it is the same on every system, and its tests run on each.
// Sources are the manual pages getattrlist(2), setattrlist(2), getxattr(2), chmod(1), and the
// headers sys/attr.h, sys/kauth.h and sys/stat.h.
package macos

import (
	"bytes"
	"encoding/binary"
	"path"
	"slices"
	"strings"
)

// Bits of a [Request], and of what volumes say they can (sys/attr.h).
const (
	CreationTime     = 0x00000200 // ATTR_CMN_CRTIME
	ModificationTime = 0x00000400 // ATTR_CMN_MODTIME
	AccessTime       = 0x00001000 // ATTR_CMN_ACCTIME
	ExtendedSecurity = 0x00400000 // ATTR_CMN_EXTENDED_SECURITY

	VolumeInfo = 0x80000000 // ATTR_VOL_INFO
	VolumeName = 0x00002000 // ATTR_VOL_NAME
	VolumeCan  = 0x00020000 // ATTR_VOL_CAPABILITIES
	VolumeUUID = 0x00040000 // ATTR_VOL_UUID
)

// A Request is the list of attributes that a call is about (struct attrlist). Answers have
// them in the order of their bits.
type Request struct {
	Count, _                         uint16
	Common, Volume, Dir, File, Forks uint32
}

// Common asks for attributes that every entry has.
func Common(bits uint32) *Request { return &Request{Count: 5, Common: bits} }

// OfVolume asks for attributes of a volume.
func OfVolume(bits uint32) *Request { return &Request{Count: 5, Volume: VolumeInfo | bits} }

// DeleteOK is the question to faccessat(2) whether an entry itself may be deleted, which is
// also what renaming it takes (sys/unistd.h, _DELETE_OK).
const DeleteOK = 1 << 12

// MountRoot reports whether a directory whose parent is on another device is the root of a
// mount: mountedAt is where statfs(2) says that its file system is mounted. A firmlink,
// such as /Users, leads to another device and is no mount.
func MountRoot(at, mountedAt string) bool {
	return at == "/" || path.Base(at) == path.Base(mountedAt)
}

// Guarded reports an attribute that the system sets and guards itself: where a file came
// from, which programs may open it, what belongs to the system. It can't be set, and a
// copy gets its own.
func Guarded(name string) bool {
	switch name {
	case "com.apple.provenance", "com.apple.macl", "com.apple.rootless":
		return true
	}
	return false
}

// beside is what the name of a file begins with that keeps the attributes of another one, on
// a drive without attributes of its own.
const beside = "._"

// Beside gives the entry whose attributes a file called name keeps; false if that is not
// what it is called for.
func Beside(name string) (of string, is bool) {
	of, is = strings.CutPrefix(name, beside)
	return of, is && of != ""
}

// WithoutAttributes leaves out of the names in a directory those of files that keep the
// attributes of another one there: they belong to it. exists says whether the directory
// has an entry of a name. One whose other is gone is a file like any.
func WithoutAttributes(names []string, exists func(name string) bool) []string {
	return slices.DeleteFunc(names, func(name string) bool {
		of, is := Beside(name)
		return is && exists(of)
	})
}

// KeepsAttributesApart reads the answer to a request for [VolumeCan]: whether the volume has no
// attributes of its own (sys/attr.h, VOL_CAP_INT_EXTENDED_ATTR).
func KeepsAttributesApart(answer []byte) bool {
	const interfaces, extendedAttributes = 1, 0x4000
	// Its length, then four words of what the volume can and four that say which of those count.
	can, counts := 4+4*interfaces, 4+16+4*interfaces
	if len(answer) < counts+4 {
		return false
	}
	return binary.LittleEndian.Uint32(answer[counts:])&extendedAttributes != 0 &&
		binary.LittleEndian.Uint32(answer[can:])&extendedAttributes == 0
}

// NameAndUUID reads the answer to a request for [VolumeName] and [VolumeUUID]; zero where the volume has
// none.
func NameAndUUID(answer []byte) (uuid [16]byte, name string) {
	// Its length, then the name's place, counted from there, and length, then the UUID.
	const head = 4 + reference + 16
	if len(answer) < head {
		return uuid, ""
	}
	copy(uuid[:], answer[4+reference:])
	off := int64(int32(binary.LittleEndian.Uint32(answer[4:]))) + 4
	n := int64(binary.LittleEndian.Uint32(answer[8:]))
	if off >= head && n > 0 && off+n <= int64(len(answer)) {
		text, _, _ := bytes.Cut(answer[off:off+n], []byte{0})
		name = string(text)
	}
	return uuid, name
}
