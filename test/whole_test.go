//go:build linux

package test

import (
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"nexlin/test/lab"
)

// Everything that a folder can hold arrives, on every pair of file systems,
// and comes back: compared entry by entry.
func TestNothingOfANastyFolderIsLost(t *testing.T) {
	for _, way := range [][2]string{{"ext4", "ext4"}, {"ext4", "xfs"}, {"ext4", "btrfs"}, {"btrfs", "ext4"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) {
			t.Parallel()
			skerry, basalt := lab.Drive(t, way[0], "SKERRY", 320), lab.Drive(t, way[1], "BASALT", 320)
			folder := filepath.Join(skerry, "home", "Nasty")
			leadOut := lab.Nasty(t, folder)
			before := lab.Print(t, folder)
			n := lab.New(t, plain(t))
			out := n.Want(0, "move", folder, "--into", filepath.Join(basalt, "ines"), "--yes")
			require.Contains(t, out, "6 relative links lead out of")
			target := filepath.Join(basalt, "ines", "Nasty")
			require.Equal(t, rewritten(t, before, leadOut), lab.Print(t, target))

			// Stock tools say the same of it, by what lies beside it.
			if _, err := exec.LookPath("mtree"); err != nil {
				lab.Skip(t, "mtree is not installed")
			}
			require.Empty(t, lab.Run(t, "mtree", "-f", filepath.Join(basalt, "ines", ".nexlin", "nasty.mtree"), "-p",
				target))
			list, err := n.Cmd("show", "nasty", "--manifest", "sha256").Output()
			require.NoError(t, err)
			sums := filepath.Join(t.TempDir(), "sums")
			require.NoError(t, os.WriteFile(sums, list, 0o644))
			lab.Run(t, "sh", "-c", "cd \"$1\" && sha256sum --quiet -c \"$2\"", "sh", target, sums)
			n.Want(0, "check")

			// Taken back, and moved again.
			n.Want(0, "undo", n.LastRun(), "--yes", "-q")
			require.Equal(t, before, lab.Print(t, folder))
			n.Want(0, "discard-original", "nasty", "--yes", "-q")
			n.Want(0, "move", folder, "--into", filepath.Join(basalt, "ines"), "--yes", "-q")

			// On to a third drive, and home: the links say again what they said.
			dune := lab.Drive(t, "ext4", "DUNE", 320)
			n.Want(0, "move", "nasty", "--into", dune, "--yes", "-q", "--digest", "blake3")
			require.Equal(t, rewritten(t, before, leadOut), lab.Print(t, filepath.Join(dune, "Nasty")))
			n.Want(0, "bring-back", "nasty", "--yes", "-q")
			require.Equal(t, before, lab.Print(t, folder))
			n.Want(0, "discard-original", "nasty", "--yes", "-q")
			require.Contains(t, n.Want(0, "list", "--held"), "nothing is held")
			require.NoDirExists(t, target)
		})
	}
}

// rewritten is a print of the folder in which the links that lead out say
// where to.
func rewritten(t *testing.T, print string, leadOut map[string]string) string {
	t.Helper()
	lines := strings.Split(print, "\n")
	for rel, path := range leadOut {
		i := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, fmt.Sprintf("%q ", rel)) })
		require.GreaterOrEqual(t, i, 0, rel)
		head, _, ok := strings.Cut(lines[i], " -> ")
		require.True(t, ok, lines[i])
		lines[i] = head + fmt.Sprintf(" -> %q", path)
	}
	return strings.Join(lines, "\n")
}

// counts says how many entries the findings of one severity are about, by
// their codes.
func counts(doc map[string]any, severity string) map[string]int {
	out := map[string]int{}
	for _, f := range doc["findings"].([]any) {
		f := f.(map[string]any)
		if f["severity"] == severity {
			n, _ := f["count"].(float64)
			out[f["code"].(string)] = int(n)
		}
	}
	return out
}

