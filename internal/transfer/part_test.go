package transfer

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
)

// A part that is known is that one and no other, whoever another one belongs to (I6).
func TestPartIsTheOneThatIsKnown(t *testing.T) {
	at := t.TempDir()
	parent, err := handle.Open(at)
	require.NoError(t, err)
	defer parent.Release()
	p, err := OpenPart(parent, "part", "aside", 0, &Allow{})
	require.NoError(t, err)
	st, err := p.Dir.Self()
	require.NoError(t, err)
	p.Close()
	require.NoError(t, os.Rename(filepath.Join(at, "part"), filepath.Join(at, "moved")))
	other := filepath.Join(at, "part")
	require.NoError(t, os.Mkdir(other, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(other, "file"), []byte("of another directory"), 0o600))
	for _, known := range []uint64{st.Ino, 0} {
		_, err = OpenPart(parent, "part", "aside", known, &Allow{})
		require.ErrorIs(t, err, fs.ErrExist)
		now, err := os.Stat(other)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o755), now.Mode().Perm(), "it was not touched")
	}
	require.NoError(t, os.RemoveAll(other))
	require.NoError(t, os.Rename(filepath.Join(at, "moved"), other))
	p, err = OpenPart(parent, "part", "aside", st.Ino, &Allow{})
	require.NoError(t, err)
	p.Close()
}
