//go:build linux

package handle

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"
)

func open(t *testing.T, path string) *Dir {
	t.Helper()
	d, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(d.Release)
	return d
}

// Nothing below a handle leads out of it (I6): links in the way are not
// followed, whatever call meets them.
func TestNothingLeadsOut(t *testing.T) {
	dir := t.TempDir()
	inside, outside := filepath.Join(dir, "in"), filepath.Join(dir, "out")
	require.NoError(t, os.MkdirAll(filepath.Join(inside, "real"), 0o755))
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("s"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(inside, "way")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(inside, "file")))
	d := open(t, inside)
	for name, call := range map[string]func() error{
		"sub":           func() error { _, err := d.Sub("way"); return err },
		"beneath":       func() error { _, err := d.Beneath("way"); return err },
		"beneath deep":  func() error { _, err := d.Beneath("way/x"); return err },
		"beneath up":    func() error { _, err := d.Beneath("../out"); return err },
		"beneath root":  func() error { _, err := d.Beneath(outside); return err },
		"open":          func() error { _, err := d.OpenFile("file"); return err },
		"open deep":     func() error { _, err := d.OpenBeneath("way/secret"); return err },
		"create":        func() error { _, err := d.Create("file", 0o600); return err },
		"parent":        func() error { _, _, err := d.Parent("way/secret"); return err },
		"open real":     func() error { _, err := OpenReal(filepath.Join(inside, "way")); return err },
		"mkdir in link": func() error { return d.Mkdir("way", 0o700) },
	} {
		require.Error(t, call(), name)
	}
	require.NoError(t, d.ChownEntry("file", uint32(os.Geteuid()), uint32(os.Getegid())))
	require.NoError(t, d.SetTimesEntry("file", Time{1, 2}, Time{3, 4}))
	st, err := Lstat(filepath.Join(outside, "secret"))
	require.NoError(t, err)
	require.NotEqual(t, Time{3, 4}, st.Mtime, "the link itself was changed, not what it names")
}

func TestRenameNeverReplaces(t *testing.T) {
	dir := t.TempDir()
	d := open(t, dir)
	for _, n := range []string{"a", "b"} {
		f, err := d.Create(n, 0o600)
		require.NoError(t, err)
		_, err = f.WriteString(n)
		require.NoError(t, errors.Join(err, f.Close()))
	}
	require.ErrorIs(t, d.Rename("a", d, "b"), fs.ErrExist)
	require.NoError(t, d.Exchange("a", d, "b"))
	got, err := os.ReadFile(filepath.Join(dir, "a"))
	require.NoError(t, err)
	require.Equal(t, "b", string(got))
	require.NoError(t, d.Replace("a", d, "b"))
	names, err := d.Names()
	require.NoError(t, err)
	require.Equal(t, []string{"b"}, names)
}

func TestXattrsThroughHandles(t *testing.T) {
	d := open(t, t.TempDir())
	require.NoError(t, d.Mkdir("sub", 0o755))
	require.NoError(t, d.Symlink("sub", "link"))
	big := Xattr{"user.big", make([]byte, 1500)}
	for _, x := range []Xattr{{"user.b", []byte("\x00two")}, {"user.a", nil}, big} {
		if err := d.SetXattr("sub", x); errors.Is(err, unix.ENOTSUP) {
			t.Skip("no extended attributes on this file system")
		} else {
			require.NoError(t, err)
		}
	}
	got, err := d.Xattrs("sub")
	require.NoError(t, err)
	require.Equal(t, []string{"user.a", "user.b", "user.big"}, []string{got[0].Name, got[1].Name, got[2].Name})
	require.Equal(t, big.Value, got[2].Value)
	onLink, err := d.Xattrs("link")
	require.NoError(t, err)
	require.Empty(t, onLink, "a link's own attributes, not those of what it names")
	require.NoError(t, d.RemoveXattr("sub", "user.a"))
	require.NoError(t, d.RemoveXattr("sub", "user.a"), "gone already is no error")
}

