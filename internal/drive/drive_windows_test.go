package drive

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

// That a letter comes, and goes, is told; it is none of a drive of its own if it stands for a
// directory.
func TestLettersComeAndGo(t *testing.T) {
	ctx, end := context.WithCancel(context.Background())
	defer end()
	news, err := (&System{}).Changes(ctx)
	require.NoError(t, err)
	const onlyThis, remove = 0x4, 0x2
	letter, err := windows.UTF16PtrFromString("Q:")
	require.NoError(t, err)
	dir, err := windows.UTF16PtrFromString(`C:\windows`)
	require.NoError(t, err)
	for _, flags := range []uint32{0, remove} {
		require.NoError(t, windows.DefineDosDevice(flags, letter, dir))
		select {
		case <-news:
		case <-time.After(5 * time.Second):
			t.Fatal("nothing was told")
		}
		all, err := (&System{}).List(true)
		require.NoError(t, err)
		for _, d := range all {
			require.NotEqual(t, `Q:\`, d.Mount)
		}
	}
	end()
	for range news { // it is closed
	}
}

// What the system says of a volume by its name is what it says by its letter, and a disk on a bus that
// people plug things into is no fixed one.
func TestVolumesByName(t *testing.T) {
	name := VolumeName(`C:\`)
	require.Equal(t, name, VolumeName(name))
	require.Empty(t, folderOf(name), "it has a letter")
	require.Empty(t, inFolders())
	require.Equal(t, storageOf(`C:\`), storageOf(name))
	for bus, plugged := range map[uint32]bool{1: false, 3: false, 7: true, 12: true, 13: true, 11: false, 17: false} {
		require.Equal(t, plugged, pluggable(bus), bus)
	}
}
