//go:build linux

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// What the Windows program says and does under Wine, and the tests of what
// stands nearest to the system, on its own calls.
func TestWindowsUnderWine(t *testing.T) {
	t.Parallel()
	exe, err := lab.WindowsProgram()
	require.NoError(t, err)
	w := lab.NewWine(t, exe)
	t.Run("packages", func(t *testing.T) { windowsPackages(t, w) })
	t.Run("selftest", func(t *testing.T) { windowsSelftest(t, w) })
	t.Run("program", func(t *testing.T) { windowsProgram(t, w) })
}

// The numbers by which the system is called are those of published headers.
func TestWindowsLayouts(t *testing.T) {
	t.Parallel()
	const gcc = "x86_64-w64-mingw32-gcc"
	if _, err := exec.LookPath(gcc); err != nil {
		lab.Skip(t, gcc+" is not installed")
	}
	for _, part := range []string{"-DFILES", "-DMANAGER"} {
		lab.Run(t, gcc, "-fsyntax-only", "-I/usr/share/mingw-w64/include/ddk", part, "testdata/wine/layouts.c")
	}
}

// windowsProgram goes through the commands in the order of the work.
func windowsProgram(t *testing.T, w *lab.Wine) {
	folder := filepath.Join(w.Home(), "Documents")
	lab.Tree{"Documents/call log.txt: one", "Documents/deep/b: two", "Documents/empty/",
		"AppData/LocalLow/mark: x"}.Make(t, w.Home())
	before, kept := lab.Print(t, folder), filepath.Join(t.TempDir(), "kept")
	lab.Run(t, "cp", "-a", folder, kept)

	drives := map[string]map[string]any{}
	// On a machine that is busy its service for volumes leaves one out now and then.
	for try := 0; try < 5 && drives[`D:\`] == nil; try++ {
		for _, d := range w.JSON("drives")["drives"].([]any) {
			drives[d.(map[string]any)["mount"].(string)] = d.(map[string]any)
		}
	}
	require.Contains(t, drives, `C:\`)
	require.EqualValues(t, 64<<20, drives[`D:\`]["size"], "%v", drives)

	folders := map[string]map[string]any{}
	for _, f := range w.JSON("survey", w.Path(""))["folders"].([]any) {
		folders[f.(map[string]any)["path"].(string)] = f.(map[string]any)
	}
	require.EqualValues(t, 2, folders[w.Path("Documents")]["files"])
	require.Equal(t, "documents", folders[w.Path("Documents")]["kind"], "by its location setting")

	doc := w.JSON("move", w.Path("DOCUMENTS"), "--into", `D:\ines`, "--preview")
	require.Equal(t, w.Path("Documents"), doc["plan"].(map[string]any)["from"], "as it is on the disk")
	require.Contains(t, counts(doc, "warning"), "switch-gap")
	require.Contains(t, counts(doc, "info"), "in-use-unknown", "an empty answer of a stub is no answer")
	require.Empty(t, names(t, w.D), "a preview leaves nothing")

	// What a sync provider keeps in step is found by what the system was told of it.
	const manager = `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager`
	w.Exit("reg", "add", manager+`\kestrel!S-1-5-21!ines\UserSyncRoots`, "/v", "S-1-5-21", "/d", w.Path("Documents"), "/f")
	require.Contains(t, w.Want(3, "move", w.Path("Documents"), "--into", `D:\ines`, "--yes"), "[synced-folder]")
	w.Exit("reg", "delete", manager, "/f")

	// What the system keeps for itself stays.
	out := w.Want(3, "move", w.Path("AppData/LocalLow"), "--into", `D:\ines`, "--yes")
	require.Contains(t, out, "[must-stay]")

	// This system says that it has made a symbolic link, and has not; it has no
	// junctions. Both are noticed by the trial, before anything is touched.
	out = w.Want(3, "move", w.Path("Documents"), "--into", `D:\ines`, "--by", "symlink", "--yes")
	require.Contains(t, out, "it was said to be made, and is not there")
	require.Contains(t, out, "--by junction")
	out = w.Want(3, "move", w.Path("Documents"), "--into", `D:\ines`, "--by", "junction", "--yes")
	require.Contains(t, out, "a trial link in")
	w.Want(3, "move", w.Path("Documents"), "--into", `D:\ines`, "--by", "junction", "--target-form", "volume", "--yes")
	require.Contains(t, w.Want(3, "move", w.Path("Documents"), "--into", `D:\ines`, "--yes"), "[junction-instead]")
	require.Equal(t, before, lab.Print(t, folder))
	require.Empty(t, names(t, w.D))

	// A location setting leads there, and back.
	const personal = `%USERPROFILE%\Documents`
	require.Equal(t, personal, w.Registry("Personal"))
	move := []string{"move", w.Path("Documents"), "--into", `D:\ines`, "--by", "setting", "--yes"}
	out = w.Want(0, move...)
	require.Contains(t, out, "User Shell Folders at /Personal leads there")
	require.Equal(t, `D:\ines\Documents`, w.Registry("Personal"))
	require.False(t, lab.Exists(folder))
	lab.Run(t, "diff", "-r", kept, filepath.Join(w.D, "ines/Documents"))
	for _, rel := range []string{"call log.txt", "deep", "deep/b", "empty"} {
		was, err := os.Stat(filepath.Join(kept, rel))
		require.NoError(t, err)
		is, err := os.Stat(filepath.Join(w.D, "ines/Documents", rel))
		require.NoError(t, err)
		require.Equal(t, was.ModTime().Truncate(100), is.ModTime(), "%s: to a hundred nanoseconds", rel)
	}
	w.Want(0, "check", "--deep")
	w.Want(0, "try", "documents")
	w.Exit("reg", "add", `HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`, "/v",
		"Personal", "/t", "REG_EXPAND_SZ", "/d", personal, "/f")
	require.Contains(t, w.Want(4, "check"), "[setting-drifted]")
	w.Want(0, "mend", "documents", "--yes")
	require.Equal(t, `D:\ines\Documents`, w.Registry("Personal"))

	require.NoError(t, os.WriteFile(filepath.Join(w.D, "ines/Documents/new.txt"), []byte("worked"), 0o644))
	w.Want(0, "bring-back", "documents", "--yes")
	require.Equal(t, personal, w.Registry("Personal"), "variable and all")
	require.FileExists(t, filepath.Join(folder, "new.txt"))
	w.Want(0, "discard-original", "documents", "--yes", "--accept", "changed-since")
	require.Contains(t, w.Want(0, "list", "--held"), "nothing is held")

	before = lab.Print(t, folder)
	w.Want(0, move...)
	run := w.JSON("history")["runs"].([]any)[0].(map[string]any)["id"].(string)
	w.Want(0, "undo", run, "--yes")
	require.Equal(t, before, lab.Print(t, folder))
	require.Equal(t, personal, w.Registry("Personal"))
}

func windowsPackages(t *testing.T, w *lab.Wine) {
	for pkg, which := range map[string]string{"handle": ".", "junction": ".", "pathtext": "Show|Path|Below",
		"setting": "Known|Registry", "drive": "^TestLetters|^TestVolumesByName"} {
		t.Run(pkg, func(t *testing.T) {
			exe, err := lab.WindowsTest("nexlin/internal/" + pkg)
			require.NoError(t, err)
			out, code := w.Exit(exe, "-test.v", "-test.run", which)
			require.Zero(t, code, out)
			require.Contains(t, out, "--- PASS")
		})
	}
}

// This system makes no links, and says so where the self-test needs one; what comes before
// works, and nothing is left.
func windowsSelftest(t *testing.T, w *lab.Wine) {
	var said map[string]any
	for try := 0; try < 5 && said["selftest"] == nil; try++ { // see windowsProgram of drives that are left out
		said = w.JSON("selftest", "--into", `D:\`)
	}
	require.Contains(t, said, "selftest", "%v", said)
	doc := said["selftest"].(map[string]any)
	steps := doc["steps"].([]any)
	for i, want := range []string{"done", "done", "done", "failed", "not tried"} {
		require.Equal(t, want, steps[i].(map[string]any)["outcome"], i)
	}
	require.Contains(t, steps[3].(map[string]any)["said"], "link-not-possible")
	require.Empty(t, doc["left"])
	require.Empty(t, names(t, w.D))
	require.NoDirExists(t, filepath.Join(w.Home(), "nexlin-selftest"))
}