// A drive of another system is told what it can't keep, entry by entry;
// with that gone and the rest accepted, what arrives is exactly what is left.
func TestDrivesThatKeepLess(t *testing.T) {
	for kind, c := range map[string]struct {
		refused map[string]int // and can't be accepted
		losses  map[string]int // accepted one by one
		take    string         // takes out what is refused
	}{
		"exfat": {
			map[string]int{"names-not-kept": 8, "names-collide": 2, "links-not-kept": 16, "special-files": 6},
			map[string]int{"acls-not-kept": 2, "attributes-not-kept": 3, "hard-links-split": 8, "modes-not-kept": 418,
				"owners-not-kept": 15, "private-exposed": 7, "times-rounded": 435},
			`find . -type l -delete; rm -r special names/readme names/*control names/new* names/tab* names/back* names/quote* names/a:* names/*not\ text`,
		},
		"ntfs": {
			map[string]int{"names-not-kept": 2, "attributes-do-not-fit": 3, "links-not-kept": 1},
			map[string]int{"acls-not-kept": 2, "modes-not-kept": 418, "owners-not-kept": 15, "private-exposed": 7,
				"times-rounded": 431},
			`rm names/*not\ text links/bytes*; rm -r attributes`,
		},
	} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			skerry := lab.Drive(t, "ext4", "SKERRY", 320)
			dune, remount := lab.FuseDrive(t, kind, "DUNE", 128)
			folder := filepath.Join(skerry, "home", "Nasty")
			lab.Nasty(t, folder)
			before := lab.Print(t, folder)
			n := lab.New(t, program)
			doc := n.JSON("move", folder, "--into", dune, "--yes")
			want := maps.Clone(c.losses)
			maps.Copy(want, c.refused)
			require.Equal(t, want, counts(doc, "blocker"))
			require.Equal(t, before, lab.Print(t, folder))
			require.Empty(t, names(t, dune), "the trial leaves nothing")

			cmd := exec.Command("sh", "-ec", c.take)
			cmd.Dir = folder
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			args := []string{"move", folder, "--into", dune, "--yes"}
			n.Want(3, args...)
			for code := range c.losses {
				args = append(args, "--accept", code)
			}
			kept := filepath.Join(t.TempDir(), "kept")
			lab.Run(t, "cp", "-a", folder, kept)
			said := n.Want(0, args...)
			require.Contains(t, said, "through the file system")
			target := filepath.Join(dune, "Nasty")
			same := func(dir string) {
				t.Helper()
				lab.Run(t, "diff", "-r", "--no-dereference", "-x", "special", "-x", "links", "-x", "out at the top",
					"-x", "way", "-x", "through", kept, dir)
			}
			same(target)
			require.Equal(t, []string{".nexlin", "Nasty"}, names(t, dune))
			remount() // its inode numbers may be others now
			n.Want(0, "check")
			n.Want(0, "try", "nasty")
			n.Want(0, "bring-back", "nasty", "--yes")
			same(folder)
			remount()
			n.Want(0, "discard-original", "nasty", "--yes")
			require.Equal(t, []string{".nexlin"}, names(t, dune))
			// An undo, of a run that was not used.
			n.Want(0, args...)
			remount()
			n.Want(0, "undo", n.LastRun(), "--yes")
			same(folder)
			n.Want(0, "discard-original", "nasty", "--yes")
			require.Equal(t, []string{".nexlin"}, names(t, dune))
		})
	}
}

func names(t *testing.T, dir string) []string {
	t.Helper()
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	var out []string
	for _, e := range list {
		out = append(out, e.Name())
	}
	return out
}

// A socket at which a program waits stays where the program looks for it; a
// name that is left of one goes with the folder.
func TestSockets(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "S", 16), lab.Drive(t, "ext4", "B", 16)
	folder := filepath.Join(skerry, "run")
	lab.Tree{"a: a"}.Make(t, folder)
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(folder, "door"), Net: "unix"})
	require.NoError(t, err)
	l.SetUnlinkOnClose(false)
	n := lab.New(t, raced)
	before := lab.Print(t, skerry)
	out := n.Want(6, "move", folder, "--into", basalt, "--yes")
	require.Contains(t, out, "[socket-in-use]")
	require.Contains(t, out, filepath.Join(folder, "door"))
	require.Equal(t, before, lab.Print(t, skerry))
	require.NoError(t, l.Close())
	before = lab.Print(t, folder)
	n.Want(0, "move", folder, "--into", basalt, "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "run")))
}

