//go:build linux

package inventory

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

func root(t *testing.T, dir string) *handle.Dir {
	t.Helper()
	d, err := handle.Open(dir)
	require.NoError(t, err)
	t.Cleanup(d.Release)
	return d
}

// log is a visitor that writes down what it meets.
type log struct {
	lines []string
	skip  string
	fail  string
}

func (l *log) Visit(e *Entry) (bool, error) {
	l.lines = append(l.lines, fmt.Sprintf("%d %s %s", e.Depth, e.Path, e.Link))
	if e.Path == l.fail {
		return false, errors.New("enough")
	}
	return e.Path != l.skip, nil
}

func (l *log) Leave(e *Entry) error {
	l.lines = append(l.lines, "leave "+e.Path)
	return nil
}

func TestWalkInTheOneOrder(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"b/x: 1", "a/deep/y: 2", "a b: 3", "a.b => ../nowhere", "z/"}.Make(t, dir)
	l := &log{skip: "z"}
	require.NoError(t, Walk(context.Background(), root(t, dir), l))
	require.Equal(t, []string{
		"0 . ", "1 a ", "2 a/deep ", "3 a/deep/y ", "leave a/deep", "leave a", "1 a b ", "1 a.b ../nowhere",
		"1 b ", "2 b/x ", "leave b", "1 z ", "leave z", "leave .",
	}, l.lines)
	var paths []string
	for _, line := range l.lines {
		if w := strings.SplitN(line, " ", 2); w[0] != "leave" {
			paths = append(paths, strings.TrimSuffix(strings.TrimSuffix(w[1], " ../nowhere"), " "))
		}
	}
	require.True(t, slices.IsSortedFunc(paths, handle.Compare), "%q", paths)
	require.ErrorContains(t, Walk(context.Background(), root(t, dir), &log{fail: "a/deep"}), "enough")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, Walk(ctx, root(t, dir), &log{}), context.Canceled)
}

// Whatever a visitor leaves out, or where it ends, what it meets is what a plain
// recursion meets, and no directory stays open: the walk goes ahead of it.
func TestWalkAheadIsAPlainWalk(t *testing.T) {
	dir := t.TempDir()
	var tr lab.Tree
	for i := range 12 {
		for j := range 12 {
			tr = append(tr, fmt.Sprintf("d%d/s%d/deep/", i, j), fmt.Sprintf("d%d/s%d/f: 1", i, j))
		}
	}
	for i := range 300 {
		tr = append(tr, fmt.Sprintf("many/f%d: 1", i), fmt.Sprintf("dirs/d%d/", i))
	}
	tr.Make(t, dir)
	var plain func(path string, depth int, l *log) error
	plain = func(path string, depth int, l *log) error {
		fi, err := os.Lstat(filepath.Join(dir, path))
		require.NoError(t, err)
		e := &Entry{Path: path, Depth: depth}
		descend, err := l.Visit(e)
		if err != nil || !fi.IsDir() {
			return err
		}
		names, err := os.ReadDir(filepath.Join(dir, path))
		require.NoError(t, err)
		for _, n := range names {
			if !descend {
				break
			}
			if err := plain(join(path, n.Name()), depth+1, l); err != nil {
				return err
			}
		}
		return l.Leave(e)
	}
	open := func() int {
		fds, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(fds)
	}
	d := root(t, dir)
	before := open()
	for _, c := range []log{{}, {skip: "."}, {skip: "d3"}, {skip: "dirs"}, {skip: "many"}, {fail: "."}, {fail: "d10/s3"},
		{fail: "many/f299"}, {fail: "dirs/d7"}, {skip: "d0/s0", fail: "d0/s1/deep"}} {
		want, got := c, c
		werr := plain(".", 0, &want)
		require.Equal(t, werr, Walk(context.Background(), d, &got), "%+v", c)
		require.Equal(t, want.lines, got.lines, "%+v", c)
		require.Equal(t, before, open(), "%+v: directories stay open", c)
	}
}

func TestWalkStopsAtAMount(t *testing.T) {
	lab.Root(t)
	dir := t.TempDir()
	lab.Tree{"a/inside/", "b: 1"}.Make(t, dir)
	lab.Mount(t, filepath.Join(dir, "a", "inside"), "-t", "tmpfs", "none")
	require.ErrorIs(t, Walk(context.Background(), root(t, dir), &log{}), handle.ErrMount)
	f, err := Measure(context.Background(), root(t, dir), Options{})
	require.NoError(t, err)
	require.Equal(t, []string{"a/inside"}, f.Mounts.Paths)
}

func TestMeasureFindsEverything(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"a: 12345", "sub/b: 1", "sub/l => b", "sub/out => ../../x", "sub/abs => /etc", "empty/"}.Make(t, dir)
	require.NoError(t, os.Link(filepath.Join(dir, "a"), filepath.Join(dir, "sub", "a2")))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "sub", "pipe"), 0o600))
	require.NoError(t, os.Truncate(filepath.Join(dir, "sub", "b"), 100<<20))
	f, err := Measure(context.Background(), root(t, dir),
		Options{MayGive: func(uid, _ uint32) bool { return uid == 4711 }})
	require.NoError(t, err)
	require.EqualValues(t, 3, f.Files)
	require.EqualValues(t, 3, f.Dirs)
	require.EqualValues(t, 3, f.Links)
	require.EqualValues(t, 10, f.Entries())
	require.EqualValues(t, 5+100<<20, f.Bytes, "a hard-linked file counts once")
	require.Less(t, f.Rounded, int64(1<<20), "holes take no room")
	require.EqualValues(t, 2, f.HardLinks)
	require.Empty(t, f.HardOut.Paths)
	require.Equal(t, []string{"sub/out"}, f.LeadOut.Paths)
	require.EqualValues(t, 1, f.Nodes)
	require.Equal(t, 10, f.Foreign.Count)
	require.Empty(t, f.Unreadable.Paths)
}

