// Package junction writes and reads the bytes of NTFS reparse points that are
// links: junctions (mount points) and symbolic links.
//
// The layout is that of REPARSE_DATA_BUFFER in the published Windows driver
// documentation and of [MS-FSCC] 2.1.2. It is bytes only: setting and getting
// them is the work of package handle.
package junction

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Tags of reparse points (MS-FSCC 2.1.2.1).
const (
	Tag        = 0xA0000003 // IO_REPARSE_TAG_MOUNT_POINT
	SymlinkTag = 0xA000000C // IO_REPARSE_TAG_SYMLINK

	surrogate = 0x20000000 // the bit that says: this stands for another name
)

// IsLink reports whether a tag says that its entry stands for another name.
func IsLink(tag uint32) bool { return tag&surrogate != 0 }

// Known reports whether a tag is that of a junction or a symbolic link: what other kinds of link
// say, those of a Linux subsystem among them, only their own makers know.
func Known(tag uint32) bool { return tag == Tag || tag == SymlinkTag }

// limit is the largest reparse buffer with its header, in bytes
// (MAXIMUM_REPARSE_DATA_BUFFER_SIZE).
const limit = 16 << 10

const (
	header  = 8 // tag, length of what follows, reserved
	offsets = 8 // offset and length of both names
)

// A Link is what a reparse point that is a link says.
type Link struct {
	Tag        uint32
	Substitute string // what the system follows, \??\D:\ines\Documents
	Print      string // what people are shown; may be empty
	Relative   bool   // a symbolic link whose text is relative
}

// Errors of Encode and Decode; both name the target or the place as well.
var (
	ErrTarget    = errors.New("a junction can't lead there")
	ErrMalformed = errors.New("these are not the bytes of a junction or a symbolic link")
)

