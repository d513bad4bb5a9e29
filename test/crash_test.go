//go:build linux

package test

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

// A crashBed is a scene in which a command is killed at each of its steps.
type crashBed struct {
	*lab.Nexlin
	skerry, basalt, dune string
	folder               string
	content              string // print of the folder
	original, before     string // a held original and its print, where that is to stay so
	late                 bool   // late writes are part of the content, and arrive with the command
	settings             string // user-dirs.dirs as it was; empty where settings are not what it is about
	older                string // move into a target that has entries: print of it before
	gap                  bool   // link and folder can't be exchanged: between two renames nothing stands there
	target, merged       string // merge: prints of the target before, and as it is to be afterwards
}

// crashTree is small, and has one of everything.
var crashTree = lab.Tree{
	"Documents/a: a", "Documents/deep/er/b: b", "Documents/deep/er/c: c", "Documents/empty/", "Documents/hole: ",
	"Documents/l => deep/er/b", "Documents/z: z",
}

// newCrashBed gives each case folders of its own on shared drives.
func newCrashBed(t *testing.T, program string, drives [3]string) *crashBed {
	t.Helper()
	b := &crashBed{Nexlin: lab.New(t, program)}
	for i, at := range []*string{&b.skerry, &b.basalt, &b.dune} {
		dir, err := os.MkdirTemp(drives[i], "case-")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		*at = dir
	}
	b.folder = filepath.Join(b.skerry, "Documents")
	crashTree.Make(t, b.skerry)
	for _, name := range []string{"deep/another", "zz"} { // one file with three names
		require.NoError(t, os.Link(filepath.Join(b.folder, "a"), filepath.Join(b.folder, name)))
	}
	require.NoError(t, unix.Mkfifo(filepath.Join(b.folder, "pipe"), 0o640))
	require.NoError(t, unix.Setxattr(filepath.Join(b.folder, "z"), "user.species", []byte("redshank"), 0))
	require.NoError(t, os.Chown(filepath.Join(b.folder, "deep/er/b"), 12345, 23456))
	require.NoError(t, unix.Chmod(filepath.Join(b.folder, "deep/er/b"), 0o4755))
	require.NoError(t, os.Truncate(filepath.Join(b.folder, "hole"), 128<<10))
	require.NoError(t, lab.AgeTree(b.folder))
	b.content = lab.Print(t, b.folder)
	return b
}

// A crashStory is a command that is killed, after what comes before it.
type crashStory struct {
	name    string // its first word is the kind of run
	before  [][]string
	command []string
	end     func(t *testing.T, b *crashBed) // what holds when it is finished
	start   func(t *testing.T, b *crashBed) // what holds when it is undone; nil: it can't be
	prepare func(t *testing.T, b *crashBed) // after what comes before; may be nil
	setup   func(t *testing.T, b *crashBed) // before what comes before; may be nil
}

func (s *crashStory) kind() string { return strings.Fields(s.name)[0] }