// The parallel count is the sum that a plain walk gives, for a wide tree.
func TestMeasureAgreesWithWalk(t *testing.T) {
	dir := t.TempDir()
	var tr lab.Tree
	for i := range 40 {
		for j := range 12 {
			tr = append(tr, fmt.Sprintf("d%d/s%d/f: %d", i, j, i*j))
		}
	}
	tr.Make(t, dir)
	l := &log{}
	require.NoError(t, Walk(context.Background(), root(t, dir), l))
	visits := 0
	for _, s := range l.lines {
		if !strings.HasPrefix(s, "leave") {
			visits++
		}
	}
	f, err := Measure(context.Background(), root(t, dir), Options{SkipDeep: true})
	require.NoError(t, err)
	require.EqualValues(t, visits, f.Entries())
}

func TestLeadsOut(t *testing.T) {
	for _, c := range []struct {
		path, text string
		out        bool
	}{
		{"l", "x", false}, {"l", "../x", true}, {"a/l", "../x", false}, {"a/l", "../../x", true}, {"a/l", "..", false},
		{"a/l", "b/../../..", true}, {"l", "/abs/../..", false}, {"l", "./a/../b", false}, {"a/b/l", "../..", false},
		{"l", "a//../..", true},
	} {
		require.Equal(t, c.out, LeadsOut(c.path, c.text), "%s => %s", c.path, c.text)
	}
}

// What a target can't keep is told entry by entry, and nothing else is.
func TestLimits(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"a:b: 1", "CON.txt: 2", "end.: 3", "Same: 4", "same: 5", "caf\u00e9: 6", "cafe\u0301: 7", "\xff: 8",
		"link => Same", "long" + strings.Repeat("\u00e9", 60) + ": 9"}.Make(t, dir)
	require.NoError(t, os.Link(filepath.Join(dir, "end."), filepath.Join(dir, "end")))
	require.NoError(t, os.Truncate(filepath.Join(dir, "CON.txt"), 1<<20))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	require.NoError(t, os.Chmod(filepath.Join(dir, "a:b"), 0o600))
	st, err := handle.Lstat(filepath.Join(dir, "Same"))
	require.NoError(t, err)
	long := "long" + strings.Repeat("\u00e9", 60)
	for what, c := range map[string]struct {
		limits Limits
		loss   Loss
		want   []string
	}{
		"everything fits":      {Limits{}, LossName, nil},
		"bytes":                {Limits{BadBytes: "*:"}, LossName, []string{"a:b"}},
		"text":                 {Limits{OnlyText: true}, LossName, []string{"\xff"}},
		"ends":                 {Limits{NoTrail: true}, LossName, []string{"end."}},
		"reserved":             {Limits{Reserved: true}, LossName, []string{"CON.txt"}},
		"length in bytes":      {Limits{NameBytes: 100}, LossName, []string{long}},
		"length in units":      {Limits{NameUnits: 63}, LossName, []string{long}},
		"length in more units": {Limits{NameUnits: 64}, LossName, nil},
		"case":                 {Limits{Folds: true}, LossCollide, []string{"Same", "same"}},
		"normalisation":        {Limits{Composes: true}, LossCollide, []string{"cafe\u0301", "caf\u00e9"}},
		"links":                {Limits{NoSymlinks: true}, LossSymlink, []string{"link"}},
		"length of links":      {Limits{LinkBytes: 3}, LossSymlink, []string{"link"}},
		"hard links":           {Limits{NoHardLinks: true}, LossHardLink, []string{"end", "end."}},
		"more names":           {Limits{MaxNames: 1}, LossHardLink, []string{"end", "end."}},
		"as many names":        {Limits{MaxNames: 2}, LossHardLink, nil},
		"texts of links":       {Limits{LinkText: true}, LossSymlink, nil},
		"pipes":                {Limits{NoNodes: true}, LossNode, []string{"pipe"}},
		"size":                 {Limits{MaxFile: 1<<20 - 1}, LossSize, []string{"CON.txt"}},
		"holes":                {Limits{NoHoles: true}, LossHole, []string{"CON.txt"}},
		"private": {Limits{FixedMode: true, FileMode: 0o644, DirMode: 0o755}, LossPrivate,
			[]string{"a:b", "pipe"}},
		"private, and owners are ignored": {Limits{AllOwners: true}, LossPrivate, []string{"a:b", "pipe"}},
		"private to one":                  {Limits{FixedMode: true, FileMode: 0o600, DirMode: 0o700}, LossPrivate, nil},
		"owner":                           {Limits{FixedOwner: true, UID: st.UID, GID: st.GID}, LossOwner, nil},
		"year":                            {Limits{Oldest: 0, Newest: 1 << 30}, LossYear, nil},
	} {
		f, err := Measure(context.Background(), root(t, dir), Options{Limits: c.limits})
		require.NoError(t, err)
		if what == "year" {
			require.Positive(t, f.Lost[LossYear].Count)
			continue
		}
		require.ElementsMatch(t, c.want, f.Lost[c.loss].Paths, what)
		require.Equal(t, len(c.want), f.Lost[c.loss].Count, what)
	}
}
