package setting

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

// The shell is asked for a folder and its twin, with the path as it is; what it refuses for the folder
// itself changes nothing, and that it does not know the twin is no refusal.
func TestRegistryAndShell(t *testing.T) {
	const name, text = "My Music", `%USERPROFILE%\nexlin test`
	ids, _ := shellKnows(name)
	require.Len(t, ids, 2)
	real, tell := askShell, tellShell
	tellShell = func(string) {}
	before, had, err := registryKey{}.Get(name)
	require.NoError(t, err)
	t.Cleanup(func() {
		askShell = func(*windows.GUID, string) (uint32, bool) { return 0, false }
		if had {
			require.NoError(t, registryKey{}.Set(name, before))
		} else {
			require.NoError(t, registryKey{}.Delete(name))
		}
		askShell, tellShell = real, tell
	})
	const accessDenied, notFound = 0x80070005, 0x80070002
	for _, c := range []struct {
		answers [2]uint32
		taken   bool
	}{{[2]uint32{accessDenied, 0}, false}, {[2]uint32{0, notFound}, true}, {[2]uint32{0, 0}, true}} {
		var asked []string
		askShell = func(folder *windows.GUID, path string) (uint32, bool) {
			require.Equal(t, os.Getenv("USERPROFILE")+`\nexlin test`, path)
			asked = append(asked, folder.String())
			return c.answers[len(asked)-1], true
		}
		err := registryKey{}.Set(name, text)
		now, _, e := registryKey{}.Get(name)
		require.NoError(t, e)
		if !c.taken {
			require.ErrorContains(t, err, "did not take")
			require.Equal(t, before, now)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, text, now, "with its variables")
		require.Equal(t, ids, asked)
	}
}
