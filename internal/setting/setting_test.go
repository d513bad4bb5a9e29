package setting

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProfiles(t *testing.T) {
	home := t.TempDir()
	plain, err := Profiles(home)
	require.NoError(t, err)
	require.Contains(t, plain, Profile{"documents", filepath.Join(home, "Documents")})

	require.NoError(t, os.MkdirAll(filepath.Join(home, ".config"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".config", "user-dirs.dirs"), []byte(`# comment
XDG_DOCUMENTS_DIR="$HOME/My \"papers\""
XDG_MUSIC_DIR="/media/music/"
 XDG_DESKTOP_DIR="$HOME/"
XDG_VIDEOS_DIR="relative"
XDG_PICTURES_DIR="$HOMELESS/x"
nonsense
`), 0o644))
	got, err := Profiles(home)
	require.NoError(t, err)
	kinds := map[string]string{}
	for _, p := range got {
		kinds[p.Kind] = p.Path
	}
	require.Equal(t, filepath.Join(home, `My "papers"`), kinds["documents"])
	require.Equal(t, "/media/music", kinds["music"])
	require.NotContains(t, kinds, "desktop", "set to the home itself: switched off")
	require.Equal(t, filepath.Join(home, "Videos"), kinds["videos"])
	require.Equal(t, filepath.Join(home, "Pictures"), kinds["pictures"])
}
