package execute

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

// The proof through both paths catches a link that leads elsewhere, and
// leaves no trace.
func TestTry(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"data/a: 1", "other/b: 2", "good => data", "bad => other", "gone => nowhere"}.Make(t, dir)
	target, err := handle.Open(filepath.Join(dir, "data"))
	require.NoError(t, err)
	defer target.Release()
	before := lab.Print(t, dir)
	leads := func(link string) error {
		_, err := Try(ledger.Redirect{Link: filepath.Join(dir, link), Target: filepath.Join(dir, "data")}, target)
		return err
	}
	require.NoError(t, leads("good"))
	for _, bad := range []string{"bad", "gone", "data/a"} {
		var trial *TrialError
		require.ErrorAs(t, leads(bad), &trial)
	}
	require.Equal(t, before, lab.Print(t, dir))
}