func crashStories() []crashStory {
	move := func(into string) []string {
		return []string{"move", "FOLDER", "--into", into + "/ines", "--yes", "-q", "--accept", "target-in-memory"}
	}
	linked := func(at func(b *crashBed) string) func(*testing.T, *crashBed) {
		return func(t *testing.T, b *crashBed) {
			text, err := os.Readlink(b.folder)
			require.NoError(t, err)
			require.Equal(t, filepath.Join(at(b), "ines", "Documents"), text)
			b.Want(0, "check")
		}
	}
	onBasalt := linked(func(b *crashBed) string { return b.basalt })
	onDune := linked(func(b *crashBed) string { return b.dune })
	back := []string{"bring-back", "documents", "--yes", "-q", "--accept", "rights-would-grow"}
	discard := []string{"discard-original", "documents", "--yes", "-q"}
	discarded := func(t *testing.T, b *crashBed) {
		onBasalt(t, b)
		require.Empty(t, b.held(t))
	}
	// Undone, the held original has again what was taken from it.
	lent := func(t *testing.T, b *crashBed) {
		onBasalt(t, b)
		require.Empty(t, lab.Changes(b.before, lab.Print(t, b.original)))
	}
	realFolder := func(t *testing.T, b *crashBed) {
		st, err := os.Lstat(b.folder)
		require.NoError(t, err)
		require.True(t, st.IsDir(), "the folder is real")
	}
	stories := []crashStory{
		{"move", nil, move("BASALT"), onBasalt, realFolder, nil, nil},
		{"bring-back", [][]string{move("BASALT")}, back, realFolder, onBasalt, nil, nil},
		{"bring-back with what is held", [][]string{move("BASALT")}, append(back, "--use-held"), realFolder, lent,
			workedIn, nil},
		{"move-on", [][]string{move("BASALT")}, move("DUNE"), onDune, onBasalt, nil, nil},
		{"detach", [][]string{move("BASALT")}, []string{"detach", "documents", "--yes"},
			func(t *testing.T, b *crashBed) {
				require.NoFileExists(t, b.folder)
			}, onBasalt, nil, nil},
		{"discard-original", [][]string{move("BASALT")}, discard, discarded, nil, nil, nil},
		{"mend", [][]string{move("BASALT")}, []string{"mend", "documents", "--yes", "-q"},
			func(t *testing.T, b *crashBed) {
				onBasalt(t, b)
				require.Equal(t, b.content, lab.Print(t, b.folder+"/."))
			}, func(t *testing.T, b *crashBed) {
				text, err := os.Readlink(b.folder)
				require.NoError(t, err)
				require.Equal(t, "/nowhere", text)
				require.Equal(t, b.content, lab.Print(t, filepath.Join(b.basalt, "ines", "Documents")))
			}, astray, nil},
		{"merge-halves", [][]string{move("BASALT"), discard}, []string{"mend", "documents", "--yes", "-q"}, onBasalt,
			func(t *testing.T, b *crashBed) {
				realFolder(t, b)
				require.Empty(t, lab.Changes(b.target, lab.Print(t, filepath.Join(b.basalt, "ines", "Documents"))))
			}, split, nil},
		{"restore-links", [][]string{move("BASALT"), discard}, []string{"restore-links", "BASALT/ines", "--accept",
			"outside-home", "--yes", "-q"}, func(t *testing.T, b *crashBed) {
			// killed between its two runs, the link is still to be made
			b.run(0, []string{"restore-links", "BASALT/ines", "--accept", "outside-home", "--yes", "-q"})
			onBasalt(t, b)
			require.Equal(t, b.content, lab.Print(t, b.folder+"/."))
		}, func(t *testing.T, b *crashBed) {
			require.NoFileExists(t, b.folder)
			require.Equal(t, b.content, lab.Print(t, filepath.Join(b.basalt, "ines", "Documents")))
		}, freshSystem, nil},
		{"record", nil, []string{"record", "FOLDER", "--copy", "BASALT/ines/Documents", "--accept",
			"target-in-memory", "--yes", "-q"}, onBasalt, realFolder, copiedByHand, nil},
		{"update-manifest", [][]string{move("BASALT")},
			[]string{"check", "documents", "--deep", "--update-manifest", "-q"}, func(t *testing.T, b *crashBed) {
				onBasalt(t, b)
				if b.lastDone() == "update-manifest" {
					require.NotContains(t, b.Want(0, "check", "--deep"), "changed-since")
				}
			}, onBasalt, workedIn, nil},
		{"discard-original after late writes", [][]string{move("BASALT")}, discard, discarded, nil, writeLate, nil},
	}
	return stories
}

// allStories are those and the ones that the slower matrices leave out.
func allStories() []crashStory {
	move := func(into string) []string {
		return []string{"move", "FOLDER", "--into", into + "/ines", "--yes", "-q", "--accept", "target-in-memory"}
	}
	back := []string{"bring-back", "documents", "--yes", "-q", "--accept", "rights-would-grow"}
	return slices.Concat(crashStories(), settingStories(move, back), archiveStories(), unusualMoves(move))
}

