package handle

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"nexlin/internal/ea"
	"nexlin/internal/sddl"
)

// What entries have here beside their content is shown as extended
// attributes, under the names that ntfs-3g gives them where it has one: then
// whatever copies, compares and records attributes does so with these.
const (
	attribXattr = "system.ntfs_attrib_be" // read-only, hidden, system, not indexed; 4 bytes
	daclXattr   = "windows.dacl"          // rights that were given beside the inherited ones, as SDDL
	ownerXattr  = "windows.owner"         // SID of an owner that is not this account
	labelXattr  = "windows.label"         // integrity level that was given to it, as SDDL
	aboveXattr  = "windows.label.above"   // such a level above that of ordinary programs
	streamXattr = "user."                 // + name of an alternate data stream
	eaXattr     = "windows.ea."           // + name of an extended attribute, those of Linux subsystems among them
)

// streamLimit is the largest stream that is held in memory, in bytes.
const streamLimit = 16 << 20

const kept = windows.FILE_ATTRIBUTE_READONLY | windows.FILE_ATTRIBUTE_HIDDEN | windows.FILE_ATTRIBUTE_SYSTEM |
	windows.FILE_ATTRIBUTE_NOT_CONTENT_INDEXED

// Xattrs reads what the entry called name in d has beside its content, by
// name in byte order; "." is d itself: the attributes read-only, hidden and
// system, alternate data streams, an owner that is another account, and rights
// that are not inherited.
func (d *Dir) Xattrs(name string) (out []Xattr, err error) {
	err = call("listxattr", func() error { out, err = xattrs(d.fd, name); return err })
	slices.SortFunc(out, func(a, b Xattr) int { return strings.Compare(a.Name, b.Name) })
	return out, d.err("getxattr", name, err)
}

// XattrsOf is [Dir.Xattrs]: an open entry can't be exchanged under its name here.
func (d *Dir) XattrsOf(_ *File, name string) ([]Xattr, error) { return d.Xattrs(name) }

// SetXattrOf is [Dir.SetXattr], see [Dir.XattrsOf].
func (d *Dir) SetXattrOf(_ *File, name string, x Xattr) error { return d.SetXattr(name, x) }

// DropInherited does nothing: what is inherited is no part of what is compared.
func (d *Dir) DropInherited() error { return nil }

// DropInherited does nothing, see [Dir.DropInherited].
func (f *File) DropInherited() error { return nil }

func xattrs(at descriptor, name string) (out []Xattr, err error) {
	var hasExtended bool
	err = on(at, name, 0, func(h windows.Handle) error {
		var basic [40]byte
		if err := query(h, windows.FileBasicInformation, basic[:]); err != nil {
			return err
		}
		attrs := binary.LittleEndian.Uint32(basic[32:])
		if attrs&kept != 0 {
			out = append(out, Xattr{attribXattr, binary.BigEndian.AppendUint32(nil, attrs&kept)})
		}
		if attrs&windows.FILE_ATTRIBUTE_REPARSE_POINT != 0 {
			return nil
		}
		const fileEaInformation = 7
		var size [4]byte // of the extended attributes; a file system without them does not tell
		hasExtended = query(h, fileEaInformation, size[:]) == nil && binary.LittleEndian.Uint32(size[:]) > 0
		names, err := streams(h)
		for _, s := range names {
			value, e := readStream(at, name, s)
			err = errors.Join(err, e)
			out = append(out, Xattr{streamXattr + s, value})
		}
		return err
	})
	if err == nil && hasExtended {
		var eas []Xattr
		eas, err = extended(at, name)
		out = append(out, eas...)
	}
	if err != nil {
		return nil, err
	}
	var st Stat
	if err := statAt(at, name, &st); err != nil {
		return nil, err
	}
	if st.IsSymlink() {
		return out, nil // what a link says is all there is to it
	}
	if !keepsRights(at) {
		return out, nil // what it answers is made up
	}
	rights, err := security(at, name)
	return append(out, rights...), err
}