// Files with a name outside the folder are told before they become two.
func TestHardLinksThatLeadOut(t *testing.T) {
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
	folder := filepath.Join(skerry, "docs")
	lab.Tree{"a: a", "b: b"}.Make(t, folder)
	for old, name := range map[string]string{"docs/a": "outside", "docs/b": "docs/c"} {
		require.NoError(t, os.Link(filepath.Join(skerry, old), filepath.Join(skerry, name)))
	}
	n := lab.New(t, raced)
	doc := n.JSON("move", folder, "--into", basalt, "--yes")
	require.Equal(t, map[string]int{"hard-links-lead-out": 1}, counts(doc, "blocker"))
	n.Want(0, "move", folder, "--into", basalt, "--yes", "--accept", "hard-links-lead-out")
	n.Want(0, "check", "--deep")
	n.Want(0, "discard-original", "docs", "--yes")
	content, err := os.ReadFile(filepath.Join(skerry, "outside"))
	require.NoError(t, err)
	require.Equal(t, "a", string(content), "the other name keeps its file")
}

// An op makes one entry of a generated tree, or changes one.
type op struct {
	Act, At, Other string
	N              int
}

// anyTree draws trees with few names, so that acts meet.
func anyTree() *rapid.Generator[[]op] {
	path := rapid.Custom(func(t *rapid.T) string {
		parts := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "a b", "\xff", "c.d", "-x", "é"}), 1, 4).Draw(t,
			"path")
		return filepath.Join(parts...)
	})
	return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) op {
		return op{
			rapid.SampledFrom([]string{"dir", "file", "file", "file", "symlink", "link", "link", "fifo", "hole",
				"mode", "owner", "attribute"}).Draw(t, "act"),
			path.Draw(t, "at"), path.Draw(t, "other"), rapid.IntRange(0, 1<<16).Draw(t, "n"),
		}
	}), 1, 60)
}

// do carries an op out; one that does not fit the tree as it is does nothing.
func (o op) do(root string) {
	at, other := filepath.Join(root, o.At), filepath.Join(root, o.Other)
	fi, err := os.Lstat(at)
	there := err == nil
	_ = os.MkdirAll(filepath.Dir(at), 0o755)
	switch {
	case o.Act == "dir":
		_ = os.MkdirAll(at, 0o755)
	case o.Act == "file" && (!there || fi.Mode().IsRegular()):
		_ = os.WriteFile(at, []byte(strings.Repeat(o.Other, o.N%100)), 0o644)
	case o.Act == "symlink" && !there:
		_ = os.Symlink(strings.Repeat("../", o.N%5)+o.Other, at)
	case o.Act == "link" && there:
		_ = os.MkdirAll(filepath.Dir(other), 0o755)
		_ = os.Link(at, other)
	case o.Act == "fifo" && !there:
		_ = unix.Mkfifo(at, 0o600)
	case o.Act == "hole" && there && fi.Mode().IsRegular():
		_ = os.Truncate(at, int64(o.N)*64)
	case o.Act == "mode" && there && fi.Mode()&os.ModeSymlink == 0:
		_ = unix.Chmod(at, uint32(o.N)&0o7777)
	case o.Act == "owner" && there:
		_ = os.Lchown(at, o.N, o.N/2)
	case o.Act == "attribute" && there:
		_ = unix.Lsetxattr(at, "user.x", []byte(o.Other), 0)
	}
}

// Any tree survives a move and a bring-back.
func TestAnyTreeSurvives(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "btrfs", "BASALT", 256)
	for seed := range 8 {
		folder := filepath.Join(skerry, fmt.Sprintf("tree %d", seed))
		require.NoError(t, os.Mkdir(folder, 0o755))
		ops := anyTree().Example(seed)
		for _, o := range ops {
			o.do(folder)
		}
		require.NoError(t, lab.AgeTree(folder))
		before := lab.Print(t, folder)
		n := lab.New(t, raced)
		n.Want(0, "move", folder, "--into", basalt, "--yes", "-q", "--name", "tree")
		n.Want(0, "bring-back", "tree", "--yes", "-q")
		require.Equal(t, before, lab.Print(t, folder), "seed %d: %q", seed, ops)
		n.Want(0, "discard-original", "tree", "--yes", "-q")
		require.NoError(t, os.RemoveAll(folder))
	}
}
