//go:build linux

package test

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// windowsDrives are two NTFS drives as a rescue system mounts them, and the
// way to have the driver of the first one know the second one's letter.
func windowsDrives(t *testing.T) (skerry, basalt string, letter func(string)) {
	skerry, _ = lab.FuseDrive(t, "ntfs", "SKERRY", 96)
	basalt, _ = lab.FuseDrive(t, "ntfs", "BASALT", 96)
	return skerry, basalt, func(name string) {
		dir := filepath.Join(skerry, ".NTFS-3G")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.Symlink(basalt, filepath.Join(dir, name+":")))
	}
}

// reparse reads and sets the bytes of a reparse point without our code.
func reparse(t *testing.T, path string) string {
	b := make([]byte, 16<<10)
	n, err := unix.Lgetxattr(path, handle.ReparseXattr, b)
	require.NoError(t, err, path)
	return hex.EncodeToString(b[:n])
}

func setReparse(t *testing.T, path, data string) {
	b, err := hex.DecodeString(data)
	require.NoError(t, err)
	require.NoError(t, unix.Lsetxattr(path, handle.ReparseXattr, b, 0))
	// What the kernel knew of the entry before it forgets after a moment.
	require.Eventually(t, func() bool {
		st, err := os.Lstat(path)
		return err == nil && st.Mode()&os.ModeSymlink != 0
	}, 3e9, 2e7)
}

// Vectors written by hand: a junction to D:\ines\Notes, and a symbolic link of
// Windows that says ..\a.
const (
	junctionBytes = "030000a0" + "4800" + "0000" + "0000" + "2200" + "2400" + "1a00" +
		"5c003f003f005c00" + "44003a005c00" + "69006e0065007300" + "5c00" + "4e006f00740065007300" + "0000" +
		"44003a005c00" + "69006e0065007300" + "5c00" + "4e006f00740065007300" + "0000"
	symlinkBytes = "0c0000a0" + "1c00" + "0000" + "0800" + "0800" + "0000" + "0800" + "01000000" +
		"2e002e005c006100" + "2e002e005c006100"
)