// extended reads the extended attributes of an entry that has some, but for those that the system
// keeps by itself (NtQueryEaFile).
func extended(at descriptor, name string) (out []Xattr, err error) {
	err = on(at, name, windows.FILE_READ_EA, func(h windows.Handle) error {
		b := make([]byte, 128<<10) // all of an entry take 64 KiB at most
		n, err := system.queryEA(h, b)
		const noEAs = windows.NTStatus(0xC0000052)
		if errors.Is(err, noEAs) {
			return nil
		}
		if err != nil {
			return portable(err)
		}
		all, err := ea.Parse(b[:min(uintptr(len(b)), n)])
		for _, a := range all {
			if !ea.SystemsOwn(a.Name) {
				out = append(out, Xattr{eaXattr + a.Name, a.Value})
			}
		}
		return err
	})
	return out, err
}

// setExtended sets an extended attribute; an empty value takes it away (NtSetEaFile).
func setExtended(at descriptor, name string, a ea.Attribute) error {
	b, err := ea.Encode(a)
	if err != nil {
		return syscall.EINVAL
	}
	return on(at, name, windows.FILE_WRITE_EA, func(h windows.Handle) error {
		err := system.setEA(h, b)
		const notSupported = windows.NTStatus(0xC000004F) // STATUS_EAS_NOT_SUPPORTED
		if errors.Is(err, notSupported) {
			return syscall.EOPNOTSUPP
		}
		return portable(err)
	})
}

// streams lists the alternate data streams (FILE_STREAM_INFORMATION: next 0,
// length of the name 4, name 24). A file system without them has none.
func streams(h windows.Handle) (names []string, err error) {
	const fileStreamInformation = 22
	for size := 4 << 10; ; size *= 4 {
		b := make([]byte, size)
		switch told, err := system.query(h, fileStreamInformation, b); {
		case errors.Is(err, windows.STATUS_BUFFER_OVERFLOW) && size < 1<<20:
			continue
		case err != nil:
			if err = portable(err); errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.EINVAL) {
				return nil, nil
			}
			return nil, err
		case told == 0:
			return nil, nil
		}
		for {
			n := binary.LittleEndian.Uint32(b[4:]) / 2
			name := syscall.UTF16ToString(unsafe.Slice((*uint16)(unsafe.Pointer(&b[24])), n))
			if s, ok := strings.CutSuffix(strings.TrimPrefix(name, ":"), ":$DATA"); ok && s != "" {
				names = append(names, s)
			}
			next := binary.LittleEndian.Uint32(b)
			if next == 0 {
				return names, nil
			}
			b = b[next:]
		}
	}
}

// keepsRights asks whether the file system keeps rights and owners (FILE_PERSISTENT_ACLS): one
// that does not, such as exFAT, says that it has set them, and answers what nobody has set.
func keepsRights(at descriptor) bool {
	if Emulated() {
		return false // it makes rights up from modes, and keeps none
	}
	const persistentACLs = 0x8
	return volumeFlags(at)&persistentACLs != 0
}

// flagsOf remembers what volumes can, by their serial numbers: it is asked for every entry.
var flagsOf sync.Map // uint64: uint32

// volumeFlags is what the volume of an entry can; 0 if it does not tell.
func volumeFlags(at descriptor) uint32 {
	volume, err := volumeOf(at)
	if known, ok := flagsOf.Load(volume); ok && err == nil && volume != 0 {
		return known.(uint32)
	}
	flags, unknown := system.volume(at)
	if unknown != nil {
		return 0
	}
	if err == nil {
		flagsOf.Store(volume, flags)
	}
	return flags
}

// OpenToOthers reports whether other accounts may read d itself, and what is made below it.
func (d *Dir) OpenToOthers() (itself, below bool, err error) {
	if !keepsRights(d.fd) {
		return true, true, nil
	}
	rights, err := system.security(d.fd, windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return false, false, d.err("getxattr", ".", portable(err))
	}
	return sddl.Open(rights.text, false), sddl.Open(rights.text, true), nil
}

// hasStreams asks whether the file system has alternate data streams.
func hasStreams(at descriptor) bool {
	return volumeFlags(at)&windows.FILE_NAMED_STREAMS != 0
}

// openStream opens a stream of an entry; the name of a stream has no
// separator in it.
func openStream(at descriptor, name, stream string, access, disposition uint32) (windows.Handle, error) {
	if name == "." {
		name = ""
	} else if err := plainName(name); err != nil {
		return 0, err
	}
	if plainName(stream) != nil {
		return 0, syscall.EINVAL
	}
	return ntOpen(at, name+":"+stream, access|windows.SYNCHRONIZE, disposition, itself)
}