// unusualMoves are those after which the target is not just what the folder was.
func unusualMoves(move func(into string) []string) []crashStory {
	target := func(b *crashBed) string { return filepath.Join(b.basalt, "ines", "Documents") }
	asBefore := func(t *testing.T, b *crashBed) {
		st, err := os.Lstat(b.folder)
		require.NoError(t, err)
		require.True(t, st.IsDir(), "the folder is real")
		require.Empty(t, lab.Changes(b.content, lab.Print(t, b.folder)))
		if b.older != "" {
			require.Empty(t, lab.Changes(b.older, lab.Print(t, target(b))))
		}
	}
	return []crashStory{
		{"move that starts empty", nil, append(move("BASALT"), "--start-empty"), func(t *testing.T, b *crashBed) {
			b.Want(0, "check")
			held := b.held(t)
			require.Len(t, held, 1)
			require.Empty(t, lab.Changes(b.content, lab.Print(t, held[0])))
			names, err := os.ReadDir(target(b))
			require.NoError(t, err)
			require.Empty(t, names)
		}, asBefore, nil, nil},
		{"merge-halves of a move", nil, append(move("BASALT"), "--merge"), func(t *testing.T, b *crashBed) {
			b.Want(0, "check")
			for _, ours := range []string{"a", "deep/er/b", "deep/er/c", "z"} {
				require.FileExists(t, filepath.Join(b.folder, ours))
			}
			for _, line := range strings.Split(strings.TrimSpace(b.older), "\n") {
				require.Contains(t, lab.Print(t, target(b)), line, "nothing of the target's was touched")
			}
		}, asBefore, nil, func(t *testing.T, b *crashBed) {
			lab.Tree{"ines/Documents/older: o", "ines/Documents/deep/older: p", "ines/Documents/a: a"}.Make(t, b.basalt)
			require.NoError(t, lab.AgeTree(filepath.Join(b.basalt, "ines")))
			b.older = lab.Print(t, target(b))
		}},
	}
}

// archiveStories pack a folder, and make it again from an archive.
func archiveStories() []crashStory {
	archive := func(b *crashBed) string { return filepath.Join(b.dune, "d.tar.zst") }
	back := func(b *crashBed) string { return filepath.Join(b.dune, "Documents") }
	pack := []string{"pack", "FOLDER", "--output", "DUNE/d.tar.zst", "--yes", "-q"}
	packed := func(t *testing.T, b *crashBed) {
		b.Want(0, "unpack", archive(b), "--into", b.dune, "--yes", "-q")
		require.Equal(t, b.content, lab.Print(t, back(b)))
		require.NoError(t, os.RemoveAll(back(b)))
	}
	unpacked := func(t *testing.T, b *crashBed) { require.Equal(t, b.content, lab.Print(t, back(b))) }
	// What had its name already when the run was killed stays when it is undone, and is whole.
	orNothing := func(path func(b *crashBed) string, whole func(t *testing.T, b *crashBed)) func(t *testing.T,
		b *crashBed) {
		return func(t *testing.T, b *crashBed) {
			if _, err := os.Lstat(path(b)); err == nil {
				whole(t, b)
			}
		}
	}
	return []crashStory{
		{"pack", nil, pack, packed, orNothing(archive, packed), nil, nil},
		{"unpack", [][]string{pack}, []string{"unpack", "DUNE/d.tar.zst", "--into", "DUNE", "--yes", "-q"}, unpacked,
			orNothing(back, unpacked), nil, nil},
	}
}

// userDirs are the settings that the crash cases begin with.
const userDirs = "# kept\nXDG_DOCUMENTS_DIR=\"$HOME/Documents\"\nXDG_MUSIC_DIR=\"$HOME/Music\"\nother\n"

