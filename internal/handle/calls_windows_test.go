package handle

import (
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"

	"nexlin/internal/ea"
	"nexlin/internal/junction"
)

// answering has the system answer otherwise, as Windows itself, for the rest of a test: what is not
// changed goes to the system below.
func answering(t *testing.T, change func(c *calls)) {
	t.Helper()
	real, emulated := system, Emulated
	t.Cleanup(func() { system, Emulated, flagsOf = real, emulated, sync.Map{} })
	system, flagsOf = theSystem, sync.Map{}
	system.volume = func(windows.Handle) (uint32, error) {
		return windows.FILE_PERSISTENT_ACLS | windows.FILE_NAMED_STREAMS, nil
	}
	system.security = func(windows.Handle, windows.SECURITY_INFORMATION) (rightsOf, error) { return rightsOf{}, nil }
	Emulated = func() bool { return false }
	change(&system)
}

// file makes a file in a new directory.
func file(t *testing.T, name string) (*Dir, string) {
	t.Helper()
	d, dir := openTemp(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("redshank"), 0o644))
	return d, dir
}

func attributesOf(t *testing.T, d *Dir, name string) (names []string) {
	t.Helper()
	all, err := d.Xattrs(name)
	require.NoError(t, err)
	for _, x := range all {
		names = append(names, x.Name+"="+string(x.Value))
	}
	return names
}

// Another's ownership and rights that were given are seen where a file system keeps them; one that
// keeps none answers all the same, and says that it has set them.
func TestRightsOfOthers(t *testing.T) {
	const other = "S-1-5-21-9-9-9-1001"
	sid, err := windows.StringToSid(other)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		flags uint32
		is    rightsOf
		want  []string
	}{
		"all inherited":       {windows.FILE_PERSISTENT_ACLS, rightsOf{nil, "D:AI(A;ID;FA;;;WD)"}, nil},
		"another's":           {windows.FILE_PERSISTENT_ACLS, rightsOf{sid, "D:"}, []string{ownerXattr + "=" + other}},
		"given":               {windows.FILE_PERSISTENT_ACLS, rightsOf{nil, "D:(A;;FR;;;WD)"}, []string{daclXattr + "=D:(A;;FR;;;WD)"}},
		"low":                 {windows.FILE_PERSISTENT_ACLS, rightsOf{nil, "S:(ML;;NW;;;LW)"}, []string{labelXattr + "=S:(ML;;NW;;;LW)"}},
		"high":                {windows.FILE_PERSISTENT_ACLS, rightsOf{nil, "S:(ML;;NW;;;HI)"}, []string{aboveXattr + "=S:(ML;;NW;;;HI)"}},
		"no rights are kept":  {windows.FILE_NAMED_STREAMS, rightsOf{sid, "D:(A;;FA;;;WD)"}, nil},
		"nothing can be told": {0, rightsOf{sid, "D:(A;;FA;;;WD)"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			d, _ := file(t, "f")
			asked := 0
			answering(t, func(c2 *calls) {
				c2.volume = func(windows.Handle) (uint32, error) { return c.flags, nil }
				c2.security = func(windows.Handle, windows.SECURITY_INFORMATION) (rightsOf, error) {
					asked++
					return c.is, nil
				}
				c2.setSecurity = func(_ windows.Handle, _ windows.SECURITY_INFORMATION, owner *windows.SID,
					_, _ *windows.ACL) error {
					if owner != nil {
						return windows.ERROR_INVALID_OWNER
					}
					return windows.ERROR_PRIVILEGE_NOT_HELD
				}
			})
			require.Equal(t, c.want, attributesOf(t, d, "f"))
			keeps := c.flags&windows.FILE_PERSISTENT_ACLS != 0
			require.Equal(t, keeps, asked > 0)
			err := d.SetXattr("f", Xattr{ownerXattr, []byte(other)})
			if !keeps {
				require.ErrorIs(t, err, syscall.EOPNOTSUPP)
				_, below, err := d.OpenToOthers()
				require.NoError(t, err)
				require.True(t, below, "nothing is private there")
				return
			}
			require.ErrorIs(t, err, fs.ErrPermission)
			require.ErrorIs(t, d.SetXattr("f", Xattr{aboveXattr, []byte("S:(ML;;NW;;;HI)")}), fs.ErrPermission)
			for _, a := range c.want {
				name := a[:len(a)-len(a[slices.Index([]byte(a), '='):])]
				require.True(t, IsACL(name))
				require.Equal(t, name == ownerXattr || name == aboveXattr, NeedsRights(name))
			}
		})
	}
}

