//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// fiveFolders is a home with five profile folders and their settings.
func fiveFolders(t *testing.T, drives [3]string, program string) *crashBed {
	b := newCrashBed(t, program, drives)
	withSettings(t, b)
	b.settings = userDirs +
		"XDG_PICTURES_DIR=\"$HOME/Pictures\"\nXDG_VIDEOS_DIR=\"$HOME/Videos\"\nXDG_DOWNLOAD_DIR=\"$HOME/Downloads\"\n"
	require.NoError(t, os.WriteFile(filepath.Join(b.skerry, ".config", "user-dirs.dirs"), []byte(b.settings), 0o600))
	for _, name := range []string{"Pictures", "Videos", "Downloads"} {
		require.NoError(t, os.Mkdir(filepath.Join(b.skerry, name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(b.skerry, name, "one"), []byte(name), 0o644))
	}
	return b
}

// homePrint is everything in the home but the times of its two directories in
// which entries are renamed.
func (b *crashBed) homePrint(t *testing.T) string {
	out := ""
	for _, name := range []string{"Documents", "Music", "Pictures", "Videos", "Downloads", ".config/user-dirs.dirs"} {
		out += name + "\n" + lab.Print(t, filepath.Join(b.skerry, name))
	}
	return out
}

// A move of five profile folders with one failing in the middle, at each step
// that can fail: all of them are moved, or none.
func TestFiveFoldersAllOrNothing(t *testing.T) {
	drives := memoryDrives(t)
	for h, how := range []string{"setting", "setting+symlink"} {
		move := []string{"move", "--profile", "all", "--into", "BASALT/ines", "--by", how, "--yes", "-q", "--accept",
			"target-in-memory"}
		// The drives get their tags from this one; the others go side by side.
		fiveFolders(t, drives, program).run(0, move)
		for i, fault := range []string{
			"part.act#3", "pass-1#3", "verified-1#3", "sealed#3", "sealed#5", "all-ready", "place.act#3",
			"switch.intent#1", "switch.act#3", "switch.done#5",
			"try.act#3", "tried#3", "setting.0.intent#2", "setting.0.act#1", "setting.0.act#3", "setting.0.done#5",
			"notes.act#3", "late-writes.done#5",
		} {
			if i%everyNth(2) != h%everyNth(2) {
				continue
			}
			t.Run(how+" "+fault, func(t *testing.T) {
				t.Parallel()
				b := fiveFolders(t, drives, program)
				before := b.homePrint(t)
				b.Env = []string{"NEXLIN_FAULT=error:" + fault}
				out, code := b.Exit(b.fill(move)...)
				b.Env = nil
				require.Contains(t, []int{1, 5}, code, out)
				if code == 1 {
					require.Contains(t, out, "was taken back")
				} else {
					require.Contains(t, out, "every folder is whole")
				}
				require.Empty(t, lab.Changes(before, b.homePrint(t)), "none of them is moved: %s", out)
				if code == 5 {
					b.Want(0, "resume", "--yes", "-q")
					require.Equal(t, filepath.Join(b.basalt, "ines", "Videos"), b.setTo("VIDEOS"))
					b.Want(0, "check")
					b.Want(0, "undo", b.runOfKind("move-together"), "--yes", "-q")
					require.Empty(t, lab.Changes(before, b.homePrint(t)))
				}
				require.False(t, b.unfinished())
				b.noLitter(t)
			})
		}
	}
}

// runOfKind is the newest run of that kind.
func (b *crashBed) runOfKind(kind string) string {
	b.T.Helper()
	for _, r := range b.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["kind"] == kind {
			return run["id"].(string)
		}
	}
	b.T.Fatalf("no run of kind %s", kind)
	return ""
}

// Somebody works in one of the folders: then undo leaves all of them.
func TestUndoTogetherAsksFirst(t *testing.T) {
	b := fiveFolders(t, memoryDrives(t), raced)
	b.run(0, []string{"move", "--profile", "all", "--into", "BASALT/ines", "--yes", "-q", "--accept",
		"target-in-memory"})
	require.NoError(t, os.WriteFile(filepath.Join(b.skerry, "Pictures", "new"), nil, 0o644))
	run := b.runOfKind("move-together")
	out, code := b.Exit("undo", run, "--yes", "-q")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "somebody has worked in")
	b.Want(0, "check")
	for _, name := range []string{"Documents", "Music", "Pictures", "Videos", "Downloads"} {
		_, err := os.Readlink(filepath.Join(b.skerry, name))
		require.NoError(t, err, "all of them are left")
	}
}

// What is deleted, renamed and written in a folder that is copied already, while
// the others are, is so at the target, too.
func TestChangesWhileTheOthersAreCopied(t *testing.T) {
	b := fiveFolders(t, memoryDrives(t), program)
	at := func(name string) string { return filepath.Join(b.skerry, "Documents", name) }
	for _, name := range []string{"gone", "renamed"} {
		require.NoError(t, os.WriteFile(at(name), []byte(name), 0o644))
	}
	out, code := midway(t, b.Nexlin, "all-ready", func(*os.Process) {
		require.NoError(t, os.Remove(at("gone")))
		require.NoError(t, os.Rename(at("renamed"), at("new name")))
		require.NoError(t, os.WriteFile(at("late"), []byte("late"), 0o644))
	}, b.fill([]string{"move", "--profile", "all", "--into", "BASALT/ines", "--yes", "-q", "--accept",
		"target-in-memory"})...)
	require.Zero(t, code, out)
	target := filepath.Join(b.basalt, "ines", "Documents")
	for name, there := range map[string]bool{"gone": false, "renamed": false, "new name": true, "late": true} {
		require.Equal(t, there, lab.Exists(filepath.Join(target, name)), name)
	}
	b.Want(0, "check")
}
