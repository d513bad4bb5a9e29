//go:build faults && linux

package handle

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// What Windows refuses is refused here, too, in programs built for tests.
func TestRenamesAreHeldToShareRules(t *testing.T) {
	at := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(at, "docs/deep"), 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(at, "docs-2"), 0o755))
	d, err := Open(at)
	require.NoError(t, err)
	defer d.Release()
	renames := func(refused bool) {
		t.Helper()
		err := d.Rename("docs", d, "other")
		if refused {
			require.ErrorIs(t, err, syscall.EACCES)
			return
		}
		require.NoError(t, err)
		require.NoError(t, d.Rename("other", d, "docs"))
	}
	renames(false)
	for _, open := range []string{"docs/deep", "docs", "docs-2"} {
		held, err := Open(filepath.Join(at, open))
		require.NoError(t, err)
		renames(open == "docs/deep")
		held.Release()
	}
	t.Chdir(filepath.Join(at, "docs"))
	renames(true)
	t.Chdir(at)
	renames(false)
	require.NoError(t, d.Exchange("docs", d, "docs-2"))
}
