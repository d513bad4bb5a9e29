//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// With an administrator's rights, a home whose settings are links to the
// system's files leads nowhere: nothing outside the account's own directories
// is written or made (I6).
func TestSettingsOfAnotherAccountLeadNowhere(t *testing.T) {
	lab.Root(t)
	drives := memoryDrives(t)
	const account = 12345
	for name, lay := range map[string]func(t *testing.T, home, system string){
		"the directory is a link": func(t *testing.T, home, system string) {
			require.NoError(t, os.Symlink(system, filepath.Join(home, ".config")))
		},
		"the file is a link": func(t *testing.T, home, system string) {
			require.NoError(t, os.WriteFile(filepath.Join(system, "user-dirs.dirs"), []byte(userDirs), 0o644))
			require.NoError(t, os.Mkdir(filepath.Join(home, ".config"), 0o755))
			require.NoError(t, os.Symlink(filepath.Join(system, "user-dirs.dirs"),
				filepath.Join(home, ".config", "user-dirs.dirs")))
		},
		"the file is another name": func(t *testing.T, home, system string) {
			require.NoError(t, os.WriteFile(filepath.Join(system, "secret"), []byte(userDirs), 0o644))
			require.NoError(t, os.Mkdir(filepath.Join(home, ".config"), 0o755))
			require.NoError(t, os.Link(filepath.Join(system, "secret"),
				filepath.Join(home, ".config", "user-dirs.dirs")))
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newCrashBed(t, program, drives)
			b.Home = filepath.Join(b.skerry, "ines")
			system := filepath.Join(b.skerry, "system")
			for _, d := range []string{b.Home, system, filepath.Join(b.Home, "Documents")} {
				require.NoError(t, os.Mkdir(d, 0o755))
			}
			lay(t, b.Home, system)
			for _, d := range []string{b.Home, filepath.Join(b.Home, "Documents"), filepath.Join(b.Home, ".config")} {
				require.NoError(t, os.Lchown(d, account, account))
			}
			before := lab.Print(t, system)
			out, code := b.Exit("move", filepath.Join(b.Home, "Documents"), "--into", b.basalt+"/ines", "--by",
				"setting", "--yes", "-q", "--accept", "target-in-memory", "--accept", "in-others-hands")
			require.Equal(t, 3, code, out)
			require.Contains(t, out, "setting-not-usable")
			require.Equal(t, before, lab.Print(t, system))
			require.DirExists(t, filepath.Join(b.Home, "Documents"))
		})
	}
}