// What Linux subsystems keep of an entry comes over; what the system keeps of its content does not.
func TestExtendedAttributesOfSubsystems(t *testing.T) {
	uid, err := ea.Encode(ea.Attribute{Name: "$LXUID", Value: []byte{1, 2, 3, 4}})
	require.NoError(t, err)
	d, _ := file(t, "f")
	answering(t, func(c *calls) {
		c.query = func(h windows.Handle, class uint32, out []byte) (uintptr, error) {
			if class == 7 {
				binary.LittleEndian.PutUint32(out, uint32(len(uid)))
				return 4, nil
			}
			return theSystem.query(h, class, out)
		}
		c.queryEA = func(_ windows.Handle, out []byte) (uintptr, error) { return uintptr(copy(out, uid)), nil }
		c.setEA = func(windows.Handle, []byte) error { return windows.NTStatus(0xC000004F) }
	})
	require.Equal(t, []string{eaXattr + "$LXUID=\x01\x02\x03\x04"}, attributesOf(t, d, "f"))
	require.ErrorIs(t, d.SetXattr("f", Xattr{eaXattr + "$LXUID", []byte{1}}), syscall.EOPNOTSUPP)
}

// What an entry's tag and marks say is what it is.
func TestTagsAndMarks(t *testing.T) {
	const reparse, recallOnData, offline = windows.FILE_ATTRIBUTE_REPARSE_POINT, 0x400000, windows.FILE_ATTRIBUTE_OFFLINE
	for name, c := range map[string]struct {
		attributes, tag uint32
		is              uint64
		link            bool
	}{
		"a file":                              {windows.FILE_ATTRIBUTE_ARCHIVE, 0, 0, false},
		"compressed":                          {windows.FILE_ATTRIBUTE_COMPRESSED, 0, AttrCompressed, false},
		"compressed by the system":            {reparse, 0x80000017, 0, false},
		"deduplicated":                        {reparse, 0x80000013, 0, false},
		"a provider's, whose content is here": {reparse, 0x9000601a, 0, false},
		"a provider's, whose content is elsewhere": {reparse | recallOnData, 0x9000601a, AttrPlaceholder, false},
		"moved to slower storage":                  {offline, 0, AttrPlaceholder, false},
		"of a kind nobody knows":                   {reparse, 0x80001234, AttrPlaceholder, false},
		"a symbolic link":                          {reparse, junction.SymlinkTag, 0, true},
		"a link of another kind":                   {reparse, 0xa000001d, 0, true},
		"encrypted":                                {windows.FILE_ATTRIBUTE_ENCRYPTED, 0, AttrEncrypted, false},
	} {
		t.Run(name, func(t *testing.T) {
			d, _ := file(t, "f")
			answering(t, func(s *calls) {
				s.query = func(h windows.Handle, class uint32, out []byte) (n uintptr, err error) {
					if class == 35 {
						binary.LittleEndian.PutUint32(out[4:], c.tag)
						return 8, nil
					}
					n, err = theSystem.query(h, class, out)
					if class == 18 {
						binary.LittleEndian.PutUint32(out[32:], c.attributes)
					}
					return n, err
				}
			})
			st, err := d.Stat("f")
			require.NoError(t, err)
			require.Equal(t, c.link, st.IsSymlink())
			require.Equal(t, c.is, st.Attributes)
			require.GreaterOrEqual(t, st.Allocated, int64(0))
			if !c.link {
				require.GreaterOrEqual(t, st.Allocated, st.Size, "only a sparse file has holes")
			}
		})
	}
}

// An older system removes and replaces in its own way; one that refuses for a moment is tried again
// by whoever asked, and nothing has changed.
func TestOlderWaysAndScanners(t *testing.T) {
	d, dir := file(t, "old")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new"), []byte("new"), 0o644))
	refusal := error(windows.STATUS_INVALID_INFO_CLASS)
	answering(t, func(c *calls) {
		c.set = func(h windows.Handle, class uint32, in []byte) error {
			if class == 64 || class == 65 {
				return refusal
			}
			return theSystem.set(h, class, in)
		}
	})
	refusal = windows.STATUS_SHARING_VIOLATION
	err := d.Replace("new", d, "old")
	require.True(t, Passing(err), "%v", err)
	require.FileExists(t, filepath.Join(dir, "new"))
	refusal = windows.STATUS_INVALID_INFO_CLASS
	require.NoError(t, d.Replace("new", d, "old"))
	require.NoFileExists(t, filepath.Join(dir, "new"))
	require.NoError(t, d.SetXattr("old", Xattr{attribXattr, binary.BigEndian.AppendUint32(nil, windows.FILE_ATTRIBUTE_READONLY)}))
	require.NoError(t, d.Unlink("old"))
	require.NoFileExists(t, filepath.Join(dir, "old"))
}