// Nodes are made, linked and given their modes by name, on old kernels, too;
// a link is never followed.
func TestNodesByName(t *testing.T) {
	dir := t.TempDir()
	d := open(t, dir)
	for name, kind := range map[string]uint32{"fifo": unix.S_IFIFO, "socket": unix.S_IFSOCK} {
		require.NoError(t, d.Mknod(name, kind|0o600, 0))
		for mode, chmod := range map[uint32]func(string, uint32) error{0o640: d.ChmodEntry,
			0o604: func(n string, m uint32) error { return chmodPinned(d.fd, n, m) }} {
			require.NoError(t, chmod(name, mode))
			st, err := d.Stat(name)
			require.NoError(t, err)
			require.Equal(t, kind|mode, st.Mode)
		}
		require.NoError(t, d.Link(name, d, name+" too"))
		require.ErrorIs(t, d.Link(name, d, name+" too"), fs.ErrExist)
		a, err := d.Stat(name)
		require.NoError(t, err)
		b, err := d.Stat(name + " too")
		require.NoError(t, err)
		require.True(t, a.SameInode(&b))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	require.NoError(t, d.Symlink("file", "link"))
	require.Error(t, d.ChmodEntry("link", 0o777))
	require.Error(t, chmodPinned(d.fd, "link", 0o777))
	st, err := d.Stat("file")
	require.NoError(t, err)
	require.EqualValues(t, 0o600, st.Perm())
}

// A file reads and writes like any other, and says where it ends.
func TestFiles(t *testing.T) {
	d := open(t, t.TempDir())
	f, err := d.Create("f", 0o600)
	require.NoError(t, err)
	_, err = f.WriteString("at dawn")
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("sea"), 1<<20)
	require.NoError(t, err)
	require.NoError(t, errors.Join(f.Truncate(2<<20), f.SetTimes(Time{1, 2}, Time{3, 4}), f.Chmod(0o640), f.Sync()))
	buf := make([]byte, 10)
	n, err := f.ReadAt(buf, 2<<20-4)
	require.Equal(t, 4, n)
	require.ErrorIs(t, err, io.EOF)
	at, end, err := f.NextExtent(0, 2<<20)
	require.NoError(t, err)
	require.Zero(t, at)
	require.Greater(t, end, int64(0))
	if at, end, err = f.NextExtent(1<<20+1<<16, 2<<20); at != 1<<20+1<<16 { // where there are holes
		require.NoError(t, err)
		require.EqualValues(t, 2<<20, at)
		require.EqualValues(t, 2<<20, end)
	}
	st, err := f.Stat()
	require.NoError(t, err)
	require.Equal(t, Time{3, 4}, st.Mtime)
	require.EqualValues(t, 0o640, st.Perm())
	require.NoError(t, f.Close())
	require.Error(t, f.Close(), "closed twice")
	g, err := d.OpenFile("f")
	require.NoError(t, err)
	all, err := io.ReadAll(g)
	require.NoError(t, err)
	require.Len(t, all, 2<<20)
	require.Equal(t, "at dawn", string(all[:7]))
	_, err = g.Write([]byte("x"))
	var pe *fs.PathError
	require.ErrorAs(t, err, &pe)
	require.Equal(t, d.Join("f"), pe.Path)
	require.NoError(t, g.Close())
}

func TestLocksExclude(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	require.NoError(t, a.Lock(false))
	require.NoError(t, b.Lock(false))
	require.ErrorIs(t, b.Lock(true), unix.EWOULDBLOCK)
	c, err := Open(dir)
	require.NoError(t, err)
	c.Retain().Release()
	c.Release()
	require.Panics(t, c.Release)
}

