// Package ea reads and writes extended attributes of Windows as bytes, as the system's calls
// take and answer them (FILE_FULL_EA_INFORMATION, MS-FSCC 2.4.16). Linux subsystems keep owners,
// modes and device numbers in them. It makes no system call.
package ea

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
)

// An Attribute is one of them. Names are ASCII, and told apart without regard to case.
type Attribute struct {
	Name  string
	Value []byte
}

// ErrMalformed reports bytes that are none.
var ErrMalformed = errors.New("these are not the bytes of extended attributes")

const (
	head    = 8   // next, flags, length of the name, length of the value
	longest = 254 // bytes of a name
)

// Parse reads a chain of attributes; every length is checked. The error is [ErrMalformed].
func Parse(b []byte) (out []Attribute, err error) {
	for {
		if len(b) < head {
			return nil, ErrMalformed
		}
		next, name := binary.LittleEndian.Uint32(b), int(b[5])
		value := int(binary.LittleEndian.Uint16(b[6:]))
		end := head + name + 1 + value // the name ends in a zero byte
		if name == 0 || name > longest || end > len(b) || bytes.IndexByte(b[head:], 0) != name {
			return nil, ErrMalformed
		}
		out = append(out, Attribute{string(b[head : head+name]), append([]byte(nil), b[end-value:end]...)})
		if next == 0 {
			return out, nil
		}
		if uint64(next) < uint64(end) || uint64(next) > uint64(len(b)) {
			return nil, ErrMalformed
		}
		b = b[next:]
	}
}

// Encode writes one attribute; an empty value takes it away. The error is [ErrMalformed] for one that
// can't be written.
func Encode(a Attribute) ([]byte, error) {
	if a.Name == "" || len(a.Name) > longest || len(a.Value) > 1<<16-1 || strings.ContainsRune(a.Name, 0) {
		return nil, ErrMalformed
	}
	b := make([]byte, head, head+len(a.Name)+1+len(a.Value))
	b[5] = byte(len(a.Name))
	binary.LittleEndian.PutUint16(b[6:], uint16(len(a.Value)))
	return append(append(append(b, a.Name...), 0), a.Value...), nil
}

// SystemsOwn reports an attribute that the system itself keeps of a file's content, and takes away when
// that changes: no program can set it.
func SystemsOwn(name string) bool {
	name = strings.ToUpper(name)
	return strings.HasPrefix(name, "$KERNEL.") || strings.HasPrefix(name, "$CI.")
}