// Whatever the system says of a drive or a file that it can't open is told as what it is.
func TestRefusedOpening(t *testing.T) {
	d, _ := file(t, "f")
	for status, is := range map[error]func(error) bool{
		windows.STATUS_DEVICE_NOT_CONNECTED: Gone, windows.STATUS_VOLUME_DISMOUNTED: Gone,
		windows.STATUS_NO_SUCH_DEVICE: Gone, windows.STATUS_SHARING_VIOLATION: Passing,
		windows.STATUS_OBJECT_NAME_NOT_FOUND: Missing,
		windows.STATUS_VIRUS_INFECTED:        func(err error) bool { return err != nil && isOne(err, []error{ErrScanned}) },
		windows.STATUS_FVE_LOCKED_VOLUME:     func(err error) bool { return err != nil && isOne(err, []error{ErrLocked}) },
	} {
		answering(t, func(c *calls) {
			c.create = func(windows.Handle, string, uint32, uint32, uint32) (windows.Handle, error) { return 0, status }
		})
		_, err := d.OpenFile("f")
		require.True(t, is(err), "%v: %v", status, err)
		require.Equal(t, is(fs.ErrNotExist), Missing(err), "%v", status)
	}
}

// Files are handed over to the drive, and flushed one by one where that can't be; what can't be opened
// past the cache is read through it, and that is told.
func TestFlushesAndReadBack(t *testing.T) {
	d, _ := file(t, "f")
	flushed, unbuffered := 0, false
	var refused error
	answering(t, func(c *calls) {
		c.flush = func(windows.Handle) error { flushed++; return nil }
		c.handOver = func(windows.Handle) error { return refused }
		c.create = func(at windows.Handle, name string, access, disposition, options uint32) (windows.Handle, error) {
			if options&windows.FILE_NO_INTERMEDIATE_BUFFERING != 0 {
				if unbuffered = true; refused != nil {
					return 0, refused
				}
			}
			return theSystem.create(at, name, access, disposition, options)
		}
	})
	for want, status := range []error{nil, windows.STATUS_INVALID_PARAMETER} {
		refused, unbuffered = status, false
		f, err := d.OpenFile("f")
		require.NoError(t, err)
		require.NoError(t, f.Flush())
		require.Equal(t, want, flushed)
		require.Equal(t, status == nil, f.Uncache(0, 0))
		require.True(t, unbuffered)
		b := make([]byte, 100)
		n, err := f.Read(b)
		require.NoError(t, err)
		require.Equal(t, "redshank", string(b[:n]))
		require.NoError(t, f.Close())
	}
}

// A directory that tells case apart is marked, and a place that a volume is mounted in leads to that
// volume and nowhere else.
func TestDirectoriesThatAreSpecial(t *testing.T) {
	d, dir := openTemp(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	const volume = `\\?\Volume{a5c1d0e2-0001-4b5e-8c11-0b0a57a1e002}\`
	target := volume
	answering(t, func(c *calls) {
		c.query = func(h windows.Handle, class uint32, out []byte) (uintptr, error) {
			if class == 71 {
				out[0] = 1
				return 4, nil
			}
			return theSystem.query(h, class, out)
		}
		c.control = func(_ windows.Handle, _ uint32, _, out []byte) (uint32, error) {
			data, err := junction.Encode(target)
			return uint32(copy(out, data)), err
		}
	})
	require.True(t, d.Marks().Handling)
	root, ok := volumeAt(d.fd, "in")
	require.True(t, ok)
	require.Equal(t, `\??\`+volume[len(`\\?\`):], root)
	for _, target = range []string{volume + "deeper", `C:\somewhere`, `C:\`} {
		_, ok = volumeAt(d.fd, "in")
		require.False(t, ok, target)
	}
}
