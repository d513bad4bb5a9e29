package standin

import (
	"bytes"
	"encoding/binary"
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
