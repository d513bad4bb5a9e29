package macos

import (
	"encoding/binary"
	"errors"
	"slices"
)

// Whether an [Entry] grants or denies (sys/kauth.h, KAUTH_ACE_KINDMASK).
const (
	Permit = 1
	Deny   = 2
	kinds  = 0xf
)

// onlyBelow is the flag of an [Entry] that counts for what is made below, and not for the entry
// itself.
const onlyBelow = 1 << 8

// Rights of an [Entry] (sys/kauth.h).
const (
	ReadData    = 1 << 1
	DeleteRight = 1 << 4
)

// An Entry of an access list grants or denies rights to one account or group.
type Entry struct {
	Who    [16]byte // the account's or group's UUID
	Flags  uint32   // what it does, whence it came, to what below it goes on
	Rights uint32
}

// An AccessList is what a file has beside its permissions; the first entry that
// speaks of a right and a person decides. Flags say what it takes from directories above.
type AccessList struct {
	Flags   uint32
	Entries []Entry
}

// ErrAccessList reports bytes that are no access list.
var ErrAccessList = errors.New("the access list is damaged")

const (
	magic     = 0x012cc16d // KAUTH_FILESEC_MAGIC
	head      = 4 + 16 + 16
	none      = 0xffffffff // KAUTH_FILESEC_NOACL
	most      = 128        // KAUTH_ACL_MAX_ENTRIES
	entrySize = 16 + 4 + 4
	keptFlags = 3 << 16 // KAUTH_ACL_NO_INHERIT, KAUTH_ACL_DEFER_INHERIT
)

// reference is the size of what says where in an answer the bytes of an attribute
// lie (attrreference_t).
const reference = 8

// FromAnswer reads the access list in the answer to a request for [ExtendedSecurity]; nil if the
// entry has none. The error is [ErrAccessList].
func FromAnswer(answer []byte) (*AccessList, error) {
	// The answer begins with its own length.
	if len(answer) < 4+reference {
		return nil, ErrAccessList
	}
	off := int64(int32(binary.LittleEndian.Uint32(answer[4:]))) + 4 // counted from the reference itself
	n := int64(binary.LittleEndian.Uint32(answer[8:]))
	if n == 0 {
		return nil, nil
	}
	if off < 4+reference || off+n > int64(len(answer)) || n < head+4 {
		return nil, ErrAccessList
	}
	b := answer[off : off+n]
	if binary.LittleEndian.Uint32(b) != magic {
		return nil, ErrAccessList
	}
	b = b[head:]
	if binary.LittleEndian.Uint32(b) == none {
		return nil, nil
	}
	return parse(b, binary.LittleEndian)
}

// parse reads number of entries, flags, entries.
func parse(b []byte, order binary.ByteOrder) (*AccessList, error) {
	if len(b) < 8 {
		return nil, ErrAccessList
	}
	n := order.Uint32(b)
	l := &AccessList{Flags: order.Uint32(b[4:]) & keptFlags}
	if b = b[8:]; n > most || int(n)*entrySize > len(b) {
		return nil, ErrAccessList
	}
	for ; n > 0; n-- {
		e := Entry{Flags: order.Uint32(b[16:]), Rights: order.Uint32(b[20:])}
		copy(e.Who[:], b)
		l.Entries, b = append(l.Entries, e), b[entrySize:]
	}
	return l, nil
}

// bytes writes number of entries, flags, entries.
func (l *AccessList) bytes(b []byte, order binary.AppendByteOrder) []byte {
	b = order.AppendUint32(order.AppendUint32(b, uint32(len(l.Entries))), l.Flags)
	for _, e := range l.Entries {
		b = order.AppendUint32(order.AppendUint32(append(b, e.Who[:]...), e.Flags), e.Rights)
	}
	return b
}

// Change is the buffer for setattrlist(2) by which an entry gets the access list; nil takes
// away what it has.
func Change(l *AccessList) []byte {
	b := make([]byte, reference, 64)
	b = binary.LittleEndian.AppendUint32(b, magic)
	b = append(b, make([]byte, 16+16)...) // owner and group stay what they are
	if l == nil {
		b = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, none), 0)
	} else {
		b = l.bytes(b, binary.LittleEndian)
	}
	binary.LittleEndian.PutUint32(b, reference)
	binary.LittleEndian.PutUint32(b[4:], uint32(len(b)-reference))
	return b
}

// Encode writes an access list as the value of an attribute, the same bytes on every machine.
func (l *AccessList) Encode() []byte { return l.bytes(nil, binary.BigEndian) }

// Decode reads what [AccessList.Encode] has written. It is hostile input; the error is
// [ErrAccessList].
func Decode(b []byte) (*AccessList, error) {
	l, err := parse(b, binary.BigEndian)
	if err == nil && (len(b) != 8+len(l.Entries)*entrySize) {
		return nil, ErrAccessList
	}
	return l, err
}

// everyone is the group with number 12, to which every account belongs.
var everyone = [16]byte{0xab, 0xcd, 0xef, 0xab, 0xcd, 0xef, 0xab, 0xcd, 0xef, 0xab, 0xcd, 0xef, 0, 0, 0, 12}

// KeepsFromDeleting reports whether an entry denies everybody deleting what has the list, which
// keeps it from being renamed, too. Home folders such as Documents have one.
func (l *AccessList) KeepsFromDeleting() bool {
	return l != nil && slices.ContainsFunc(l.Entries, func(e Entry) bool {
		return e.Flags&kinds == Deny && e.Flags&onlyBelow == 0 && e.Rights&DeleteRight != 0 && e.Who == everyone
	})
}

// Sample is an access list of one entry, by which is tried whether a drive keeps any: an account may
// read.
func Sample(uid uint32) *AccessList {
	e := Entry{Who: [16]byte{0xff, 0xff, 0xee, 0xee, 0xdd, 0xdd, 0xcc, 0xcc, 0xbb, 0xbb, 0xaa, 0xaa}, Flags: Permit,
		Rights: ReadData}
	binary.BigEndian.PutUint32(e.Who[12:], uid)
	return &AccessList{Entries: []Entry{e}}
}