// settingStories are those in which settings files are changed.
func settingStories(move func(into string) []string, back []string) []crashStory {
	by := func(into, how string) []string { return append(move(into), "--by", how) }
	led := func(at func(b *crashBed) string, link bool) func(*testing.T, *crashBed) {
		return func(t *testing.T, b *crashBed) {
			require.Equal(t, filepath.Join(at(b), "ines", "Documents"), b.setTo("DOCUMENTS"))
			require.Contains(t, b.userDirs(), "# kept\n")
			_, err := os.Lstat(b.folder)
			require.Equal(t, link, err == nil)
			b.Want(0, "check")
		}
	}
	onBasalt, onDune := func(b *crashBed) string { return b.basalt }, func(b *crashBed) string { return b.dune }
	asBefore := func(t *testing.T, b *crashBed) {
		require.Equal(t, b.settings, b.userDirs())
		st, err := os.Lstat(b.folder)
		require.NoError(t, err)
		require.True(t, st.IsDir(), "the folder is real")
	}
	both := func(t *testing.T, b *crashBed) {
		led(onBasalt, true)(t, b)
		require.Equal(t, filepath.Join(b.basalt, "ines", "Music"), b.setTo("MUSIC"))
		require.FileExists(t, filepath.Join(b.skerry, "Music", "m"))
	}
	neither := func(t *testing.T, b *crashBed) {
		asBefore(t, b)
		st, err := os.Lstat(filepath.Join(b.skerry, "Music"))
		require.NoError(t, err)
		require.True(t, st.IsDir(), "all or nothing")
	}
	drift := func(t *testing.T, b *crashBed) {
		require.NoError(t, os.WriteFile(filepath.Join(b.skerry, ".config", "user-dirs.dirs"), []byte(b.settings),
			0o600))
	}
	return []crashStory{
		{"move by setting", nil, by("BASALT", "setting"), led(onBasalt, false), asBefore, nil, withSettings},
		{"bring-back of what a setting leads to", [][]string{by("BASALT", "setting")}, back, asBefore,
			led(onBasalt, false), nil, withSettings},
		{"move-on of what a setting leads to", [][]string{by("BASALT", "setting")}, move("DUNE"), led(onDune, false),
			led(onBasalt, false), nil, withSettings},
		{"mend of a setting", [][]string{by("BASALT", "setting+symlink")},
			[]string{"mend", "documents", "--yes", "-q"}, led(onBasalt, true), func(t *testing.T, b *crashBed) {
				require.Equal(t, b.settings, b.userDirs())
			}, drift, withSettings},
		{"move-together", nil, []string{"move", "--profile", "documents,music", "--into", "BASALT/ines", "--yes",
			"-q", "--accept", "target-in-memory"}, both, neither, nil, withSettings},
	}
}

// withSettings makes the system drive's case a home with location settings.
func withSettings(t *testing.T, b *crashBed) {
	b.Home, b.settings = b.skerry, userDirs
	for path, text := range map[string]string{".config/user-dirs.dirs": userDirs, "Music/m": "m"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(b.skerry, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(b.skerry, path), []byte(text), 0o600))
	}
}

func (b *crashBed) userDirs() string {
	b.T.Helper()
	text, err := os.ReadFile(filepath.Join(b.skerry, ".config", "user-dirs.dirs"))
	require.NoError(b.T, err)
	return string(text)
}

// setTo is where a location setting leads.
func (b *crashBed) setTo(kind string) string {
	b.T.Helper()
	m := regexp.MustCompile("(?m)^XDG_" + kind + "_DIR=\"(.*)\"$").FindStringSubmatch(b.userDirs())
	require.NotNil(b.T, m, b.userDirs())
	return strings.Replace(m[1], "$HOME", b.Home, 1)
}

// astray has the link lead elsewhere, and the target note be gone.
func astray(t *testing.T, b *crashBed) {
	require.NoError(t, os.Remove(b.folder))
	require.NoError(t, os.Symlink("/nowhere", b.folder))
	require.NoError(t, os.Remove(filepath.Join(b.basalt, "ines", ".nexlin", "documents.json")))
}

