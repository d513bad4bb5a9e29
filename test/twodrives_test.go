//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A redirect has two drives. While either is away, no command writes below its
// empty mount point, and all is well once it is back.
func TestEitherDriveAway(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	skerry, basalt := lab.NewPlug(t, "ext4", "SKERRY", 64), lab.NewPlug(t, "ext4", "BASALT", 64)
	lab.Open(t, dir)
	home, data := filepath.Join(dir, "home"), filepath.Join(dir, "data")
	for at, plug := range map[string]*lab.Plug{home: skerry, data: basalt} {
		plug.Mount(at)
	}
	folder, other := filepath.Join(home, "Music"), filepath.Join(dir, "Charts")
	for _, d := range []string{folder, other, filepath.Join(dir, "unpacked")} {
		require.NoError(t, os.MkdirAll(d, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(d, "a"), []byte("a"), 0o644))
	}
	n := lab.New(t, program)
	n.Want(0, "move", folder, "--into", data, "--yes")
	archive := filepath.Join(dir, "music.tar.zst")
	n.Want(0, "pack", "music", "--output", archive, "--yes")
	empty := func(at string) {
		t.Helper()
		names, err := os.ReadDir(at)
		require.NoError(t, err)
		require.Empty(t, names, "something was written where a drive belongs")
	}

	t.Run("of the link", func(t *testing.T) {
		skerry.Unmount()
		t.Cleanup(func() {
			if t.Failed() {
				skerry.Mount(home)
			}
		})
		for _, args := range [][]string{
			{"mend", "music"}, {"bring-back", "music"}, {"detach", "music"}, {"move", other, "--into", home},
			{"move", other, "--into", home, "--preview"},
			{"undo", n.LastRun()}, {"restore-links", data, "--accept", "outside-home"},
		} {
			if args[0] == "undo" {
				args[1] = moveRun(n)
			}
			out, code := n.Exit(append(args, "--yes")...)
			require.Equal(t, 7, code, "%v: %s", args, out)
			require.Contains(t, out, "SKERRY is not here", "%v", args)
			empty(home)
		}
		require.Contains(t, n.Want(7, "check"), "[drive-away]")
		list := n.JSON("list")["redirects"].([]any)[0].(map[string]any)
		require.Equal(t, "away", list["state"])
		skerry.Mount(home)
		n.Want(0, "check")
	})
	t.Run("of the target", func(t *testing.T) {
		basalt.Unmount()
		for _, args := range [][]string{
			{"move", other, "--into", data}, {"move", other, "--into", filepath.Join(data, "deep", "er")},
			{"move", other, "--into", data, "--preview"},
			{"pack", other, "--output", filepath.Join(data, "charts.tar.zst")},
			{"unpack", archive, "--into", data, "--as", "Again"},
			{"move", folder, "--into", filepath.Join(dir, "third")}, {"mend", "music"}, {"bring-back", "music"},
			{"move", other, "--into", home, "--pack-first", filepath.Join(data, "charts.tar.zst"), "--preview"},
		} {
			out, code := n.Exit(append(args, "--yes")...)
			require.Equal(t, 7, code, "%v: %s", args, out)
			require.Contains(t, out, "BASALT is not here", "%v", args)
			empty(data)
		}
		basalt.Mount(data)
		n.Want(0, "check")
		n.Want(0, "undo", moveRun(n), "--yes")
	})
}

// moveRun is the id of the newest move.
func moveRun(n *lab.Nexlin) string {
	n.T.Helper()
	for _, r := range n.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["kind"] == "move" {
			return run["id"].(string)
		}
	}
	n.T.Fatal("there is no move")
	return ""
}

// A run of several whose drive is plugged in elsewhere says what a run of one says:
// where the drive is to be mounted, and goes on then.
func TestTogetherWithADriveElsewhere(t *testing.T) {
	dir := t.TempDir()
	basalt := lab.NewPlug(t, "ext4", "BASALT", 16)
	n := lab.New(t, program)
	n.Home = filepath.Join(dir, "home")
	lab.Tree{"Notes/a: a", "Calls/b: b",
		".config/user-dirs.dirs: XDG_DOCUMENTS_DIR=\"$HOME/Notes\"\nXDG_MUSIC_DIR=\"$HOME/Calls\"\n"}.Make(t, n.Home)
	at, elsewhere := filepath.Join(dir, "at"), filepath.Join(dir, "elsewhere")
	basalt.Mount(at)
	t.Cleanup(basalt.Unmount)
	n.Env = []string{"NEXLIN_FAULT=kill:pass-1"}
	n.Want(-1, "move", "--profile", "documents,music", "--into", at+"/ines", "--yes", "-q")
	n.Env = nil
	basalt.Unmount()
	basalt.Mount(elsewhere)
	for _, way := range []string{"resume", "undo"} {
		require.Contains(t, n.Want(3, way, "--yes", "-q"), "mount it at "+at+" again", way)
	}
	basalt.Unmount()
	require.Contains(t, n.Want(7, "resume", "--yes", "-q"), "plug BASALT in and mount it")
	basalt.Mount(at)
	n.Want(0, "resume", "--yes", "-q")
	n.Want(0, "check")
}
