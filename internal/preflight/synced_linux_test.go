package preflight

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
	"nexlin/test/lab"
)

// A folder in what a provider keeps in step, or around it, is told; macOS has a place for such.
func TestSynced(t *testing.T) {
	home := t.TempDir()
	lab.Tree{"Library/CloudStorage/Kestrel-ines/Documents/a: x", "Library/CloudStorage/note: x"}.Make(t, home)
	root := filepath.Join(home, "Library/CloudStorage/Kestrel-ines")
	roots := cloudStorage(home)
	require.Equal(t, []SyncRoot{{"Kestrel-ines", root}}, roots)
	for from, n := range map[string]int{root: 1, root + "/Documents": 1, home: 1, root + "-2": 0, home + "/Music": 0} {
		found := Synced("docs", from, roots)
		require.Len(t, finding.Blockers(found), n, from)
	}
	require.Empty(t, cloudStorage(home+"/none"))
}
