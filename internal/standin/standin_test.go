//go:build linux

package standin

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image/jpeg"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/test/lab"
)

// little is a scene of a few files: drawing feathers is slow work under the
// race detector.
var little = Amount{Photos: 4, Recordings: 2, PhotoWidth: 120, RecordingSeconds: 2, Notes: 4}

// The scene is the same each time, its files are what they say they are,
// and SKERRY is nearly full.
func TestScene(t *testing.T) {
	dir := t.TempDir()
	one, err := Build(filepath.Join(dir, "one"), little)
	require.NoError(t, err)
	two, err := Build(filepath.Join(dir, "two"), little)
	require.NoError(t, err)
	content := func(s *Scene, pattern string) []byte {
		found, err := filepath.Glob(filepath.Join(s.Home, pattern))
		require.NoError(t, err)
		require.NotEmpty(t, found, pattern)
		b, err := os.ReadFile(found[0])
		require.NoError(t, err)
		return b
	}
	photo := content(one, "Pictures/Plumage/*/*.jpg")
	require.Equal(t, photo, content(two, "Pictures/Plumage/*/*.jpg"))
	_, err = jpeg.Decode(bytes.NewReader(photo))
	require.NoError(t, err)
	wav := content(one, "Music/Call recordings/*/*.wav")
	require.Equal(t, "RIFF", string(wav[:4]))
	require.EqualValues(t, len(wav)-8, binary.LittleEndian.Uint32(wav[4:]))
	sys, err := drive.WithStandins(one.Drives)
	require.NoError(t, err)
	all, err := sys.List(false)
	require.NoError(t, err)
	require.Len(t, all, 3)
	skerry, err := sys.Find("SKERRY")
	require.NoError(t, err)
	require.Positive(t, skerry.Free)
	require.Less(t, skerry.Free, skerry.Size/10)
	_, err = Build(filepath.Join(dir, "one"), little)
	require.ErrorContains(t, err, "is not empty")
}

func TestSceneOnRealDrives(t *testing.T) {
	lab.Root(t)
	s, err := BuildReal(filepath.Join(t.TempDir(), "scene"), little)
	require.NoError(t, err)
	d, err := (&drive.System{}).Of(s.Home)
	require.NoError(t, err)
	require.Equal(t, "SKERRY", d.Label)
	require.NoError(t, s.Close())
	names, err := os.ReadDir(filepath.Join(s.Dir, "skerry"))
	require.NoError(t, err)
	require.Empty(t, names, "unmounted")
}

// Drives are pulled, plugged in elsewhere and filled.
func TestDrivesComeAndGo(t *testing.T) {
	s, err := Build(filepath.Join(t.TempDir(), "scene"), little)
	require.NoError(t, err)
	mark := filepath.Join(s.Dir, "basalt", "mark")
	require.NoError(t, os.WriteFile(mark, nil, 0o644))
	here := func(label string) (drive.Drive, bool) {
		sys, err := drive.WithStandins(s.Drives)
		require.NoError(t, err)
		d, err := sys.Find(label)
		return d, err == nil
	}
	require.NoError(t, s.Pull("BASALT"))
	_, ok := here("BASALT")
	require.False(t, ok)
	require.NoError(t, s.Plug("BASALT", "media/basalt"))
	d, ok := here("BASALT")
	require.True(t, ok)
	require.Equal(t, filepath.Join(s.Dir, "media", "basalt"), d.Mount)
	require.FileExists(t, filepath.Join(d.Mount, "mark"))
	require.NoError(t, s.Plug("DUNE", "basalt"), "another drive in its place")
	require.NoError(t, Fill(s.Drives, "BASALT", 1<<20))
	full, _ := here("BASALT")
	require.Equal(t, d.Free-1<<20, full.Free)
	require.NoError(t, Fill(s.Drives, "BASALT", 0))
	require.Error(t, s.Pull("NOWHERE"))
}

// callroost behaves as such programs do when its folder is gone, leads
// nowhere, or has no room.
func TestCallroost(t *testing.T) {
	home := t.TempDir()
	var said []string
	room := int64(1 << 30)
	c := &Callroost{Folder: filepath.Join(home, CallroostFolder), Calls: 3,
		Free: func(string) (int64, error) { return room, nil },
		Say:  func(f string, args ...any) { said = append(said, fmt.Sprintf(f, args...)) }}
	require.ErrorContains(t, c.List(), "no sets")
	require.NoError(t, c.Backup(season, false))
	require.FileExists(t, filepath.Join(c.Folder, "sets", "2026-05-03", "part-0003.rec"))

	room = callSize // the drive is full: part of a set stays
	require.ErrorContains(t, c.Backup(season.AddDate(0, 0, 1), false), "no room for more")
	require.NoError(t, c.List())
	require.Contains(t, said, "callroost: set 2026-05-04, 0 parts, not complete")
	room = 1 << 30

	away := c.Folder + ".away"
	require.NoError(t, os.Rename(c.Folder, away))
	require.NoError(t, os.Symlink("/nowhere", c.Folder))
	require.ErrorContains(t, c.Backup(season, false), "my sets can't be read", "it blames its own data")
	st, err := os.Lstat(c.Folder)
	require.NoError(t, err)
	require.Equal(t, os.ModeSymlink, st.Mode().Type())
	require.NoError(t, c.Backup(season, true))
	st, err = os.Lstat(c.Folder)
	require.NoError(t, err)
	require.True(t, st.IsDir(), "a real folder stands where the link was")
}