// copiedByHand has somebody copy the folder to the drive.
func copiedByHand(t *testing.T, b *crashBed) {
	require.NoError(t, os.Mkdir(filepath.Join(b.basalt, "ines"), 0o755))
	lab.Run(t, "cp", "-a", b.folder, filepath.Join(b.basalt, "ines", "Documents"))
}

// freshSystem loses the link and all records.
func freshSystem(t *testing.T, b *crashBed) {
	require.NoError(t, os.Remove(b.folder))
	require.NoError(t, os.Rename(b.State, b.State+".lost"))
}

// split has a program make a real folder in the link's place, with one of
// everything: new, equal, younger, older, another kind of thing.
func split(t *testing.T, b *crashBed) {
	require.NoError(t, os.Remove(b.folder))
	lab.Tree{
		"Documents/a: a", "Documents/new: new", "Documents/deep/er/b: younger", "Documents/deep/er/c: older",
		"Documents/deep/er/d: d",
		"Documents/whole/new/one: 1", "Documents/whole/two: 2", "Documents/empty: a file", "Documents/l => deep/er/d",
		"Documents/l2 => new",
	}.Make(t, b.skerry)
	require.NoError(t, lab.AgeTree(b.folder))
	require.NoError(t, os.Link(filepath.Join(b.folder, "new"), filepath.Join(b.folder, "deep", "another")))
	for name, at := range map[string]time.Time{"deep/er/b": time.Date(2035, 1, 1, 0, 0, 0, 0, time.UTC),
		"deep/er/c": time.Unix(1000, 0)} {
		require.NoError(t, os.Chtimes(filepath.Join(b.folder, name), at, at))
	}
	b.content, b.target = lab.Print(t, b.folder), lab.Print(t, filepath.Join(b.basalt, "ines", "Documents"))
}

var runID = regexp.MustCompile(`\d{8}-[a-z2-7]{5}`)

// workedIn has somebody work at the target.
func workedIn(t *testing.T, b *crashBed) {
	held := b.held(t)
	require.Len(t, held, 1)
	b.original, b.before = held[0], lab.Print(t, held[0])
	require.NoError(t, os.WriteFile(filepath.Join(b.folder, "deep/er/c"), []byte("worked in"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(b.folder, "z")))
	b.content = lab.Print(t, b.folder+"/.")
}

// writeLate writes to the held original, as a program with files still open
// there does.
func writeLate(t *testing.T, b *crashBed) {
	held := b.held(t)
	require.Len(t, held, 1)
	at := func(rel string) string { return filepath.Join(held[0], rel) }
	// A directory's own time is no late write: it changes with the names in it.
	for _, dir := range []string{".", "deep"} {
		st, err := os.Stat(at(dir))
		require.NoError(t, err)
		defer func() {
			require.NoError(t, os.Chtimes(at(dir), time.Unix(0, 0), st.ModTime()))
			b.content = lab.Print(t, held[0])
		}()
	}
	require.NoError(t, os.WriteFile(at("deep/er/c"), []byte("written late"), 0o644))
	require.NoError(t, os.MkdirAll(at("deep/late/er"), 0o750))
	require.NoError(t, os.WriteFile(at("deep/late/er/new"), []byte("new"), 0o600))
	require.NoError(t, os.Symlink("nowhere", at("late link")))
	b.late = true
}

// held lists the held originals beside the link.
func (b *crashBed) held(t *testing.T) []string {
	t.Helper()
	held, err := filepath.Glob(filepath.Join(b.skerry, ".Documents.held-*"))
	require.NoError(t, err)
	return held
}

func (b *crashBed) run(status int, args []string) string {
	b.T.Helper()
	return b.Want(status, b.fill(args)...)
}

func (b *crashBed) fill(args []string) []string {
	out := slices.Clone(args)
	for i := range out {
		out[i] = strings.NewReplacer("FOLDER", b.folder, "BASALT", b.basalt, "DUNE", b.dune).Replace(out[i])
	}
	return out
}

// set does what comes before the command of a story.
func (b *crashBed) set(s crashStory) *crashBed {
	if s.setup != nil {
		s.setup(b.T.(*testing.T), b)
	}
	for _, c := range s.before {
		b.run(0, c)
	}
	if s.prepare != nil {
		s.prepare(b.T.(*testing.T), b)
	}
	return b
}

// faulted runs the command of a story with a fault. With NEXLIN_OLDER an older build
// does, with the tag faults, whose runs this one has to finish and to take back.
func (b *crashBed) faulted(s crashStory, fault string) (string, int) {
	b.Env = []string{"NEXLIN_FAULT=" + fault}
	program := b.Program
	if older := os.Getenv("NEXLIN_OLDER"); older != "" && strings.HasPrefix(fault, "kill:") {
		b.Program = older
	}
	defer func() { b.Env, b.Program = nil, program }()
	return b.Exit(b.fill(s.command)...)
}

// points lists in order what the command of a story goes through: "list" the
// steps at which it can be killed, "calls" its system calls.
func (b *crashBed) points(s crashStory, list, kind string) (names []string) {
	out, code := b.set(s).faulted(s, list)
	require.Zero(b.T, code, out)
	lines := bufio.NewScanner(strings.NewReader(out))
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), kind+" "); ok {
			names = append(names, name)
		}
	}
	require.GreaterOrEqual(b.T, len(names), 3, out)
	return names
}

