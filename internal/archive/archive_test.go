//go:build linux

package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"nexlin/internal/handle"
	"nexlin/internal/manifest"
)

// folder makes one with something of everything.
func folder(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "Call recordings")
	write := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, content, 0o640))
		return path
	}
	noise := make([]byte, 3<<20+17)
	rand.NewChaCha8([32]byte{1}).Read(noise)
	write("a", []byte("a"))
	write("deep/er/noise", noise)
	write("deep/empty", nil)
	write("name with \n line end", []byte("x"))
	write("not\xffutf8/\xfe", []byte("y"))
	write(strings.Repeat("n", 255), []byte("long"))
	first := write("zz first", []byte("twice"))
	require.NoError(t, os.Link(first, filepath.Join(dir, "zz second")))
	require.NoError(t, os.Symlink("deep/er/noise", filepath.Join(dir, "link")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "nothing in it"), 0o701))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	for name, size := range map[string]int64{"sparse": 8 << 20, "all hole": 1 << 20, "ends in data": 4 << 20} {
		f, err := os.Create(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(size))
		if name != "all hole" {
			_, err = f.WriteAt([]byte("in the middle"), 2<<20)
			require.NoError(t, err)
		}
		if name == "ends in data" {
			_, err = f.WriteAt([]byte("end"), size-3)
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
	}
	if err := unix.Setxattr(filepath.Join(dir, "a"), "user.species", []byte("red\x00shank"), 0); err != nil {
		t.Log("no attributes here:", err)
	}
	require.NoError(t, os.Chtimes(filepath.Join(dir, "a"), time.Unix(5, 0), time.Unix(-5, 250_000_000)))
	require.NoError(t, os.Chtimes(dir, time.Unix(5, 0), time.Unix(1_700_000_000, 123_456_789)))
	return dir
}

func open(t *testing.T, dir string) *handle.Dir {
	d, err := handle.OpenReal(dir)
	require.NoError(t, err)
	t.Cleanup(d.Release)
	return d
}

// pack packs a folder and gives the archive and the manifest's text.
func pack(t *testing.T, dir string) ([]byte, string) {
	ctx := context.Background()
	m := filepath.Join(t.TempDir(), "m")
	n, err := Describe(ctx, open(t, dir), m, t.TempDir(), nil)
	require.NoError(t, err)
	require.Positive(t, n.Files)
	var out bytes.Buffer
	k, err := Pack(ctx, open(t, dir), filepath.Base(dir), m, &out, nil)
	require.NoError(t, err)
	require.Equal(t, n, k)
	text, err := os.ReadFile(m)
	require.NoError(t, err)
	return out.Bytes(), string(text)
}

func describe(t *testing.T, dir string) string {
	m := filepath.Join(t.TempDir(), "m")
	_, err := Describe(context.Background(), open(t, dir), m, t.TempDir(), nil)
	require.NoError(t, err)
	text, err := os.ReadFile(m)
	require.NoError(t, err)
	return string(text)
}

func TestThereAndBack(t *testing.T) {
	dir := folder(t)
	packed, want := pack(t, dir)
	into := filepath.Join(t.TempDir(), "back")
	require.NoError(t, os.Mkdir(into, 0o700))
	b := NewBuilder(t.Context(), open(t, into))
	defer b.Close()
	m := filepath.Join(t.TempDir(), "m")
	top, _, err := Read(context.Background(), bytes.NewReader(packed), m, b, nil)
	require.NoError(t, err)
	require.Equal(t, "Call recordings", top)
	require.NoError(t, b.Finish())
	require.NoError(t, b.FinishRoot())
	_, err = b.Verify(context.Background(), m, nil)
	require.NoError(t, err)
	require.Empty(t, b.Flaws)
	require.Equal(t, want, describe(t, into))
	for _, name := range []string{"sparse", "all hole", "ends in data"} {
		var was, is unix.Stat_t
		require.NoError(t, unix.Stat(filepath.Join(dir, name), &was))
		require.NoError(t, unix.Stat(filepath.Join(into, name), &is))
		require.LessOrEqual(t, is.Blocks, was.Blocks+8, "%s keeps its holes", name)
	}
}