func readStream(at descriptor, name, stream string) ([]byte, error) {
	h, err := openStream(at, name, stream, windows.FILE_GENERIC_READ, windows.FILE_OPEN)
	if err != nil {
		return nil, err
	}
	f := &File{fd: h, name: name + ":" + stream}
	b, err := io.ReadAll(io.LimitReader(f, streamLimit+1))
	if err == nil && len(b) > streamLimit {
		err = fmt.Errorf("the stream %q has more than %d bytes: %w", stream, streamLimit, syscall.EFBIG)
	}
	return b, errors.Join(err, f.Close())
}

// security gives what rights an entry has beside the inherited ones, and
// whose it is if it is another account's.
func security(at descriptor, name string) (out []Xattr, err error) {
	err = on(at, name, windows.READ_CONTROL, func(h windows.Handle) error {
		has, err := system.security(h,
			windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION|windows.LABEL_SECURITY_INFORMATION)
		if err != nil {
			return portable(err)
		}
		if has.owner != nil && !mine(has.owner) {
			out = append(out, Xattr{ownerXattr, []byte(has.owner.String())})
		}
		if rights := sddl.Explicit(has.text); rights != "" {
			out = append(out, Xattr{daclXattr, []byte(rights)})
		}
		switch label := sddl.Label(has.text); {
		case label == "":
		case sddl.Above(label):
			out = append(out, Xattr{aboveXattr, []byte(label)})
		default:
			out = append(out, Xattr{labelXattr, []byte(label)})
		}
		return nil
	})
	if errors.Is(err, syscall.EOPNOTSUPP) {
		err = nil // a file system that keeps no rights
	}
	return out, err
}

// mine reports this account, and the group of administrators for one of them:
// what such an account makes is theirs.
func mine(sid *windows.SID) bool {
	token := windows.GetCurrentProcessToken()
	user, err := token.GetTokenUser()
	return err == nil && user.User.Sid.Equals(sid) ||
		token.IsElevated() && sid.IsWellKnown(windows.WinBuiltinAdministratorsSid)
}

// IsACL reports an attribute that holds rights: those that were given, and an
// owner that is another account.
func IsACL(name string) bool { return name == daclXattr || name == ownerXattr || isLabel(name) }

func isLabel(name string) bool { return name == labelXattr || name == aboveXattr }

// SampleACL is a list of rights to try a file system with: everything for the
// system, reading for everybody.
func SampleACL() Xattr { return Xattr{Name: daclXattr, Value: []byte("D:(A;;FA;;;SY)(A;;FR;;;WD)")} }

// IsOwner reports the attribute that says that an entry is another account's.
func IsOwner(name string) bool { return name == ownerXattr }

// NeedsRights reports an attribute that only an administrator may set.
func NeedsRights(name string) bool { return name == ownerXattr || name == aboveXattr }

// KeepsFromRemoving has no part here: [Dir.MayRemove] asks.
func KeepsFromRemoving(Xattr) bool { return false }

// OfWindows reports an attribute that is set after all else: one of its bits
// says that the entry is read-only.
func OfWindows(name string) bool { return name == attribXattr }

// SetXattr sets one of what [Dir.Xattrs] gives of the entry called name in d.
func (d *Dir) SetXattr(name string, x Xattr) error {
	return d.err("setxattr "+x.Name, name, call("setxattr", func() error { return setXattr(d.fd, name, x) }))
}