// memoryDrives are three drives on which flushing costs nothing.
func memoryDrives(t *testing.T) (drives [3]string) {
	for i, name := range []string{"SKERRY", "BASALT", "DUNE"} {
		drives[i] = lab.MemoryDrive(t, name, 64)
	}
	return drives
}

// whole says that the link path leads to the whole folder (I1); after a
// detach nothing has to stand there.
func (b *crashBed) whole(t *testing.T, s crashStory) {
	t.Helper()
	require.Empty(t, b.changed(t, s))
}

// wholeMidway is whole for a run that was stopped: if that was in the middle
// of the trial, its probe file is there, and shows in the folder's own time.
func (b *crashBed) wholeMidway(t *testing.T, s crashStory) {
	t.Helper()
	for _, line := range b.changed(t, s) {
		if b.late && strings.Contains(line, "late") || strings.Contains(line, "deep/er/c") {
			continue
		}
		require.Regexp(t, `^(now|was) ("\." 040\d+ 0:0 |"\.nexlin-probe-)`, line)
	}
}

func (b *crashBed) changed(t *testing.T, s crashStory) []string {
	t.Helper()
	if strings.HasSuffix(s.name, "starts empty") || b.older != "" {
		return nil // it says itself what is to be where
	}
	if s.name == "detach" || s.name == "mend" || s.name == "restore-links" {
		return nil // the link path leads nowhere before or after it
	}
	real, err := filepath.EvalSymlinks(b.folder)
	if os.IsNotExist(err) && b.settings != "" { // programs are led there by the setting
		real, err = b.setTo("DOCUMENTS"), nil
	}
	if os.IsNotExist(err) && b.gap && b.unfinished() {
		aside, _ := filepath.Glob(filepath.Join(b.skerry, ".*Documents*"))
		parts, _ := filepath.Glob(filepath.Join(b.skerry, ".nexlin-part-*"))
		require.NotEmpty(t, append(aside, parts...))
		real, err = append(aside, parts...)[0], nil
	}
	require.NoError(t, err)
	before, now := b.content, lab.Print(t, real)
	if b.late { // the times of directories follow from what is brought into them
		before, now = dirTime.ReplaceAllString(before, "$1"), dirTime.ReplaceAllString(now, "$1")
	}
	changes := lab.Changes(before, now)
	if b.target != "" && real != b.folder {
		changes = lab.Changes(b.mergedPrint(t, s), runID.ReplaceAllString(now, "RUN"))
	}
	return changes
}