// A folder of Windows moves while Windows does not run, and comes back.
func TestJunctionsOfAnotherSystem(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	n := lab.New(t, program)
	folder, target := filepath.Join(skerry, "Users/ines/Notes"), filepath.Join(basalt, "ines/Notes")
	lab.Tree{"Users/ines/Notes/call log.txt: a", "Users/ines/Notes/deep/b: b", "Users/ines/other/c: c"}.Make(t, skerry)
	require.NoError(t, os.Mkdir(filepath.Join(basalt, "ines"), 0o755))
	before := lab.Print(t, folder)
	move := []string{"move", folder, "--into", filepath.Join(basalt, "ines")}
	refused := func(code string, more ...string) {
		t.Helper()
		out := n.Want(3, append(append(move, "--yes"), more...)...)
		require.Contains(t, out, "["+code+"]")
		require.Equal(t, before, lab.Print(t, folder))
	}
	refused("unseen-by-windows")
	refused("as-seen-missing", "--by", "junction")
	refused("as-seen-differs", "--by", "junction", "--as-seen", `D:\ines\notes\more`)
	refused("as-seen-differs", "--by", "junction", "--as-seen", `\\server\share`)
	require.Contains(t, n.Want(2, append(move, "--as-seen", `D:\`)...), "--by junction")
	require.Contains(t, n.Want(0, append(move, "--by", "junction", "--as-seen", "d:", "--preview")...), "[switch-gap]")

	out := n.Want(0, append(move, "--by", "junction", "--as-seen", "d:", "--yes")...)
	require.Contains(t, out, `says D:\ines\Notes`)
	require.Contains(t, out, "no file was saved through it")
	require.Equal(t, junctionBytes, reparse(t, folder), "as the published structure has it")
	require.Equal(t, before, lab.Print(t, target))
	n.Want(0, "check", "--deep")
	require.Contains(t, n.Want(0, "try", "notes"), "this system does not know that place")
	letter("D") // the driver resolves our junction now
	require.Equal(t, before, lab.Print(t, folder+"/."))
	require.Contains(t, n.Want(0, "try", "notes"), "saved through "+folder)
	require.Contains(t, n.Want(0, "inspect", folder), `D:\ines\Notes`)

	// Windows has given the drive another letter; then somebody leads it astray.
	require.Contains(t, n.Want(0, "mend", "notes", "--as-seen", `E:\`, "--yes"), `will lead to E:\ines\Notes`)
	mended := reparse(t, folder)
	require.Equal(t, strings.ReplaceAll(junctionBytes, "44003a00", "45003a00"), mended)
	require.NoError(t, os.Remove(folder))
	require.NoError(t, os.Mkdir(folder, 0o755))
	setReparse(t, folder, strings.ReplaceAll(junctionBytes, "44003a00", "46003a00"))
	require.Contains(t, n.Want(4, "check"), `leads to F:\ines\Notes, not to E:\ines\Notes`)
	n.Want(0, "mend", "notes", "--yes")
	require.Equal(t, mended, reparse(t, folder))
	n.Want(0, "check")
	n.Want(0, "detach", "notes", "--yes")
	require.False(t, lab.Exists(folder))
	n.Want(0, "undo", n.LastRun(), "--yes")
	require.Equal(t, mended, reparse(t, folder))

	n.Want(0, "bring-back", "notes", "--yes")
	st, err := os.Lstat(folder)
	require.NoError(t, err)
	require.True(t, st.IsDir())
	require.Equal(t, before, lab.Print(t, folder))
	n.Want(0, "discard-original", "notes", "--yes")
	require.False(t, lab.Exists(target))
}

// Rights, attributes and alternate streams go from one Windows drive to the
// other, and back.
func TestWhatWindowsKeepsBeside(t *testing.T) {
	skerry, basalt, _ := windowsDrives(t)
	n := lab.New(t, program)
	folder, target := filepath.Join(skerry, "Notes"), filepath.Join(basalt, "Notes")
	lab.Tree{"Notes/hidden: a", "Notes/deep/b: b", "Notes/deep/plain: c"}.Make(t, skerry)
	// A security descriptor: owner and group the administrators, everything for
	// the system, reading for the account 1001 of this machine.
	rights, err := hex.DecodeString("01000480" + "14000000" + "24000000" + "00000000" + "34000000" +
		"01020000000000052000000020020000" + "01020000000000052000000020020000" +
		"0200400002000000" + "00001400ff011f00010100000000000512000000" +
		"00002400a9001200" + "010500000000000515000000" + "0a000000" + "14000000" + "1e000000" + "e9030000")
	require.NoError(t, err)
	set := func(rel, name string, value []byte) {
		t.Helper()
		require.NoError(t, unix.Setxattr(filepath.Join(folder, rel), name, value, 0), rel)
	}
	for _, rel := range []string{"hidden", "deep"} {
		set(rel, "system.ntfs_acl", rights)
		set(rel, "system.ntfs_attrib_be", []byte{0, 0, 0, 0x22})
	}
	set("deep/b", "user.Zone", []byte("stream"))
	set("deep/b", "system.ntfs_attrib_be", []byte{0, 0, 0, 0x21})
	beside := func(root string) (out []string) {
		for _, rel := range []string{"hidden", "deep", "deep/b", "deep/plain"} {
			for _, name := range []string{"system.ntfs_acl", "system.ntfs_attrib_be"} {
				b := make([]byte, 4096)
				k, err := unix.Getxattr(filepath.Join(root, rel), name, b)
				require.NoError(t, err)
				out = append(out, rel+" "+name+" "+hex.EncodeToString(b[:k]))
			}
		}
		return out
	}
	was, print := beside(folder), lab.Print(t, folder)
	require.Contains(t, was[0], hex.EncodeToString(rights))
	n.Want(0, "move", folder, "--into", basalt, "--by", "junction", "--as-seen", "D:", "--yes")
	require.Equal(t, was, beside(target))
	require.Equal(t, print, lab.Print(t, target))
	held, err := filepath.Glob(filepath.Join(skerry, ".Notes.held-*"))
	require.NoError(t, err)
	require.Len(t, held, 1)
	hidden := make([]byte, 4)
	_, err = unix.Getxattr(held[0], "system.ntfs_attrib_be", hidden)
	require.NoError(t, err)
	require.EqualValues(t, 2, hidden[3]&2, "Windows hides by an attribute, not by a name")
	n.Want(0, "undo", n.LastRun(), "--yes")
	_, err = unix.Getxattr(folder, "system.ntfs_attrib_be", hidden)
	require.NoError(t, err)
	require.Zero(t, hidden[3]&2)
	require.Equal(t, was, beside(folder))
	n.Want(0, "discard-original", "notes", "--yes")
	n.Want(0, "move", folder, "--into", basalt, "--by", "junction", "--as-seen", "D:", "--yes")
	n.Want(0, "check", "--deep")
	n.Want(0, "bring-back", "notes", "--yes")
	require.Equal(t, was, beside(folder))
	n.Want(0, "discard-original", "notes", "--yes")
}

// A junction that Windows made is taken in: its bytes say where it leads.
func TestJunctionOfTheDriverIsRecorded(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	n := lab.New(t, program)
	lab.Tree{"ines/Notes/a: a"}.Make(t, basalt)
	lab.Tree{"ines/Notes/"}.Make(t, skerry)
	at := filepath.Join(skerry, "ines/Notes")
	setReparse(t, at, junctionBytes)
	n.Want(3, "record", at, "--yes") // nothing tells where D: is
	n.Want(3, "record", at, "--copy", filepath.Join(basalt, "ines"), "--yes")
	n.Want(0, "record", at, "--copy", filepath.Join(basalt, "ines/Notes"), "--yes")
	require.Equal(t, junctionBytes, reparse(t, at))
	n.Want(0, "check")
	letter("D")
	n.Want(0, "try", "notes")
	n.Want(0, "bring-back", "notes", "--yes")
	content, err := os.ReadFile(filepath.Join(at, "a"))
	require.NoError(t, err)
	require.Equal(t, "a", string(content))
}

// Junctions and links of Windows inside a folder are moved as what they are:
// walked once, none followed; where they can't be kept that is said.
func TestJunctionsInside(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	letter("D")
	n := lab.New(t, program)
	folder := filepath.Join(skerry, "Notes")
	lab.Tree{"Notes/a: a", "Notes/deep/round/", "Notes/out/", "Notes/deep/to a: ", "Notes/plain => a"}.Make(t, skerry)
	lab.Tree{"ines/Notes/not to be seen: x"}.Make(t, basalt)
	setReparse(t, filepath.Join(folder, "out"), junctionBytes)
	setReparse(t, filepath.Join(folder, "deep/round"), junctionBytes)
	setReparse(t, filepath.Join(folder, "deep/to a"), symlinkBytes)
	doc := n.JSON("move", folder, "--into", basalt, "--by", "junction", "--as-seen", `D:\`, "--preview")
	require.EqualValues(t, 1, doc["plan"].(map[string]any)["files"], "nothing is followed")

	ext4 := lab.Drive(t, "ext4", "DUNE", 16)
	kept := n.JSON("move", folder, "--into", ext4, "--yes", "--accept", "unseen-by-windows")
	require.Equal(t, 3, counts(kept, "blocker")["links-not-kept"])

	// A relative link that leads out can't be rewritten to a path of Windows'.
	out := filepath.Join(folder, "leads out")
	require.NoError(t, os.WriteFile(out, nil, 0o644))
	setReparse(t, out, symlinkBytes)
	require.Contains(t, n.Want(3, "move", folder, "--into", basalt, "--by", "junction", "--as-seen", `D:\`, "--yes"),
		"[links-lead-out]")
	n.Want(0, "move", folder, "--into", basalt, "--by", "junction", "--as-seen", `D:\`, "--yes", "--inner-links",
		"keep")
	for rel, data := range map[string]string{"out": junctionBytes, "deep/round": junctionBytes,
		"deep/to a": symlinkBytes, "leads out": symlinkBytes} {
		require.Equal(t, data, reparse(t, filepath.Join(basalt, "Notes", rel)), rel)
	}
	n.Want(0, "check", "--deep")
	n.Want(0, "bring-back", "notes", "--yes")
	require.Equal(t, symlinkBytes, reparse(t, filepath.Join(folder, "deep/to a")))
	n.Want(0, "discard-original", "notes", "--yes")
	require.FileExists(t, filepath.Join(basalt, "ines/Notes/not to be seen"), "nothing is deleted through a junction")
}

// What a sync client has not fetched is a blocker, not a file.
func TestPlaceholders(t *testing.T) {
	skerry, basalt, _ := windowsDrives(t)
	lab.Tree{"Shared/a: a", "Shared/far: ", "Shared/odd: "}.Make(t, skerry)
	// A tag that stands for no other name, with four bytes of its owner's.
	setReparse(t, filepath.Join(skerry, "Shared/far"), "1a000090"+"0400"+"0000"+"01000000")
	// One that stands for a name that only a Linux subsystem knows: version, then the name.
	setReparse(t, filepath.Join(skerry, "Shared/odd"), "1d0000a0"+"0800"+"0000"+"02000000"+"2f746d70")
	n := lab.New(t, program)
	doc := n.JSON("move", filepath.Join(skerry, "Shared"), "--into", basalt, "--by", "junction", "--as-seen", "D:",
		"--yes")
	require.Equal(t, map[string]int{"placeholder-files": 1, "links-of-another-kind": 1}, counts(doc, "blocker"))
}

// gapStories are a move and a bring-back where link and folder can't be
// exchanged in one act.
func gapStories() []crashStory {
	move := []string{"move", "FOLDER", "--into", "BASALT/ines", "--by", "junction", "--as-seen", "D:", "--yes", "-q"}
	linked := func(t *testing.T, b *crashBed) {
		require.True(t, strings.HasPrefix(reparse(t, b.folder), "030000a0"))
		b.Want(0, "check")
	}
	folder := func(t *testing.T, b *crashBed) {
		st, err := os.Lstat(b.folder)
		require.NoError(t, err)
		require.True(t, st.IsDir(), "the folder is real")
	}
	return []crashStory{
		{"move", nil, move, linked, folder, nil, gap},
		{"bring-back", [][]string{move}, []string{"bring-back", "documents", "--yes", "-q"}, folder, linked, nil, gap},
	}
}

// gap has no link and folder change places in one act.
func gap(t *testing.T, b *crashBed) {
	b.gap = true
	// The driver fills this hole on one side, and not on the other.
	require.NoError(t, os.Remove(filepath.Join(b.folder, "hole")))
	require.NoError(t, lab.AgeTree(b.folder))
	b.content = lab.Print(t, b.folder)
}

// settingFirst is a move that leaves no link, where nothing could keep the folder's place: the
// setting leads to the copy before the folder leaves it.
func settingFirst() crashStory {
	s := settingStories(func(into string) []string {
		return []string{"move", "FOLDER", "--into", into + "/ines", "--yes", "-q"}
	}, nil)[0]
	s.setup = func(t *testing.T, b *crashBed) { // the settings are on a drive that keeps them private
		gap(t, b)
		require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(b.skerry, ".config")))
		withSettings(t, b)
	}
	return s
}

// While the setting leads to the copy already, and the folder still has its name, nothing that is
// saved at either is lost; and a rename that fails gives the setting back.
func TestSettingBeforeTheFolderLeaves(t *testing.T) {
	skerry, basalt, _ := windowsDrives(t)
	program, drives := program, [3]string{skerry, basalt, skerry}
	s := settingFirst()
	b := newCrashBed(t, program, drives)
	out, code := b.set(s).faulted(s, "error:aside.intent")
	require.Equal(t, 5, code, out)
	s.start(t, b)

	b = newCrashBed(t, program, drives)
	out, code = b.set(s).faulted(s, "kill:aside.intent")
	require.Equal(t, -1, code, out)
	target := filepath.Join(b.basalt, "ines/Documents")
	require.Equal(t, target, b.setTo("DOCUMENTS"))
	for _, at := range []string{target, b.folder} {
		require.NoError(t, os.WriteFile(filepath.Join(at, "saved in "+filepath.Base(filepath.Dir(at))), nil, 0o644))
	}
	require.Contains(t, b.Want(3, "undo", b.stoppedRun(), "--yes"), "saved in ines")
	require.Equal(t, target, b.setTo("DOCUMENTS"))
	b.Want(0, "resume", b.stoppedRun(), "--yes")
	s.end(t, b)
	require.FileExists(t, filepath.Join(target, "saved in ines"))
	require.FileExists(t, filepath.Join(target, "saved in "+filepath.Base(b.skerry)))
}

// Killed between the two renames, a run leaves nothing at the link path, and
// the next command puts that right.
func TestCrashMatrixWithoutExchange(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	letter("D")
	crashMatrix(t, [3]string{skerry, basalt, skerry}, append(gapStories(), settingFirst()), everyNth(9), false)
}

// A rename that fails is tried again if somebody holds the entry just now, and
// taken back with what came before it if not.
func TestRenamesOfTheSwitchFail(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	letter("D")
	drives := [3]string{skerry, basalt, skerry}
	for _, s := range gapStories() {
		calls, cases := 0, 0
		for _, call := range newCrashBed(t, program, drives).points(s, "calls", "call") {
			if call == "renameat2" {
				calls++
			}
		}
		try := func(fault string) {
			cases++
			t.Run(s.name+" "+fault, func(t *testing.T) {
				t.Parallel()
				newCrashBed(t, program, drives).fails(t, s, fault, cases%2 == 0)
			})
		}
		for n := 1; n <= calls; n += everyNth(3) {
			for _, errno := range []string{"EIO", "EBUSY"} {
				try(fmt.Sprintf("call:renameat2:%d:%s", n, errno))
			}
		}
		for _, step := range []string{"aside", "link", "link-aside", "folder"} {
			for _, when := range []string{"intent", "act", "done"} {
				try("error:" + step + "." + when)
			}
		}
		require.Greater(t, calls, 4)
		if s.name == "move" {
			t.Run("held for as long as it is tried", func(t *testing.T) {
				t.Parallel()
				b := newCrashBed(t, program, drives)
				// From the folder's own rename on: it never leaves its place.
				out, code := b.set(s).faulted(s, fmt.Sprintf("call:renameat2:%d+:EBUSY", calls-5))
				require.Equal(t, 6, code, out)
				require.Contains(t, out, "because a program holds it")
				b.whole(t, s)
				s.start(t, b)
				b.recovered(t, s, "resume", b.stoppedRun())
			})
		}
	}
}

// What is made at the link path between the two renames is somebody's: it is
// set aside and told.
func TestSomethingMadeInTheGap(t *testing.T) {
	skerry, basalt, letter := windowsDrives(t)
	letter("D")
	for _, way := range []string{"resume", "undo"} {
		s := gapStories()[0]
		b := newCrashBed(t, program, [3]string{skerry, basalt, skerry})
		out, code := b.set(s).faulted(s, "kill:aside.act")
		require.Equal(t, -1, code, out)
		require.False(t, lab.Exists(b.folder), "in the gap")
		require.NoError(t, os.Mkdir(b.folder, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(b.folder, "saved in the gap"), []byte("x"), 0o644))
		out = b.Want(0, way, "--yes")
		require.Contains(t, out, "between two renames")
		require.Contains(t, out, "[gap-filled]")
		aside, err := filepath.Glob(filepath.Join(b.skerry, ".Documents.gap-*"))
		require.NoError(t, err)
		require.Len(t, aside, 1)
		require.FileExists(t, filepath.Join(aside[0], "saved in the gap"))
		b.whole(t, s)
	}
}