func TestNamesInByteOrder(t *testing.T) {
	dir := t.TempDir()
	want := []string{"\x01", " ", "-", ".x", "A", "a", "a b", "ä", "\xff"}
	for _, n := range want {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	slices.Sort(want)
	d := open(t, dir)
	for range 2 { // from the start each time
		got, err := d.Names()
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
}

// A directory with more names than are held at once is given whole and in
// order all the same, also by a key.
func TestNamesInBatches(t *testing.T) {
	dir := t.TempDir()
	var want []string
	for i := range 1000 {
		n := fmt.Sprintf("%c%03d", "aAbB"[i%4], i*7%1000)
		want = append(want, n)
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	d := open(t, dir)
	for _, limit := range []int{10, 333, 500, 999, 1000, 5000} {
		for what, key := range map[string]func(string) string{"bytes": nil, "folded": strings.ToLower,
			"one for all": func(string) string { return "" }} {
			var got []string
			require.NoError(t, d.eachName(limit, key, func(n string, _ bool) error { got = append(got, n); return nil }))
			by := slices.Clone(want)
			slices.SortFunc(by, func(a, b string) int {
				if key != nil && key(a) != key(b) {
					return strings.Compare(key(a), key(b))
				}
				return strings.Compare(a, b)
			})
			require.Equal(t, by, got, "%d at once, by %s", limit, what)
		}
	}
	enough := errors.New("enough")
	require.ErrorIs(t, d.EachName(func(string) error { return enough }), enough)
}

func TestRounded(t *testing.T) {
	for _, c := range []struct {
		step time.Duration
		want Time
	}{
		{0, Time{-3, 987654321}}, {1, Time{-3, 987654321}}, {100, Time{-3, 987654300}},
		{10 * time.Millisecond, Time{-3, 980000000}},
		{time.Second, Time{-3, 0}}, {2 * time.Second, Time{-4, 0}},
	} {
		require.Equal(t, c.want, Rounded(Time{-3, 987654321}, c.step), c.step)
	}
}

// Compare is the order of a walk: depth first, components in byte order.
func TestCompareIsTheWalksOrder(t *testing.T) {
	want := []string{".", "a", "a/b", "a/b/c", "a/b.c", "a b", "a.b", "ab", "b"}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, Compare)
	require.Equal(t, want, got)
	component := rapid.StringMatching(`[a-c. ]{1,3}`)
	rapid.Check(t, func(t *rapid.T) {
		path := func(l string) string {
			p := component.Draw(t, l)
			for range rapid.IntRange(0, 3).Draw(t, l+"depth") {
				p += "/" + component.Draw(t, l)
			}
			return p
		}
		a, b, c := path("a"), path("b"), path("c")
		require.Equal(t, Compare(a, b), -Compare(b, a))
		require.Equal(t, a == b, Compare(a, b) == 0)
		if Compare(a, b) < 0 && Compare(b, c) < 0 {
			require.Negative(t, Compare(a, c))
		}
		require.Negative(t, Compare(a, a+"/"+b))
		require.True(t, Within(a+"/"+b, a) && !Within(a, a+"/"+b) && Within(a, "."))
	})
}

// A file is replaced whole or not at all, and what was killed on the way is no trouble.
func TestWriteFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "drive.prom")
	write := func(text string, err error) error {
		return WriteFile(path, 0o644, func(w io.Writer) error {
			_, werr := io.WriteString(w, text)
			return errors.Join(werr, err)
		})
	}
	require.NoError(t, write("one", nil))
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(path), ".drive.prom.new"), []byte("half"), 0o600))
	require.NoError(t, write("two", nil))
	failed := errors.New("no room")
	require.ErrorIs(t, write("half", failed), failed)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "two", string(b))
	st, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o644), st.Mode())
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	require.Len(t, left, 1)
}

// A directory of this account's that has other entries than a private one is none: somebody
// may have put it there (I6).
func TestPrivateIsNoOtherDirectory(t *testing.T) {
	at := t.TempDir()
	d, err := Open(at)
	require.NoError(t, err)
	defer d.Release()
	require.NoError(t, os.Mkdir(filepath.Join(at, "p"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(at, "p", InPrivate), []byte("left by a stop"), 0o600))
	p, err := d.Private("p", false)
	require.NoError(t, err)
	names, err := p.Names()
	require.NoError(t, err)
	require.Empty(t, names)
	p.Release()
	require.NoError(t, os.WriteFile(filepath.Join(at, "p", InPrivate), []byte("of another one"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(at, "p", "more"), []byte("of another one"), 0o600))
	_, err = d.Private("p", false)
	require.ErrorIs(t, err, fs.ErrPermission)
	require.FileExists(t, filepath.Join(at, "p", InPrivate))
}
