package setting

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// values is a registry key in memory.
type values map[string]string

func (v values) Get(name string) (string, bool, error) { t, ok := v[name]; return t, ok, nil }
func (v values) Set(name, text string) error           { v[name] = text; return nil }
func (v values) Delete(name string) error              { delete(v, name); return nil }

func TestKnownFolders(t *testing.T) {
	reg := values{"Personal": `%UserProfile%\Documents`, "My Pictures": `D:\ines\Pictures\`, "My Video": `%NOBODY%\x`}
	all, err := knownProfiles(reg, `C:\Users\ines`)
	require.NoError(t, err)
	at := map[string]string{}
	for _, p := range all {
		at[p.Kind] = p.Path
	}
	require.Equal(t, `C:\Users\ines\Documents`, at["documents"])
	require.Equal(t, `D:\ines\Pictures`, at["pictures"])
	require.Equal(t, `C:\Users\ines\Contacts`, at["contacts"], "the default where there is no value")
	require.NotContains(t, at, "videos", "a variable nobody knows")
}

// Each folder is set by its own identifier and that of its twin, no two folders by one.
func TestShellsIdentifiers(t *testing.T) {
	seen := map[string]bool{}
	for _, f := range knownFolders {
		ids, fallback := shellKnows(f.value)
		require.NotEmpty(t, ids)
		require.Equal(t, `%USERPROFILE%\`+f.fallback, fallback)
		for _, id := range ids {
			require.Regexp(t, `^\{[0-9A-F]{8}(-[0-9A-F]{4}){3}-[0-9A-F]{12}\}$`, id)
			require.False(t, seen[id], id)
			seen[id] = true
		}
	}
	ids, _ := shellKnows("Nobody")
	require.Empty(t, ids)
}

// A value of the registry is changed and given back as a settings file is.
func TestRegistryValueAsFile(t *testing.T) {
	const home, to = `C:\Users\ines`, `D:\ines\My papers`
	reg := values{"Personal": `%USERPROFILE%\Documents`}
	f, err := readValue(reg, "Personal")
	require.NoError(t, err)
	was := f.Sum()
	out, edits, err := Redirect(KnownFolder, f.Data, "/Personal", home+`\Documents`, to, home)
	require.NoError(t, err)
	require.Len(t, edits, 1)
	require.NoError(t, f.Write(out, Writing{}))
	require.Equal(t, to, reg["Personal"])
	require.ErrorIs(t, f.Write(out, Writing{}), ErrRewritten, "it is not as it was read any more")

	f, err = readValue(reg, "Personal")
	require.NoError(t, err)
	back, left, err := Revert(KnownFolder, f.Data, edits)
	require.NoError(t, err)
	require.Empty(t, left)
	require.Equal(t, was, Sum(back), "as it was, variable and all")
	require.NoError(t, f.Write(back, Writing{}))
	require.Equal(t, `%USERPROFILE%\Documents`, reg["Personal"])

	f, err = readValue(reg, "My Music")
	require.NoError(t, err)
	require.Empty(t, f.Sum())
	out, edits, err = Put(KnownFolder, f.Data, "My Music", to)
	require.NoError(t, err)
	require.NoError(t, f.Write(out, Writing{}))
	f, err = readValue(reg, "My Music")
	require.NoError(t, err)
	back, left, err = Revert(KnownFolder, f.Data, edits)
	require.NoError(t, err)
	require.Empty(t, left)
	require.Empty(t, back)
	require.NoError(t, f.Remove(Writing{}))
	require.NotContains(t, reg, "My Music")
	_, _, err = Put(KnownFolder, nil, "My Music", `D:\100%`)
	require.ErrorIs(t, err, errLine)
}
