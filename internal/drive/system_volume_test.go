package drive

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
)

// fakeMachine answers as a system does whose mounts and whose files are as given.
type fakeMachine struct {
	all    []Drive
	mounts map[string]uint64 // the mount on which what begins with a path lies
	free   map[uint64]int64  // by the mount
}

func (m *fakeMachine) list() ([]Drive, error) { return joined(m.all), nil }

func (m *fakeMachine) lstat(path string) (handle.Stat, error) {
	longest := ""
	for p := range m.mounts {
		if strings.HasPrefix(path, p) && len(p) > len(longest) {
			longest = p
		}
	}
	return handle.Stat{Mode: handle.TypeDir | 0o755, Mount: m.mounts[longest], Dev: m.mounts[longest]}, nil
}

func (m *fakeMachine) measure(d *Drive) error {
	st, err := m.lstat(d.root())
	d.Size, d.Free = 1<<40, m.free[st.Mount]
	return err
}

func (m *fakeMachine) identify(d *Drive) { d.UUID, d.Label = "of "+d.root(), "named "+d.Mount }

// The folders of a home lie on the volume with the data, below the path of the sealed one: the
// first user's move began with a drive that was "elsewhere".
func TestTheSystemsTwoVolumesAreOneDrive(t *testing.T) {
	home := t.TempDir() // a path that is there
	m := &fakeMachine{
		all: []Drive{
			{Mount: "/", FS: "apfs", ReadOnly: true, device: "1:1", mountID: 1},
			{Mount: "/System/Volumes/VM", FS: "apfs", pseudo: true, device: "1:5", mountID: 5},
			{Mount: dataVolume, FS: "apfs", pseudo: true, device: "1:2", mountID: 2},
			{Mount: "/Volumes/BASALT", FS: "apfs", device: "1:3", mountID: 3, NoOwners: true},
		},
		mounts: map[string]uint64{"/": 1, home: 2, dataVolume: 2, "/Volumes/BASALT": 3},
		free:   map[uint64]int64{1: 1, 2: 2000, 3: 3000},
	}
	s := &System{machine: m}
	for _, path := range []string{home, "/", home + "/not/there/yet"} {
		d, err := s.Of(path)
		require.NoError(t, err, path)
		require.Equal(t, "/", d.Mount, path)
		require.False(t, d.ReadOnly, path)
		require.Equal(t, int64(2000), d.Free, path)
		require.Equal(t, "of "+dataVolume, d.UUID, path)
		require.Equal(t, "named /", d.Label, path)
		require.True(t, d.System(), path)
	}
	list, err := s.List(false)
	require.NoError(t, err)
	var at []string
	for _, d := range list {
		at = append(at, d.Mount)
	}
	require.Equal(t, []string{"/", "/Volumes/BASALT"}, at)
	attached, err := s.Attached()
	require.NoError(t, err)
	require.Len(t, attached, 2)

	// Without such a pair nothing is joined.
	for _, all := range [][]Drive{m.all[:2], m.all[2:], nil} {
		require.Equal(t, all, joined(all))
	}
}

// A volume that is locked is no drive yet; whatever lies there is told to be behind the lock.
func TestLockedVolume(t *testing.T) {
	s := &System{machine: &fakeMachine{all: []Drive{{Mount: "/", device: "1", mountID: 1},
		{Mount: "/nothing here", Locked: true}}, mounts: map[string]uint64{"/": 1}}}
	list, err := s.List(true)
	require.NoError(t, err)
	require.Len(t, list, 1)
	locked, err := s.Locked()
	require.NoError(t, err)
	require.Equal(t, []string{"/nothing here"}, locked)
	var known *NotFoundError
	_, err = s.Find("BASALT")
	require.ErrorAs(t, err, &known)
	require.Contains(t, err.Error(), "/nothing here is locked")
}
