package setting

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// values is a registry key in memory.
type values map[string]string

func (v values) Get(name string) (string, bool, error) { t, ok := v[name]; return t, ok, nil }
func (v values) Set(name, text string) error           { v[name] = text; return nil }
func (v values) Delete(name string) error              { delete(v, name); return nil }

func TestKnownFolders(t *testing.T) {
	reg := values{"Personal": `%USERPROFILE%\Documents`, "My Pictures": `D:\ines\Pictures\`, "My Video": `%NOBODY%\x`}
	k := KnownFolders{reg, map[string]string{"USERPROFILE": `C:\Users\ines`}}
	all, err := k.Profiles()
	require.NoError(t, err)
	at := map[string]string{}
	for _, p := range all {
		at[p.Kind] = p.Path
	}
	require.Equal(t, `C:\Users\ines\Documents`, at["documents"])
	require.Equal(t, `D:\ines\Pictures`, at["pictures"])
	require.Equal(t, `C:\Users\ines\Contacts`, at["contacts"], "the default where there is no value")
	require.NotContains(t, at, "videos", "a variable nobody knows")

	was, set, err := k.Text("documents")
	require.NoError(t, err)
	text, err := k.Lead(`D:\ines\My papers`)
	require.NoError(t, err)
	require.NoError(t, k.Change("documents", text, true))
	require.Equal(t, `D:\ines\My papers`, reg["Personal"])
	require.NoError(t, k.Change("documents", was, set))
	require.Equal(t, `%USERPROFILE%\Documents`, reg["Personal"], "as it was, variable and all")

	was, set, err = k.Text("contacts")
	require.NoError(t, err)
	require.False(t, set)
	require.NoError(t, k.Change("contacts", `D:\c`, true))
	require.NoError(t, k.Change("contacts", was, set))
	require.NotContains(t, reg, "{56784854-C6CB-462B-8169-88E350ACB882}")

	_, _, err = k.Text("templates")
	require.ErrorIs(t, err, ErrNoKind)
	_, err = k.Lead(`D:\100%`)
	require.ErrorIs(t, err, errLine)
}

// Both systems answer the same questions.
func TestUserDirectoriesAnswerAlike(t *testing.T) {
	var l Locations = UserDirectories{"/home/ines", []byte("XDG_MUSIC_DIR=\"$HOME/Calls\"\n")}
	all, err := l.Profiles()
	require.NoError(t, err)
	require.Contains(t, all, Profile{"music", "/home/ines/Calls"})
	text, set, err := l.Text("music")
	require.NoError(t, err)
	require.True(t, set)
	require.Equal(t, `"$HOME/Calls"`, text)
	_, set, err = l.Text("pictures")
	require.NoError(t, err)
	require.False(t, set)
	_, _, err = l.Text("contacts")
	require.ErrorIs(t, err, ErrNoKind)
	text, err = l.Lead(`/mnt/a "b"`)
	require.NoError(t, err)
	require.Equal(t, `"/mnt/a \"b\""`, text)
}

// The Windows side builds, although nobody runs it here.
func TestBuildsForWindows(t *testing.T) {
	c := exec.Command("go", "vet", ".")
	c.Env = append(os.Environ(), "GOOS=windows", "CGO_ENABLED=0")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}
