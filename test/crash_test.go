package test

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

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
}

// crashTree is small, and has one of everything.
var crashTree = lab.Tree{
	"Documents/a: a", "Documents/deep/er/b: b", "Documents/deep/er/c: c", "Documents/empty/", "Documents/l => deep/er/b", "Documents/z: z",
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
	require.NoError(t, lab.AgeTree(b.folder))
	b.content = lab.Print(t, b.folder)
	return b
}

// A crashStory is a command that is killed, after what comes before it.
type crashStory struct {
	name    string
	before  [][]string
	command []string
	end     func(t *testing.T, b *crashBed) // what holds when it is finished
	start   func(t *testing.T, b *crashBed) // what holds when it is undone; nil: it can't be
}

func crashStories() []crashStory {
	move := func(into string) []string { return []string{"move", "FOLDER", "--into", into + "/ines", "--yes", "-q"} }
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
	realFolder := func(t *testing.T, b *crashBed) {
		st, err := os.Lstat(b.folder)
		require.NoError(t, err)
		require.True(t, st.IsDir(), "the folder is real")
	}
	return []crashStory{
		{"move", nil, move("BASALT"), onBasalt, realFolder},
		{"bring-back", [][]string{move("BASALT")}, []string{"bring-back", "documents", "--yes", "-q"}, realFolder, onBasalt},
		{"move-on", [][]string{move("BASALT")}, move("DUNE"), onDune, onBasalt},
		{"detach", [][]string{move("BASALT")}, []string{"detach", "documents", "--yes"}, func(t *testing.T, b *crashBed) {
			require.NoFileExists(t, b.folder)
		}, onBasalt},
		{"discard-original", [][]string{move("BASALT")}, []string{"discard-original", "documents", "--yes", "-q"}, func(t *testing.T, b *crashBed) {
			onBasalt(t, b)
			left, err := filepath.Glob(filepath.Join(b.skerry, ".Documents.held-*"))
			require.NoError(t, err)
			require.Empty(t, left)
		}, nil},
	}
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

// steps lists the points at which the command can be killed.
func (b *crashBed) steps(s crashStory) []string {
	for _, c := range s.before {
		b.run(0, c)
	}
	b.Env = []string{"NEXLIN_FAULT=list"}
	out := b.run(0, s.command)
	b.Env = nil
	var steps []string
	lines := bufio.NewScanner(strings.NewReader(out))
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "step "); ok && !slices.Contains(steps, name) {
			steps = append(steps, name)
		}
	}
	return steps
}

// whole says that the link path leads to the whole folder at this moment
// (I1); after a detach nothing has to stand there.
func (b *crashBed) whole(t *testing.T, s crashStory) {
	t.Helper()
	if s.name == "detach" {
		return
	}
	real, err := filepath.EvalSymlinks(b.folder)
	require.NoError(t, err)
	require.Equal(t, b.content, lab.Print(t, real))
}

// Killed at every step, a run is finished by resume or taken back by undo,
// and both can be repeated (I3).
func TestCrashMatrix(t *testing.T) {
	drives := [3]string{}
	for i, name := range []string{"SKERRY", "BASALT", "DUNE"} {
		drives[i] = lab.Drive(t, "ext4", name, 64)
	}
	crashMatrix(t, drives, crashStories(), 1)
}

// The same where inode numbers say nothing and every file is flushed by
// itself; a sample of the steps, since every call goes through this process.
func TestCrashMatrixThroughFUSE(t *testing.T) {
	skerry := lab.Drive(t, "ext4", "SKERRY", 64)
	stories := slices.DeleteFunc(crashStories(), func(s crashStory) bool { return s.name == "move-on" || s.name == "detach" })
	crashMatrix(t, [3]string{skerry, lab.Faulty(t).At, skerry}, stories, 8)
}

// crashMatrix kills at every so many-th step. On real drives cases go side
// by side: each has folders and records of its own, and the drives have their
// tags from the run that lists the steps.
func crashMatrix(t *testing.T, drives [3]string, stories []crashStory, every int) {
	faulty, err := lab.Program("faults")
	require.NoError(t, err)
	cases := 0
	for _, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			steps := newCrashBed(t, faulty, drives).steps(s)
			require.GreaterOrEqual(t, len(steps), 3, "%v", steps)
			for i, step := range steps {
				if i%every != 0 {
					continue
				}
				for _, way := range []string{"resume", "undo"} {
					if way == "undo" && s.start == nil {
						continue
					}
					cases++
					t.Run(step+" "+way, func(t *testing.T) {
						if every == 1 {
							t.Parallel()
						}
						b := newCrashBed(t, faulty, drives)
						// Every other recovery is killed, too, and done again.
						b.crash(t, s, step, way, i/every%2 == 1)
					})
				}
			}
		})
	}
	t.Logf("%d cases", cases)
}

func (b *crashBed) crash(t *testing.T, s crashStory, step, way string, twice bool) {
	for _, c := range s.before {
		b.run(0, c)
	}
	b.Env = []string{"NEXLIN_FAULT=kill:" + step}
	b.run(-1, s.command)
	b.Env = nil
	b.whole(t, s)
	if !b.unfinished() {
		s.end(t, b) // the last step comes after the end
		return
	}
	run := b.LastRun()
	out, _ := b.Exit("list")
	require.Contains(t, out, "nexlin resume "+run)
	if twice {
		b.killRecovery(way, run)
		b.whole(t, s)
	}
	if b.unfinished() {
		b.Want(0, way, "--yes", "-q")
	}
	b.whole(t, s)
	if way == "resume" {
		s.end(t, b)
	} else {
		s.start(t, b)
	}
	require.False(t, b.unfinished())
	out, code := b.Exit(way, run, "--yes")
	require.Contains(t, []int{3}, code, "%s", out)
	b.noLitter(t)
}

// killRecovery kills the recovery at a step of its own, if it gets so far.
func (b *crashBed) killRecovery(way, run string) {
	for _, at := range []string{"place.act", "switch.act", "switch-back.act", "set-aside.intent", "hold.act", "part-removed", "part.act", "erase.act", "link.act"} {
		b.Env = []string{"NEXLIN_FAULT=kill:" + at}
		_, code := b.Exit(way, run, "--yes", "-q")
		b.Env = nil
		if code != -1 {
			return
		}
	}
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

// noLitter wants no part, probe or temporary link left anywhere.
func (b *crashBed) noLitter(t *testing.T) {
	t.Helper()
	for _, root := range []string{b.skerry, b.basalt, b.dune} {
		err := filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			for _, p := range []string{".nexlin-part-", ".nexlin-try-", ".nexlin-probe-", ".nexlin-link-", ".nexlin-late-"} {
				if strings.HasPrefix(filepath.Base(path), p) {
					return fmt.Errorf("left behind: %s", path)
				}
			}
			return nil
		})
		require.NoError(t, err)
	}
}
