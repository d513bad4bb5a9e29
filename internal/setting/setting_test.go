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

// A folder is found wherever a settings file names it, by an address that is good for a card.
func TestNaming(t *testing.T) {
	const home, folder = "/home/ines", "/home/ines/Survey"
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"a.json":    {`{"tiles": {"shelf": "/home/ines/Survey/x", "other": "/home/ines/Survey-2"}}`, []string{"/tiles/shelf"}},
		"b.jsonc":   {`{"all": ["~/Survey", "/elsewhere", "file:///home/ines/Survey"], /* x */ "n": 1}`, []string{"/all/*"}},
		"c.toml":    {"[a]\n\"b/c\" = '/home/ines/Survey'\n", []string{"/a/b~1c"}},
		"d.conf":    {"folder=/home/ines/Survey\n[x]\ny = $HOME/Survey\n", []string{"/folder", "/x/y"}},
		"e.xml":     {`<c><dir path="/home/ines/Survey">~/Survey/a</dir></c>`, nil},
		"f.yml":     {"a:\n- b: /home/ines/Survey\n- b: /home/ines\n", []string{"/a/*/b"}},
		"g.ini":     {"[x", nil},
		"bookmarks": {"file:///home/ines/Survey Survey\n", []string{"/*"}},
		"note.txt":  {"/home/ines/Survey", nil},
	} {
		var got []string
		for _, f := range FormatsOf(name) {
			var err error
			if got, err = Naming(f, []byte(c.text), folder, home); err == nil {
				break
			}
		}
		if name == "e.xml" {
			require.Len(t, got, 2, "%v", got)
			for _, at := range got {
				vs, err := Paths(XML, []byte(c.text), at, home)
				require.NoError(t, err)
				require.Len(t, vs, 1, at)
			}
			continue
		}
		require.Equal(t, c.want, got, name)
	}
}
