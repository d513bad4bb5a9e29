package hardlink

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// In memory and in a file the table says the same, and leaves no file.
func TestTable(t *testing.T) {
	for _, limit := range []int{1000, 10, 0} {
		t.Run(fmt.Sprintf("%d in memory", limit), func(t *testing.T) {
			dir := t.TempDir()
			table := New(dir)
			table.limit = limit
			for name := range 3 {
				for ino := range uint64(100) {
					if ino%7 == 0 && name == 2 {
						continue // lies elsewhere
					}
					path := fmt.Sprintf("\xff%d/%d", name, ino)
					first, ord, err := table.Add(ID{ino % 2, ino/2 | 1<<63}, 3, path, int64(ino*10)+int64(name))
					require.NoError(t, err)
					require.Equal(t, fmt.Sprintf("\xff0/%d", ino), first)
					require.EqualValues(t, ino*10, ord)
				}
			}
			var outside []string
			require.NoError(t, table.Outside(func(first string) { outside = append(outside, first) }))
			require.Len(t, outside, 15)
			require.True(t, slices.Contains(outside, "\xff0/98"))
			left, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Empty(t, left)
			require.NoError(t, table.Close())
		})
	}
	// Where a file can't be made that is told; where there is no directory yet,
	// as for a preview before the first run, memory has to do.
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	table := New(file)
	table.limit = 0
	_, _, err := table.Add(ID{Ino: 1}, 2, "a", 0)
	require.ErrorContains(t, err, file)
	table = New("/nowhere")
	table.limit = 1
	for ino := range uint64(5) {
		for _, path := range []string{"a", "b"} {
			first, _, err := table.Add(ID{Ino: ino}, 2, path, 0)
			require.NoError(t, err)
			require.Equal(t, "a", first)
		}
	}
	require.NoError(t, table.Close())
}
