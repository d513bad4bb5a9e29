package macos

import (
	"bytes"
	"encoding/binary"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// answer is what getattrlist(2) answers to a request for the access list: its length, a
// reference, and what it refers to.
func answer(l *AccessList) []byte {
	change := Change(l)
	return append(binary.LittleEndian.AppendUint32(nil, uint32(4+len(change))), change...)
}

func TestAccessListsComeBackAsTheyWere(t *testing.T) {
	documents := &AccessList{Entries: []Entry{
		{Who: everyone, Flags: Deny, Rights: DeleteRight},
		{Who: [16]byte{1, 2, 3}, Flags: Permit | 1<<4 | 1<<5 | 1<<6, Rights: ReadData},
	}}
	got, err := FromAnswer(answer(documents))
	require.NoError(t, err)
	require.Equal(t, documents, got)
	got, err = Decode(documents.Encode())
	require.NoError(t, err)
	require.Equal(t, documents, got)

	for name, b := range map[string][]byte{
		"nothing is there":  binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint32(nil, 12), 8),
		"it was taken away": answer(nil),
	} {
		got, err := FromAnswer(b)
		require.NoError(t, err, name)
		require.Nil(t, got, name)
	}
}

func TestWhoDeniesDeleting(t *testing.T) {
	other := Entry{Who: [16]byte{1}, Flags: Deny, Rights: DeleteRight}
	all := Entry{Who: everyone, Flags: Deny, Rights: ReadData | DeleteRight}
	allowed, below, reading := all, all, all
	allowed.Flags, below.Flags, reading.Rights = Permit, Deny|onlyBelow, ReadData
	for name, c := range map[string]struct {
		entries []Entry
		denies  bool
	}{
		"nobody":             {nil, false},
		"one account":        {[]Entry{other}, false},
		"granted":            {[]Entry{allowed}, false},
		"only what is below": {[]Entry{below}, false},
		"only reading":       {[]Entry{reading}, false},
		"everybody, second":  {[]Entry{other, all}, true},
	} {
		require.Equal(t, c.denies, (&AccessList{Entries: c.entries}).KeepsFromDeleting(), name)
	}
	require.False(t, (*AccessList)(nil).KeepsFromDeleting())
}

func FuzzAccessLists(f *testing.F) {
	f.Add(answer(Sample(501)))
	f.Add(Sample(501).Encode())
	f.Add(answer(&AccessList{}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if l, err := FromAnswer(b); err == nil && l != nil {
			again, err := FromAnswer(answer(l))
			require.NoError(t, err)
			require.Equal(t, l, again)
		}
		if l, err := Decode(b); err == nil {
			require.Equal(t, len(b), len(l.Encode()))
		}
	})
}

// fork answers as getxattr(2) does for a resource fork: from any place, and a buffer that is too
// small is filled.
func fork(value []byte) func([]byte, uint32) (int, error) {
	return func(buf []byte, from uint32) (int, error) {
		rest := value[min(int(from), len(value)):]
		if buf == nil {
			return len(rest), nil
		}
		return copy(buf, rest[:min(len(rest), 1000)]), nil // a part at a time
	}
}

func TestAttributesAreReadToTheirEnd(t *testing.T) {
	large := bytes.Repeat([]byte("skerry"), 1<<19) // 3 MiB
	got, err := ReadWhole(fork(large))
	require.NoError(t, err)
	require.True(t, bytes.Equal(large, got))
	got, err = ReadWhole(fork(nil))
	require.NoError(t, err)
	require.Empty(t, got)

	// One that grows between the question and the reading.
	calls, value := 0, []byte("short")
	got, err = ReadWhole(func(buf []byte, from uint32) (int, error) {
		if calls++; calls == 2 {
			value = []byte("a longer one")
		}
		switch {
		case from > 0:
			return 0, syscall.EINVAL
		case buf == nil:
			return len(value), nil
		case len(buf) < len(value):
			return 0, syscall.ERANGE
		}
		return copy(buf, value), nil
	})
	require.NoError(t, err)
	require.Equal(t, "a longer one", string(got))

	_, err = ReadWhole(func([]byte, uint32) (int, error) { return Largest + 1, nil })
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = ReadWhole(func([]byte, uint32) (int, error) { return 0, syscall.EIO })
	require.ErrorIs(t, err, syscall.EIO)
}

func TestFirmlinksAreNoMounts(t *testing.T) {
	for at, c := range map[string]struct {
		mounted string
		root    bool
	}{
		"/":                    {"/", true},
		"/Users":               {"/System/Volumes/Data", false},
		"/System/Volumes/Data": {"/System/Volumes/Data", true},
		"/Volumes/BASALT":      {"/Volumes/BASALT", true},
	} {
		require.Equal(t, c.root, MountRoot(at, c.mounted), at)
	}
}

func TestNamesThatStandForAttributes(t *testing.T) {
	for name, of := range map[string]string{"._reef.jpg": "reef.jpg", "._": "", "reef.jpg": "", ".hidden": ""} {
		got, is := Beside(name)
		require.Equal(t, of != "", is, name)
		if is {
			require.Equal(t, of, got)
		}
	}
	require.True(t, Guarded("com.apple.provenance"))
	require.False(t, Guarded("user.note"))
}

// What a volume is called and known by is read where the answer says that it lies, and nowhere else.
func TestVolumesAreNamed(t *testing.T) {
	id := [16]byte{0xba, 0x5a, 0x17}
	answer := func(off, n uint32) []byte {
		b := binary.LittleEndian.AppendUint32(nil, 64)
		b = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, off), n)
		return append(append(b, id[:]...), "BASALT\x00rest"...)
	}
	for what, c := range map[string]struct {
		answer []byte
		name   string
	}{
		"as it should be": {answer(24, 7), "BASALT"}, "no name": {answer(24, 0), ""}, "too long": {answer(24, 90), ""},
		"over the UUID": {answer(8, 7), ""}, "before": {answer(1<<31, 7), ""},
	} {
		uuid, name := NameAndUUID(c.answer)
		require.Equal(t, id, uuid, what)
		require.Equal(t, c.name, name, what)
	}
	uuid, name := NameAndUUID(answer(24, 7)[:20])
	require.Zero(t, uuid)
	require.Empty(t, name)
}