// mergedPrint is the target after a merge that nothing went wrong with, in
// folders of its own.
func (b *crashBed) mergedPrint(t *testing.T, s crashStory) string {
	if b.merged != "" {
		return b.merged
	}
	ref := newCrashBed(t, b.Program, [3]string{filepath.Dir(b.skerry), filepath.Dir(b.basalt), filepath.Dir(b.dune)})
	ref.set(s).run(0, s.command)
	b.merged = runID.ReplaceAllString(lab.Print(t, filepath.Join(ref.basalt, "ines", "Documents")), "RUN")
	for _, both := range []string{"older", "younger", "new", "a file", "1", "2"} {
		require.Contains(t, b.merged, sha(both), "the merge has lost something")
	}
	for _, line := range strings.Split(strings.TrimSpace(b.target), "\n") {
		if m := digest.FindString(line); m != "" {
			require.Contains(t, b.merged, m, "the merge has lost something of the target")
		}
	}
	return b.merged
}

var digest = regexp.MustCompile(`[0-9a-f]{64}$`)

func sha(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:])
}

var dirTime = regexp.MustCompile(`(?m)( 04\d+ \d+:\d+) [\d.]+$`)

// Killed at its steps, a run is finished by resume or taken back by undo, and both can
// be repeated (I3). That holds at every step in process (internal/jobs); here a sample
// of them ends the built program.
func TestCrashMatrix(t *testing.T) {
	crashMatrix(t, memoryDrives(t), allStories(), everyNth(20), true)
}

// The same between the steps: before system calls of any kind.
func TestCrashBetweenSteps(t *testing.T) {
	drives := memoryDrives(t)
	for _, s := range allStories() {
		t.Run(s.name, func(t *testing.T) {
			calls := len(newCrashBed(t, program, drives).points(s, "calls", "call"))
			// Parallel work, and drives that come and go on this machine, make the
			// last numbers differ from run to run.
			at := sample(calls*85/100, everyNth(900))
			for i, n := range at {
				way := []string{"resume", "undo"}[i%2]
				if s.start == nil {
					way = "resume"
				}
				t.Run(fmt.Sprintf("call %d of %d %s", n, calls, way), func(t *testing.T) {
					t.Parallel()
					newCrashBed(t, program, drives).crash(t, s, fmt.Sprintf("call-kill:%d", n), way, i%4 > 1)
				})
			}
			t.Logf("%d cases", len(at))
		})
	}
}

// The same where inode numbers say nothing and every file is flushed by
// itself; a sample of the steps, since every call goes through this process.
func TestCrashMatrixThroughFUSE(t *testing.T) {
	skerry := lab.Drive(t, "ext4", "SKERRY", 64)
	stories := slices.DeleteFunc(crashStories(), func(s crashStory) bool {
		return strings.Contains("move-on detach bring-back with what is held", s.name) && s.name != "bring-back"
	})
	crashMatrix(t, [3]string{skerry, lab.Faulty(t).At, skerry}, stories, everyNth(20), false)
}

// crashMatrix kills at every so many-th step, cases one after the other or side by
// side: each has folders and records of its own, and the drives have their tags from
// the run that lists the steps.
func crashMatrix(t *testing.T, drives [3]string, stories []crashStory, every int, beside bool) {
	cases := 0
	for k, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			steps := newCrashBed(t, program, drives).points(s, "list", "step")
			slices.Sort(steps)
			for i, step := range slices.Compact(steps) {
				nth := every
				if k >= len(crashStories()) {
					nth = max(every, everyNth(16)) // of the newer stories fewer
				}
				if i%nth != 0 {
					continue
				}
				for n, way := range []string{"resume", "undo"} {
					// In turn, as far as the run can be undone.
					if way == "undo" && s.start == nil || everyNth(2) == 2 && s.start != nil && i/nth%2 != n {
						continue
					}
					cases++
					t.Run(step+" "+way, func(t *testing.T) {
						if beside {
							t.Parallel()
						}
						b := newCrashBed(t, program, drives)
						// Every other recovery is killed, too, and done again.
						b.crash(t, s, "kill:"+step, way, i/nth%4 > 1)
					})
				}
			}
		})
	}
	t.Logf("%d cases", cases)
}