// TestStockToolsUnpackIt: tar and zstd of the system give the same folder.
func TestStockToolsUnpackIt(t *testing.T) {
	for _, tool := range []string{"tar", "zstd"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	dir := folder(t)
	packed, want := pack(t, dir)
	into := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(into, "x.tar.zst"), packed, 0o600))
	out, err := exec.Command("sh", "-c", "cd '"+into+"' && zstd -t -q x.tar.zst && zstd -dc x.tar.zst | LC_ALL=C "+
		"tar --xattrs --xattrs-include='*' -xpf - 2>&1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	got := describe(t, filepath.Join(into, "Call recordings"))
	require.Equal(t, want, got)
	inside, err := os.ReadFile(filepath.Join(into, manifestName))
	require.NoError(t, err)
	require.Equal(t, want, string(inside), "the manifest is inside, first")
}

func TestAFlippedByteIsFound(t *testing.T) {
	packed, _ := pack(t, folder(t))
	m := filepath.Join(t.TempDir(), "m")
	read := func(b []byte) error {
		_, _, err := Read(context.Background(), bytes.NewReader(b), m, nil, nil)
		return err
	}
	require.NoError(t, read(packed))
	r := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		b := bytes.Clone(packed)
		b[r.IntN(len(b))] ^= 1 << r.IntN(8)
		var damage *DamageError
		require.ErrorAs(t, read(b), &damage)
	}
	for _, n := range []int{0, 10, len(packed) / 2, len(packed) - 1} {
		var damage *DamageError
		require.ErrorAs(t, read(packed[:n]), &damage, "cut off at %d", n)
	}
}

func TestChangedWhilePacked(t *testing.T) {
	dir := folder(t)
	m := filepath.Join(t.TempDir(), "m")
	_, err := Describe(context.Background(), open(t, dir), m, t.TempDir(), nil)
	require.NoError(t, err)
	for _, change := range []func(){
		func() { require.NoError(t, os.WriteFile(filepath.Join(dir, "deep", "new"), nil, 0o600)) },
		func() { require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("b"), 0o600)) },
		func() { require.NoError(t, os.Remove(filepath.Join(dir, "zz second"))) },
	} {
		change()
		var changed *ChangedError
		_, err = Pack(context.Background(), open(t, dir), "x", m, &bytes.Buffer{}, nil)
		require.ErrorAs(t, err, &changed)
	}
}

// stored is an archive made by hand.
func stored(t *testing.T, text string, entries ...manifest.Entry) []byte {
	dir := t.TempDir()
	file := filepath.Join(dir, "m")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	var out bytes.Buffer
	tw := &tarWriter{w: &out}
	m := manifest.Entry{Mode: unix.S_IFREG | 0o644, Size: int64(len(text))}
	require.NoError(t, tw.header(manifestName, &m, nil, m.Size))
	require.NoError(t, tw.data([]byte(text)))
	for _, e := range entries {
		require.NoError(t, tw.header(e.Path, &e, nil, e.Size))
		require.NoError(t, tw.data(make([]byte, e.Size)))
	}
	require.NoError(t, tw.end())
	return compress(t, out.Bytes())
}

func TestHostileArchives(t *testing.T) {
	dirEntry := manifest.Entry{Path: "top", Mode: unix.S_IFDIR | 0o755}
	head := "#mtree\n#nexlin manifest 1\n. type=dir mode=0755 uid=0 gid=0 time=1.000000000\n"
	for name, b := range map[string][]byte{
		"a path that leads out": stored(t, head+"./../x type=file size=0 mode=0644 uid=0 gid=0 "+
			"time=1.000000000 sha256digest="+strings.Repeat("0", 64)+"\n#nexlin end\n", dirEntry),
		"an entry nobody lists": stored(t, head+"#nexlin end\n", dirEntry,
			manifest.Entry{Path: "top/../../evil", Mode: unix.S_IFREG | 0o644}),
		"through a link": stored(t, head+"./l type=link link=/etc mode=0777 uid=0 gid=0 "+
			"time=1.000000000\n./l/x type=dir mode=0755 uid=0 gid=0 time=1.000000000\n#nexlin end\n", dirEntry,
			manifest.Entry{Path: "top/l", Mode: unix.S_IFLNK | 0o777, Link: "/etc"},
			manifest.Entry{Path: "top/l/x", Mode: unix.S_IFDIR | 0o755}),
		"a top that leads out": stored(t, head+"#nexlin end\n",
			manifest.Entry{Path: "..", Mode: unix.S_IFDIR | 0o755}),
		"no manifest":            compress(t, make([]byte, 1024)),
		"no end of the manifest": stored(t, head, dirEntry),
		"nothing":                nil,
		"no zstd":                []byte("PK\x03\x04 and so on"),
		"another entry in its place": stored(t, head+"./a type=dir mode=0755 uid=0 gid=0 time=1.000000000\n#nexlin "+
			"end\n", dirEntry, manifest.Entry{Path: "top/b", Mode: unix.S_IFDIR | 0o755}),
	} {
		t.Run(name, func(t *testing.T) {
			into := t.TempDir()
			build := NewBuilder(t.Context(), open(t, into))
			defer build.Close()
			_, _, err := Read(context.Background(), bytes.NewReader(b), filepath.Join(t.TempDir(), "m"), build, nil)
			if err == nil {
				err = build.Finish()
			}
			var damage *DamageError
			require.ErrorAs(t, err, &damage)
			require.NoFileExists(t, filepath.Join(filepath.Dir(into), "evil"))
		})
	}
}