// Encode gives the bytes of a junction to target: an absolute path with a
// drive letter (D:\ines\Documents), or below a volume's own name
// (\\?\Volume{…}\ines\Documents). The error wraps [ErrTarget]: a network path,
// a relative one, one with . or .. in it or with characters that NTFS names
// can't have, and one too long for a reparse point.
func Encode(target string) ([]byte, error) {
	t, err := Clean(target)
	if err != nil {
		return nil, err
	}
	sub := units(`\??\` + strings.TrimPrefix(t, `\\?\`))
	show := units(t)
	size := func() int { return header + offsets + 2*(len(sub)+1+len(show)+1) }
	if size() > limit {
		show = nil // people are shown the other one
	}
	if size() > limit {
		return nil, fmt.Errorf("%w: %d characters are too many for a junction", ErrTarget, len(sub))
	}
	b := make([]byte, 0, size())
	le := binary.LittleEndian
	b = le.AppendUint32(b, Tag)
	b = le.AppendUint16(b, uint16(size()-header))
	b = le.AppendUint16(b, 0)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint16(b, uint16(2*len(sub)))
	b = le.AppendUint16(b, uint16(2*(len(sub)+1)))
	b = le.AppendUint16(b, uint16(2*len(show)))
	for _, u := range slices.Concat(sub, []uint16{0}, show, []uint16{0}) {
		b = le.AppendUint16(b, u)
	}
	return b, nil
}

// EncodeSubstitute is [Encode] for a target as the system names it, without
// the \??\ that it begins with: what [Link.Substitute] had.
func EncodeSubstitute(target string) ([]byte, error) {
	if letter(target) {
		return Encode(target)
	}
	return Encode(`\\?\` + target)
}

// Clean gives a junction's target its usual form: backslashes, a capital
// drive letter, no separator at the end but the root's. The error wraps
// [ErrTarget].
func Clean(target string) (string, error) {
	fail := func(why string) (string, error) { return "", fmt.Errorf("%w: %q %s", ErrTarget, target, why) }
	if !utf8.ValidString(target) {
		return fail("is no text")
	}
	t := strings.ReplaceAll(target, "/", `\`)
	root, rest := "", ""
	switch {
	case volume(t) != "":
		root, rest = `\\?\`+volume(t), t[len(`\\?\`)+len(volume(t)):]
	case strings.HasPrefix(t, `\\?\UNC\`), strings.HasPrefix(t, `\\`) && !strings.HasPrefix(t, `\\?\`) &&
		!strings.HasPrefix(t, `\\.\`):
		return fail("is on the network: junctions lead to drives of the machine only")
	case letter(strings.TrimPrefix(t, `\\?\`)):
		t = strings.TrimPrefix(t, `\\?\`)
		root, rest = strings.ToUpper(t[:2]), t[2:]
	default:
		return fail(`is no path such as D:\ines\Documents`)
	}
	if rest != "" && rest[0] != '\\' || rest == "" && strings.HasPrefix(root, `\\`) {
		return fail("has no root: a separator must follow the drive")
	}
	for part := range strings.SplitSeq(strings.Trim(rest, `\`), `\`) {
		switch {
		case part == "." || part == ".." || part == "" && strings.Trim(rest, `\`) != "":
			return fail("has a part that is no name")
		case strings.ContainsFunc(part, func(r rune) bool { return r < ' ' || strings.ContainsRune(`<>:"|?*`, r) }):
			return fail("has a character in it that no name has there")
		}
	}
	return root + `\` + strings.Trim(rest, `\`), nil
}

// IsRoot reports a cleaned target that is a drive's root.
func IsRoot(target string) bool {
	v := volume(target)
	return letter(target) && len(target) == len(`D:\`) || v != "" && len(target) == len(`\\?\`+v+`\`)
}

// letter reports a path that begins with a drive letter.
func letter(t string) bool {
	return len(t) >= 2 && t[1] == ':' && (t[0]|0x20) >= 'a' && (t[0]|0x20) <= 'z'
}

// volume gives the Volume{…} at the start of \\?\Volume{…}\…; empty if there
// is none.
func volume(t string) string {
	const begin, guid = `\\?\`, 36
	if len(t) < len(begin)+len("Volume{}")+guid || !strings.HasPrefix(t, begin) ||
		!strings.EqualFold(t[4:11], "Volume{") || t[11+guid] != '}' {
		return ""
	}
	for i, c := range []byte(t[11 : 11+guid]) {
		dash := i == 8 || i == 13 || i == 18 || i == 23
		hex := c >= '0' && c <= '9' || (c|0x20) >= 'a' && (c|0x20) <= 'f'
		if dash != (c == '-') || !dash && !hex {
			return ""
		}
	}
	return t[4 : 12+guid]
}

// TagOf is the tag that reparse bytes begin with; 0 if they are too few.
func TagOf(b []byte) uint32 {
	if len(b) < header {
		return 0
	}
	return binary.LittleEndian.Uint32(b)
}

// Decode reads the bytes of a junction or a symbolic link. They come from a
// disk: every offset is checked. The error wraps [ErrMalformed].
func Decode(b []byte) (Link, error) {
	l := Link{Tag: TagOf(b)}
	names := header + offsets
	if l.Tag == SymlinkTag {
		names += 4 // flags
	}
	switch {
	case l.Tag != Tag && l.Tag != SymlinkTag:
		return l, fmt.Errorf("%w: their tag is %#x", ErrMalformed, l.Tag)
	case len(b) < names || len(b) > limit || int(binary.LittleEndian.Uint16(b[4:])) != len(b)-header:
		return l, fmt.Errorf("%w: %d bytes are not as many as they say", ErrMalformed, len(b))
	}
	if l.Tag == SymlinkTag {
		l.Relative = binary.LittleEndian.Uint32(b[16:])&1 != 0
	}
	for i, to := range []*string{&l.Substitute, &l.Print} {
		off, n := int(binary.LittleEndian.Uint16(b[header+4*i:])), int(binary.LittleEndian.Uint16(b[header+4*i+2:]))
		if off%2 != 0 || n%2 != 0 || off+n > len(b)-names {
			return l, fmt.Errorf("%w: a name reaches out of them", ErrMalformed)
		}
		*to = text(b[names+off : names+off+n])
	}
	if l.Substitute == "" {
		return l, fmt.Errorf("%w: they lead nowhere", ErrMalformed)
	}
	return l, nil
}

// Target is the path a link leads to as people write it: D:\ines\Documents,
// \\?\Volume{…}\…, \\server\share, or a relative text.
func (l Link) Target() string {
	t, ok := strings.CutPrefix(l.Substitute, `\??\`)
	switch {
	case !ok:
		return l.Substitute
	case letter(t):
		return t
	case strings.HasPrefix(t, `UNC\`):
		return `\\` + t[len(`UNC\`):]
	}
	return `\\?\` + t
}

func units(s string) []uint16 { return utf16.Encode([]rune(s)) }

// text reads UTF-16; a surrogate that stands alone becomes U+FFFD.
func text(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}