func (b *crashBed) crash(t *testing.T, s crashStory, kill, way string, twice bool) {
	out, code := b.set(s).faulted(s, kill)
	require.Equal(t, -1, code, out)
	b.wholeMidway(t, s)
	if !b.unfinished() {
		b.startedOrEnded(t, s)
		return
	}
	run := b.stoppedRun()
	out, _ = b.Exit("list")
	require.Contains(t, out, "nexlin resume "+run)
	if twice {
		b.killRecovery(way, run)
		b.wholeMidway(t, s)
	}
	b.recovered(t, s, way, run)
}

// recovered finishes or takes back the run that was stopped, and wants the
// same again to change nothing.
func (b *crashBed) recovered(t *testing.T, s crashStory, way, run string) {
	if b.unfinished() {
		b.Want(0, way, "--yes")
	}
	b.whole(t, s)
	if way == "resume" {
		s.end(t, b)
	} else {
		s.start(t, b)
	}
	require.False(t, b.unfinished())
	before := b.world(t)
	out, code := b.Exit(way, run, "--yes")
	require.Equal(t, 3, code, out)
	require.Empty(t, lab.Changes(before, b.world(t)))
	b.noLitter(t)
}

// startedOrEnded is for a command that left no run unfinished: either it has
// not begun, and does its work when it is run again, or it was at its end.
func (b *crashBed) startedOrEnded(t *testing.T, s crashStory) {
	if b.lastDone() != s.kind() {
		b.run(0, s.command)
	}
	if s.kind() == "update-manifest" {
		b.wholeMidway(t, s) // a check that is killed in its trial leaves the probe
	} else {
		b.whole(t, s)
	}
	s.end(t, b)
}

// world prints all drives.
func (b *crashBed) world(t *testing.T) string {
	return lab.Print(t, b.skerry) + lab.Print(t, b.basalt) + lab.Print(t, b.dune)
}

// killRecovery kills the recovery at a step of its own, if it gets so far.
func (b *crashBed) killRecovery(way, run string) {
	for _, at := range []string{"place.act", "switch.act", "switch-back.act", "set-aside.intent", "hold.act",
		"unmerge.intent", "unmerged-2", "settle.act", "tidy.intent", "part-removed", "part.act", "erase.act",
		"link.act"} {
		b.Env = []string{"NEXLIN_FAULT=kill:" + at}
		_, code := b.Exit(way, run, "--yes", "-q")
		b.Env = nil
		if code != -1 {
			return
		}
	}
}

// stoppedRun is the run that was stopped; of several in one, the whole.
func (b *crashBed) stoppedRun() string {
	b.T.Helper()
	id := b.LastRun()
	for _, r := range b.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["state"] == "stopped" &&
			strings.HasSuffix(run["kind"].(string), "-together") {
			id = run["id"].(string)
		}
	}
	return id
}

func (b *crashBed) unfinished() bool {
	b.T.Helper()
	for _, r := range b.JSON("history")["runs"].([]any) {
		if r.(map[string]any)["state"] == "stopped" {
			return true
		}
	}
	return false
}

// lastDone is the kind of the newest run that was done; empty if none was.
func (b *crashBed) lastDone() string {
	b.T.Helper()
	for _, r := range b.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["state"] == "done" {
			return run["kind"].(string)
		}
	}
	return ""
}

// noLitter wants no part, probe or temporary link left anywhere.
func (b *crashBed) noLitter(t *testing.T) {
	t.Helper()
	for _, root := range []string{b.skerry, b.basalt, b.dune} {
		err := filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			name, in := filepath.Base(path), filepath.Base(filepath.Dir(path))
			if strings.HasPrefix(name, ".nexlin-") || in == ".nexlin" && strings.HasPrefix(name, ".") {
				return fmt.Errorf("left behind: %s", path)
			}
			return nil
		})
		require.NoError(t, err)
	}
}
