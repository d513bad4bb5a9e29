//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
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

// What the system's own settings say of a service's folder is changed with it, where nobody but the administrator
// can have had a hand in the way there; the file stays the administrator's.
func TestSettingsOfTheSystem(t *testing.T) {
	lab.Root(t)
	if !lab.InOwnNamespaces() {
		lab.Skip(t, "the tests have no mount namespace of their own")
	}
	const service = 12345
	lab.Mount(t, "/srv", "-t", "tmpfs", "-o", "mode=755", "tmpfs")
	drives := memoryDrives(t)
	for name, c := range map[string]struct {
		mode         os.FileMode
		owner, code  int
		says, nowhas string
	}{
		"the administrator's":                     {0o755, 0, 0, "", "/burrow"},
		"in a directory that others write to":     {0o777, 0, 3, "lies in a directory of another account", "/Documents"},
		"a file of somebody else's":               {0o755, 4711, 3, "belongs to another account", "/Documents"},
		"in a directory of the service's account": {0o755, service, 0, "", "/burrow"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newCrashBed(t, program, drives)
			lab.Run(t, "chown", "-R", "12345:12345", b.folder)
			require.NoError(t, os.RemoveAll("/srv/burrow"))
			lab.Tree{"burrow/burrow.conf: dir = " + b.folder}.Make(t, "/srv")
			lab.Tree{"burrow.yaml: card: burrow\nabout: A service's store.\nfamily: application-data\n" +
				"folders:\n  - linux: " + b.folder + "\n    as: burrow\nsettings:\n" +
				"  - {file: /srv/burrow/*.conf, format: keyvalue, at: /dir}\n"}.Make(t, "/srv")
			require.NoError(t, os.Chmod("/srv/burrow", c.mode))
			require.NoError(t, os.Chown("/srv/burrow/burrow.conf", c.owner, c.owner))
			if c.owner == service {
				require.NoError(t, os.Chown("/srv/burrow", c.owner, c.owner))
			}
			out, code := b.Exit("move", "--card", "/srv/burrow.yaml", "--into", b.basalt, "--yes", "-q",
				"--accept", "target-in-memory", "--accept", "in-others-hands")
			require.Equal(t, c.code, code, out)
			require.Contains(t, out, c.says)
			text, err := os.ReadFile("/srv/burrow/burrow.conf")
			require.NoError(t, err)
			require.Contains(t, string(text), c.nowhas)
			st, err := os.Stat("/srv/burrow/burrow.conf")
			require.NoError(t, err)
			uid, _ := handle.OwnerOf(st)
			require.Equal(t, uint32(c.owner), uid)
		})
	}
}