// What an engine writes is read to its end or refused, whatever it is.
func FuzzContent(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range []tar.Header{{Name: "a/b", Size: 3}, {Name: "c", Typeflag: tar.TypeSymlink, Linkname: "b"},
		{Name: "d", Typeflag: tar.TypeLink, Linkname: "a/b"}} {
		h.Mode = 0o644
		require.NoError(f, w.WriteHeader(&h))
		if h.Size > 0 {
			_, err := w.Write([]byte("one"))
			require.NoError(f, err)
		}
	}
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Add([]byte{0x1f, 0x8b, 8})
	f.Fuzz(func(t *testing.T, b []byte) {
		n, known, err := Content(context.Background(), bytes.NewReader(b))
		var damage *DamageError
		if err != nil && !errors.As(err, &damage) {
			t.Fatal(err)
		}
		require.True(t, known || n == Count{})
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("\x28\xb5\x2f\xfd"))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, err := Read(context.Background(), bytes.NewReader(b), filepath.Join(dir, "m"), nil, nil)
		var damage *DamageError
		if err != nil && !errors.As(err, &damage) {
			t.Fatal(err)
		}
	})
}

// More stretches of data than a reader of tar takes are joined over the shortest
// holes: the list is short enough, and holds all of the data.
func TestFewerSpans(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var in []span
		at := int64(0)
		for range rapid.IntRange(1, 200).Draw(t, "spans") {
			at += rapid.Int64Range(1, 5).Draw(t, "hole")
			n := rapid.Int64Range(1, 3).Draw(t, "data")
			in = append(in, span{at, at + n})
			at += n
		}
		data := slices.Clone(in)
		most := rapid.IntRange(2, 50).Draw(t, "most")
		out := fewer(in, most)
		require.LessOrEqual(t, len(out), max(most, 1))
		for i, s := range out {
			require.Less(t, s.at, s.end)
			require.True(t, i == 0 || out[i-1].end < s.at)
		}
		for _, s := range data {
			require.True(t, slices.ContainsFunc(out, func(o span) bool { return o.at <= s.at && s.end <= o.end }))
		}
	})
}

// An unpack is interrupted inside a file, and asks for room before it writes.
func TestBuilderStopsInsideAFile(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	b := NewBuilder(ctx, open(t, t.TempDir()))
	defer b.Close()
	require.NoError(t, b.Make(&manifest.Entry{Path: ".", Mode: handle.TypeDir | 0o700}, nil, false))
	asked := int64(0)
	b.Room = func(bytes int64) error { asked += bytes; return nil }
	endless := readFunc(func(p []byte) (int, error) { cancel(); return len(p), nil })
	for _, holes := range []bool{false, true} {
		m := &manifest.Entry{Path: fmt.Sprint(holes), Mode: handle.TypeRegular | 0o600, Size: 1 << 40}
		require.ErrorIs(t, b.Make(m, endless, holes), context.Canceled)
	}
	require.GreaterOrEqual(t, asked, int64(1<<40))
	b.Limit = &Limit{Own: func(name string) bool { return name == ".nexlin" }}
	var damage *DamageError
	require.ErrorAs(t, b.Make(&manifest.Entry{Path: ".nexlin", Mode: handle.TypeDir | 0o700}, nil, false), &damage)
}

type readFunc func([]byte) (int, error)

func (f readFunc) Read(p []byte) (int, error) { return f(p) }