func setXattr(at descriptor, name string, x Xattr) error {
	stream, isStream := strings.CutPrefix(x.Name, streamXattr)
	switch {
	case isStream && !hasStreams(at):
		return syscall.EOPNOTSUPP // some would make a file of that name
	case isStream:
		h, err := openStream(at, name, stream, windows.FILE_GENERIC_WRITE, windows.FILE_OVERWRITE_IF)
		if err != nil {
			return err
		}
		f := &File{fd: h, name: name + ":" + stream}
		_, err = f.Write(x.Value)
		return errors.Join(err, f.Sync(), f.Close())
	case strings.HasPrefix(x.Name, eaXattr):
		return setExtended(at, name, ea.Attribute{Name: x.Name[len(eaXattr):], Value: x.Value})
	case x.Name == attribXattr:
		if len(x.Value) != 4 {
			return syscall.EINVAL
		}
		return setAttributes(at, name, binary.BigEndian.Uint32(x.Value)&kept)
	case IsACL(x.Name) && !keepsRights(at):
		return syscall.EOPNOTSUPP
	case x.Name == daclXattr:
		return setDACL(at, name, string(x.Value))
	case isLabel(x.Name):
		return setLabel(at, name, string(x.Value))
	case x.Name == ownerXattr:
		sid, err := windows.StringToSid(string(x.Value))
		if err != nil {
			return syscall.EINVAL
		}
		return on(at, name, windows.WRITE_OWNER, func(h windows.Handle) error {
			return portable(system.setSecurity(h, windows.OWNER_SECURITY_INFORMATION, sid, nil, nil))
		})
	}
	return syscall.EOPNOTSUPP
}

// setAttributes sets those that are kept and leaves the others.
func setAttributes(at descriptor, name string, attrs uint32) error {
	return on(at, name, windows.FILE_WRITE_ATTRIBUTES, func(h windows.Handle) error {
		var basic [40]byte
		if err := query(h, windows.FileBasicInformation, basic[:]); err != nil {
			return err
		}
		is := binary.LittleEndian.Uint32(basic[32:])
		const settable = windows.FILE_ATTRIBUTE_ARCHIVE | windows.FILE_ATTRIBUTE_TEMPORARY |
			windows.FILE_ATTRIBUTE_OFFLINE
		want := is&settable | attrs
		if want == 0 {
			want = windows.FILE_ATTRIBUTE_NORMAL
		}
		return setBasic(h, nil, nil, want)
	})
}

// setDACL gives an entry rights beside those that it inherits.
func setDACL(at descriptor, name, text string) error {
	sd, err := windows.SecurityDescriptorFromString(text)
	if err != nil {
		return syscall.EINVAL
	}
	dacl, _, err := sd.DACL()
	if err != nil {
		return syscall.EINVAL
	}
	how := windows.SECURITY_INFORMATION(
		windows.DACL_SECURITY_INFORMATION | windows.UNPROTECTED_DACL_SECURITY_INFORMATION)
	if strings.HasPrefix(text, "D:P") {
		how = windows.DACL_SECURITY_INFORMATION | windows.PROTECTED_DACL_SECURITY_INFORMATION
	}
	return on(at, name, windows.WRITE_DAC|windows.READ_CONTROL, func(h windows.Handle) error {
		return portable(system.setSecurity(h, how, nil, dacl, nil))
	})
}

// setLabel gives an entry an integrity level; "S:" takes it away.
func setLabel(at descriptor, name, text string) error {
	sd, err := windows.SecurityDescriptorFromString(text)
	if err != nil {
		return syscall.EINVAL
	}
	sacl, _, err := sd.SACL()
	if err != nil {
		return syscall.EINVAL
	}
	return on(at, name, windows.WRITE_OWNER|windows.READ_CONTROL, func(h windows.Handle) error {
		return portable(system.setSecurity(h, windows.LABEL_SECURITY_INFORMATION, nil, nil, sacl))
	})
}

// RemoveXattr takes one away; that it is not there is no error.
func (d *Dir) RemoveXattr(name, key string) error {
	return d.err("removexattr "+key, name, call("removexattr", func() error {
		stream, isStream := strings.CutPrefix(key, streamXattr)
		switch {
		case isStream:
			h, err := openStream(d.fd, name, stream, windows.DELETE, windows.FILE_OPEN)
			if errors.Is(err, syscall.ENOENT) {
				return nil
			}
			if err != nil {
				return err
			}
			defer windows.CloseHandle(h)
			return set(h, windows.FileDispositionInformation, []byte{1})
		case strings.HasPrefix(key, eaXattr):
			return setExtended(d.fd, name, ea.Attribute{Name: key[len(eaXattr):]})
		case key == attribXattr:
			return setAttributes(d.fd, name, 0)
		case key == daclXattr:
			return setDACL(d.fd, name, "D:")
		case isLabel(key):
			return setLabel(d.fd, name, "S:")
		}
		return nil
	}))
}
