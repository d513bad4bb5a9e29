//go:build linux

package transfer

import (
	"context"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/test/lab"
)

// A bench is a source, a place for its copy, and a directory for spools.
type bench struct {
	t                 testing.TB
	dir, source, copy string
	src, parent       *handle.Dir
	n                 int
	spool             *Spool
	lender            *Lender
	lent, doubt       bool // see [Job]
	taken             []LentDir
}

func newBench(t testing.TB) *bench {
	t.Helper()
	b := &bench{t: t, dir: t.TempDir()}
	b.source, b.copy = filepath.Join(b.dir, "source"), filepath.Join(b.dir, "parent", "part")
	for _, d := range []string{b.source, filepath.Join(b.dir, "parent"), filepath.Join(b.dir, "spools")} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	var err error
	b.src, err = handle.Open(b.source)
	require.NoError(t, err)
	b.parent, err = handle.Open(filepath.Join(b.dir, "parent"))
	require.NoError(t, err)
	t.Cleanup(func() { b.src.Release(); b.parent.Release(); b.spool.Close() })
	return b
}

func open(t testing.TB, path string) *handle.Dir {
	t.Helper()
	d, err := handle.Open(path)
	require.NoError(t, err)
	t.Cleanup(d.Release)
	return d
}

func (b *bench) part() *Part {
	known, err := b.parent.Stat("part") // zero if there is none yet
	if err != nil {
		require.ErrorIs(b.t, err, fs.ErrNotExist)
	}
	p, err := OpenPart(b.parent, "part", "aside", known.Ino, &Allow{})
	require.NoError(b.t, err)
	return p
}

// pass runs one pass after the last one.
func (b *bench) pass(old ...*Spool) (*Tally, error) {
	b.n++
	p := b.part()
	defer p.Close()
	next, err := CreateSpool(filepath.Join(b.dir, "spools"), b.n)
	require.NoError(b.t, err)
	if len(old) == 0 && b.spool != nil {
		old = []*Spool{b.spool}
	}
	p.Lender = b.lender
	tally, err := Pass(context.Background(), Job{Source: b.src, Part: p, Old: old, New: next, Lender: b.lender,
		Lent: b.lent, Doubt: b.doubt, Reread: b.lent})
	b.spool = next
	return tally, err
}

func (b *bench) mustPass() *Tally {
	b.t.Helper()
	tally, err := b.pass()
	require.NoError(b.t, err)
	return tally
}

// verify reads the copy back; as in a run, the source is looked at meanwhile.
func (b *bench) verify() (*Tally, error) {
	p := b.part()
	defer p.Close()
	looked := make(chan error, 1)
	spool := b.spool
	go func() {
		_, err := AtRest(context.Background(), &Job{Source: b.src, New: spool})
		looked <- err
	}()
	tally, err := Verify(context.Background(), &Job{Part: p, New: b.spool})
	require.NoError(b.t, <-looked)
	return tally, err
}

// atRest reports whether the source is as the last pass found it.
func (b *bench) atRest() bool {
	b.t.Helper()
	is, err := AtRest(context.Background(), &Job{Source: b.src, New: b.spool})
	require.NoError(b.t, err)
	return is
}

// equal finishes the part and wants it to be the source, entry for entry.
func (b *bench) equal() {
	b.t.Helper()
	_, err := b.verify()
	require.NoError(b.t, err)
	p := b.part()
	defer p.Close()
	require.NoError(b.t, p.Finish(b.spool, &Allow{}))
	require.Equal(b.t, lab.Print(b.t, b.source), lab.Print(b.t, b.copy))
}

func (b *bench) write(name, content string) {
	b.t.Helper()
	require.NoError(b.t, os.WriteFile(filepath.Join(b.source, name), []byte(content), 0o644))
}

var sample = lab.Tree{"a: one", "d/b: two", "d/e/f: three", "d/l => b", "empty/", "z: "}

func TestPassesCatchUpWithEveryChange(t *testing.T) {
	for what, change := range map[string]func(b *bench){
		"content":       func(b *bench) { b.write("a", "other") },
		"same size":     func(b *bench) { b.write("a", "two") },
		"new":           func(b *bench) { b.write("d/new", "x") },
		"gone":          func(b *bench) { require.NoError(b.t, os.Remove(filepath.Join(b.source, "d/b"))) },
		"last one gone": func(b *bench) { require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, "d/e"))) },
		"all of a dir gone": func(b *bench) {
			entries, err := os.ReadDir(filepath.Join(b.source, "d"))
			require.NoError(b.t, err)
			for _, e := range entries {
				require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, "d", e.Name())))
			}
		},
		"tree gone":     func(b *bench) { require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, "d"))) },
		"mode":          func(b *bench) { require.NoError(b.t, os.Chmod(filepath.Join(b.source, "a"), 0o4711)) },
		"mode of a dir": func(b *bench) { require.NoError(b.t, os.Chmod(filepath.Join(b.source, "d"), 0o500)) },
		"renamed": func(b *bench) {
			require.NoError(b.t, os.Rename(filepath.Join(b.source, "d"), filepath.Join(b.source, "c")))
		},
		"link text":   func(b *bench) { relink(b, "d/l", "e") },
		"file to dir": func(b *bench) { retype(b, "a", "a/x: 1") },
		"dir to file": func(b *bench) { retype(b, "d", "d: 1") },
		"dir to link": func(b *bench) { retype(b, "d", "d => a") },
		"swapped": func(b *bench) {
			require.NoError(b.t, unix.Renameat2(unix.AT_FDCWD, filepath.Join(b.source, "a"), unix.AT_FDCWD,
				filepath.Join(b.source, "z"), unix.RENAME_EXCHANGE))
		},
		"time": func(b *bench) {
			require.NoError(b.t, os.Chtimes(filepath.Join(b.source, "a"), time.Now(), time.Unix(5, 7)))
		},
		"a hole appears": func(b *bench) { require.NoError(b.t, os.Truncate(filepath.Join(b.source, "a"), 10<<20)) },
		"another name":   func(b *bench) { link(b, "a", "d/e/a2"); link(b, "a", "0") },
		"one name less": func(b *bench) {
			link(b, "a", "0")
			b.mustPass()
			require.NoError(b.t,
				os.Remove(b.source+"/0"))
		},
		"name of another": func(b *bench) {
			link(b, "a", "y")
			b.mustPass()
			require.NoError(b.t, os.Remove(b.source+"/y"))
			link(b, "z", "y")
		},
		"names and content": func(b *bench) {
			link(b, "a", "y")
			b.mustPass()
			b.write("y", "new content of both")
		},
		"no file any more": func(b *bench) {
			require.NoError(b.t, os.Remove(b.source+"/a"))
			require.NoError(b.t, unix.Mkfifo(b.source+"/a", 0o640))
		},
		"attribute": func(b *bench) {
			if err := unix.Setxattr(filepath.Join(b.source, "d"), "user.x", []byte("1"), 0); err != unix.ENOTSUP {
				require.NoError(b.t, err)
			}
		},
	} {
		t.Run(what, func(t *testing.T) {
			b := newBench(t)
			sample.Make(t, b.source)
			b.mustPass()
			_, err := b.verify()
			require.NoError(t, err)
			time.Sleep(2 * LeastStep) // so that times tell
			b.mustPass()
			require.True(t, b.atRest())
			change(b)
			require.False(t, b.atRest())
			b.mustPass()
			_, err = b.verify()
			require.NoError(t, err)
			b.equal()
			require.Zero(t, b.mustPass().Changed, "a pass after the last change finds nothing")
			require.NoDirExists(t, filepath.Join(b.dir, "parent", "aside"))
		})
	}
}

func link(b *bench, old, new string) {
	require.NoError(b.t, os.Link(filepath.Join(b.source, old), filepath.Join(b.source, new)))
}

func relink(b *bench, name, text string) {
	require.NoError(b.t, os.Remove(filepath.Join(b.source, name)))
	require.NoError(b.t, os.Symlink(text, filepath.Join(b.source, name)))
}

func retype(b *bench, name, line string) {
	require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, name)))
	lab.Tree{line}.Make(b.t, b.source)
}

// A write that changes no time stamp is found by the digest where a program
// may be writing.
// A pass that finds nothing changed leaves the copy alone, down to the change times of
// directories; one that has to mend something gives the directory its times again.
func TestUnchangedDirectoriesAreLeftAlone(t *testing.T) {
	b := newBench(t)
	lab.Tree{"a/b/c/f: 1", "a/b/g: 2", "a/other/h: 3", "a/other/l => h", "e/"}.Make(t, b.source)
	times := func() map[string]handle.Time {
		out := map[string]handle.Time{}
		require.NoError(t, inventory.Walk(context.Background(), open(t, b.copy), inventory.VisitorFunc(
			func(e *inventory.Entry) error { out[e.Path] = e.Stat.Ctime; return nil })))
		delete(out, ".") // OpenPart makes it private
		return out
	}
	time.Sleep(2 * LeastStep) // so that its times can tell
	b.mustPass()
	b.equal()
	made := times()
	require.Zero(t, b.mustPass().Changed)
	require.Equal(t, made, times())
	for path, change := range map[string]func(name string) error{
		"a/b/g":   func(name string) error { return os.WriteFile(name, []byte("other"), 0o644) },
		"a/b/c/f": os.Remove,
		"a/other/l": func(name string) error {
			return handle.InOrder(func() error { return os.Remove(name) }, func() error { return os.Symlink("elsewhere", name) })
		},
	} {
		require.NoError(t, change(filepath.Join(b.source, path)))
		time.Sleep(2 * LeastStep)
		require.Positive(t, b.mustPass().Changed, path)
		b.equal()
	}
	require.Equal(t, made["e"], times()["e"])
}

func TestWritersAreComparedByDigest(t *testing.T) {
	b := newBench(t)
	sample.Make(t, b.source)
	time.Sleep(50 * time.Millisecond) // past the time step in which every file is suspect
	b.mustPass()
	_, err := b.verify()
	require.NoError(t, err)
	rec := Read(b.spool)
	for rec.Peek().Path != "a" {
		rec.Next()
	}
	// The record claims a sum that the file does not have, as after a store
	// into a mapped page.
	forged := rec.Peek().Fact
	forged.Sum[0] ^= 1
	require.NoError(t, b.spool.Put(rec.Peek().Ord, &forged))
	p := b.part()
	defer p.Close()
	for _, writing := range []map[string]bool{nil, {"a": true}} {
		b.n++
		next, err := CreateSpool(filepath.Join(b.dir, "spools"), b.n)
		require.NoError(t, err)
		tally, err := Pass(context.Background(),
			Job{Source: b.src, Part: p, Old: []*Spool{b.spool}, New: next, Writing: writing})
		require.NoError(t, err)
		require.EqualValues(t, len(writing), tally.Changed)
		require.NoError(t, next.Close())
	}
}

// Whatever is wrong with the copy is found, named, and copied again.
func TestVerifyFindsEveryDamage(t *testing.T) {
	for what, harm := range map[string]func(at string) error{
		"content": func(at string) error {
			st, err := os.Stat(at + "/d/b")
			if err != nil {
				return err
			}
			err = os.WriteFile(at+"/d/b", []byte("tvo"), 0o644)
			return orElse(err, os.Chtimes(at+"/d/b", time.Now(), st.ModTime()))
		},
		"short":     func(at string) error { return os.Truncate(at+"/d/b", 1) },
		"missing":   func(at string) error { return os.Remove(at + "/d/b") },
		"mode":      func(at string) error { return os.Chmod(at+"/d/b", 0o600) },
		"time":      func(at string) error { return os.Chtimes(at+"/d/b", time.Now(), time.Unix(1, 1)) },
		"link":      func(at string) error { return orElse(os.Remove(at+"/d/l"), os.Symlink("x", at+"/d/l")) },
		"directory": func(at string) error { return os.Chmod(at+"/d/e", 0o711) },
		"last":      func(at string) error { return os.Remove(at + "/z") },
	} {
		t.Run(what, func(t *testing.T) {
			b := newBench(t)
			sample.Make(t, b.source)
			b.mustPass()
			require.NoError(t, harm(b.copy))
			_, err := b.verify()
			var diff *DiffError
			require.ErrorAs(t, err, &diff)
			b.mustPass()
			b.equal()
		})
	}
}

func orElse(a, b error) error {
	if a != nil {
		return a
	}
	return b
}

// What others put into the part is put aside, never deleted (I4).
func TestStrangersArePutAside(t *testing.T) {
	b := newBench(t)
	sample.Make(t, b.source)
	time.Sleep(2 * LeastStep) // young files would have their directories opened in any case
	b.mustPass()
	b.plant("d/theirs", "0/also")
	b.doubt = true
	b.mustPass()
	tally, err := b.verify()
	require.NoError(t, err)
	b.equal()
	require.ElementsMatch(t, []string{"0", "d/theirs"}, tally.Aside)
	left := lab.Print(t, filepath.Join(b.dir, "parent", "aside"))
	require.Contains(t, left, "0000-d_theirs")
	require.Contains(t, left, "0000-0/also")

	// A name that a later pass wants is taken by somebody: put aside, too.
	b.plant("new")
	b.write("new", "ours")
	b.mustPass()
	b.equal()

	// Taking the part away leaves what is not ours, also where the inode numbers say nothing.
	b.plant("d/e/later")
	for r := range b.records() {
		r.Fact.Copy.Ino = 0
		require.NoError(t, b.spool.Put(r.Ord, &r.Fact))
	}
	require.NoError(t, os.Remove(filepath.Join(b.copy, "a")))
	require.NoError(t, os.Mkdir(filepath.Join(b.copy, "a"), 0o755))
	gone, err := Discard(b.parent, "part", b.spool)
	require.NoError(t, err)
	require.True(t, gone)
	require.FileExists(t, filepath.Join(b.copy, "d/e/later"))
	require.DirExists(t, filepath.Join(b.copy, "a"))
	require.NoFileExists(t, filepath.Join(b.copy, "d/b"))
}

// records are those of the spool.
func (b *bench) records() iter.Seq[Record] {
	require.NoError(b.t, b.spool.Flush())
	return func(yield func(Record) bool) {
		for c := Read(b.spool); c.Peek() != nil && yield(*c.Peek()); c.Next() {
		}
	}
}

// plant puts files of somebody else's into the part.
func (b *bench) plant(names ...string) {
	b.t.Helper()
	for _, n := range names {
		require.NoError(b.t, os.MkdirAll(filepath.Dir(filepath.Join(b.copy, n)), 0o755))
		require.NoError(b.t, os.WriteFile(filepath.Join(b.copy, n), []byte("precious"), 0o644))
	}
}

// A pass that was stopped is gone on from: what is whole is not copied again.
func TestStoppedPassIsContinued(t *testing.T) {
	b := newBench(t)
	var tr lab.Tree
	for i := range 300 {
		tr = append(tr, fmt.Sprintf("d%d/f%03d: content %d", i%7, i, i))
	}
	tr.Make(t, b.source)
	ctx, cancel := context.WithCancel(context.Background())
	p := b.part()
	first, err := CreateSpool(filepath.Join(b.dir, "spools"), 1)
	require.NoError(t, err)
	_, err = Pass(ctx, Job{Source: b.src, Part: p, New: first, Workers: 2, Progress: &trigger{files: 100, do: cancel}})
	p.Close()
	require.ErrorIs(t, err, context.Canceled)
	b.n = 1
	tally, err := b.pass(first)
	require.NoError(t, err)
	require.NoError(t, first.Close())
	require.Less(t, tally.CopiedFiles, int64(215))
	require.Positive(t, tally.CopiedFiles)
	b.equal()
	require.NoDirExists(t, filepath.Join(b.dir, "parent", "aside"))
}

// A trigger is progress that acts once when so many bytes, or so many files,
// are through.
type trigger struct {
	mu           sync.Mutex
	files, bytes int64
	do           func()
}

func (s *trigger) Phase(string, int64, int64) {}
func (s *trigger) Advance(files, bytes int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files, s.bytes = s.files-files, s.bytes-bytes
	if s.files <= 0 && s.bytes <= 0 && s.do != nil {
		s.do()
		s.do = nil
	}
}

// Any tree, changed in any way between passes, ends up equal.
func TestAnyTreeConverges(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := newBench(t)
		for range 3 {
			for range rapid.IntRange(1, 8).Draw(rt, "changes") {
				mutate(rt, b.source)
			}
			rested := b.spool != nil && b.atRest()
			tally, err := b.pass()
			if err != nil {
				rt.Fatal(err)
			}
			if rested && tally.Changed > 0 {
				rt.Fatal("it was at rest, and the next pass found changes", tally.ChangedPaths)
			}
			if _, err := b.verify(); err != nil {
				rt.Fatal(err)
			}
		}
		b.mustPass()
		b.equal()
		require.NoDirExists(t, filepath.Join(b.dir, "parent", "aside"))
	})
}

// mutate makes one random change to a tree.
func mutate(rt *rapid.T, root string) {
	name := func(l string) string {
		p := root
		for range rapid.IntRange(1, 3).Draw(rt, l+" depth") {
			p = filepath.Join(p, rapid.SampledFrom([]string{"a", "b", "a b", "\xff", "c.d"}).Draw(rt, l))
		}
		return p
	}
	p := name("at")
	// An act that does not fit the tree as it is leaves it as it is.
	switch rapid.IntRange(0, 8).Draw(rt, "act") {
	case 0:
		_ = os.MkdirAll(p, 0o755)
	case 1, 2:
		_ = os.MkdirAll(filepath.Dir(p), 0o755)
		content := []byte(rapid.String().Draw(rt, "content"))
		if fi, err := os.Lstat(p); err != nil || fi.Mode().IsRegular() { // a FIFO would wait for a reader
			_ = os.WriteFile(p, content, 0o644)
		}
	case 3:
		if fi, err := os.Stat(filepath.Dir(p)); err == nil && fi.IsDir() { // nor may it be looked into one
			_ = os.RemoveAll(p)
		}
	case 4:
		_ = os.Symlink("a/b", p)
	case 5:
		_ = os.Rename(p, name("to"))
	case 6, 7:
		to := name("to")
		_ = os.MkdirAll(filepath.Dir(to), 0o755)
		_ = os.Link(p, to)
	case 8:
		_ = unix.Mkfifo(p, 0o640)
	}
}

func TestDifferencesAndAmend(t *testing.T) {
	b := newBench(t)
	sample.Make(t, b.source)
	b.mustPass()
	diffs := func(side Side, dir string) map[string]string {
		d, err := handle.Open(dir)
		require.NoError(t, err)
		defer d.Release()
		out := map[string]string{}
		require.NoError(t, Differences(context.Background(), d, side, b.spool, func(x Difference) error {
			switch {
			case x.Was == nil:
				out[x.Path] = "new"
			case x.Now == nil:
				out[x.Path] = "gone"
			default:
				out[x.Path] = "changed"
			}
			return nil
		}))
		return out
	}
	require.Equal(t, "changed", diffs(Source, b.source)["a"], "so young a file that its times can't tell")
	require.False(t, b.atRest(), "for the same reason")
	time.Sleep(2 * LeastStep)
	require.Zero(t, b.mustPass().Young)
	b.equal()
	require.Empty(t, diffs(Source, b.source))
	require.Empty(t, diffs(Copy, b.copy))
	b.write("a", "late")
	b.write("d/new", "late")
	require.NoError(t, os.Remove(filepath.Join(b.source, "z")))
	require.Equal(t, map[string]string{".": "changed", "a": "changed", "d": "changed", "d/new": "new", "z": "gone"},
		diffs(Source, b.source))

	// Amending takes changed and new entries into the record.
	var changes []Record
	require.NoError(t, Differences(context.Background(), b.src, Source, b.spool, func(x Difference) error {
		if x.Now != nil {
			changes = append(changes, Record{Path: x.Path, Link: x.Now.Link, Xattrs: x.Now.Xattrs,
				Fact: Fact{Flags: Copied, Source: SnapOf(&x.Now.Stat, x.Now.Xattrs)}})
		}
		return nil
	}))
	next, err := Amend(b.spool, filepath.Join(b.dir, "spools"), 99, changes)
	require.NoError(t, err)
	require.NoError(t, b.spool.Close())
	b.spool = next
	require.Equal(t, map[string]string{"z": "gone"}, diffs(Source, b.source))
	require.Equal(t, []int{1, 2, 99}, Spools(filepath.Join(b.dir, "spools")))
}

// Erase takes only what is still as recorded and may go; the rest stays, and
// the answer says so.
func TestEraseLeavesWhatChanged(t *testing.T) {
	for what, c := range map[string]struct {
		change func(b *bench)
		may    func(*Record) bool
		left   string // a file that has to stay; empty if nothing stays
	}{
		"all of it":      {func(*bench) {}, nil, ""},
		"a changed file": {func(b *bench) { b.write("d/b", "late") }, nil, "d/b"},
		"a new file":     {func(b *bench) { b.write("d/e/new", "late") }, nil, "d/e/new"},
		"a replaced file": {func(b *bench) {
			require.NoError(b.t, os.Remove(filepath.Join(b.source, "a")))
			b.write("a", "other")
		}, nil, "a"},
		"a folder for a file": {func(b *bench) {
			require.NoError(b.t, os.Remove(filepath.Join(b.source, "a")))
			require.NoError(b.t, os.Mkdir(filepath.Join(b.source, "a"), 0o755))
		}, nil, "a"},
		"what may not go": {func(*bench) {}, func(r *Record) bool { return r.Path != "z" }, "z"},
		"no right to write": {func(b *bench) {
			require.NoError(b.t,
				os.Chmod(filepath.Join(b.source, "d", "e"), 0o500))
		}, nil, ""},
	} {
		t.Run(what, func(t *testing.T) {
			b := newBench(t)
			sample.Make(t, b.source)
			b.mustPass()
			c.change(b)
			if c.may == nil {
				c.may = func(*Record) bool { return true }
			}
			parent, err := handle.Open(b.dir)
			require.NoError(t, err)
			defer parent.Release()
			left, err := Erase(parent, "source", Source, b.spool, c.may)
			require.NoError(t, err)
			require.Equal(t, c.left != "", left)
			if c.left == "" {
				require.NoDirExists(t, b.source)
				return
			}
			_, err = os.Lstat(filepath.Join(b.source, c.left))
			require.NoError(t, err)
			require.NoFileExists(t, filepath.Join(b.source, "d", "e", "f"))
		})
	}
}

// A torn spool ends where it is torn; what comes before is known.
func TestTornSpool(t *testing.T) {
	b := newBench(t)
	sample.Make(t, b.source)
	b.mustPass()
	names := filepath.Join(b.dir, "spools", "pass-1.names")
	whole, err := os.ReadFile(names)
	require.NoError(t, err)
	count := func() (n int) {
		for c := Read(b.spool); c.Peek() != nil; c.Next() {
			n++
		}
		return n
	}
	require.Equal(t, 9, count())
	for cut := range whole {
		require.NoError(t, os.Truncate(names, int64(cut)))
		require.Less(t, count(), 9)
		require.NoError(t, os.WriteFile(names, whole, 0o600))
	}
	for i := range whole {
		bad := append([]byte{}, whole...)
		bad[i] ^= 0x40
		require.NoError(t, os.WriteFile(names, bad, 0o600))
		require.Less(t, count(), 9, "a flipped bit at %d is not noticed", i)
	}
}

func FuzzSpool(f *testing.F) {
	b := newBench(f)
	sample.Make(f, b.source)
	b.mustPass()
	seed, err := os.ReadFile(filepath.Join(b.dir, "spools", "pass-1.names"))
	require.NoError(f, err)
	f.Add(seed)
	f.Fuzz(func(t *testing.T, names []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "pass-1.names"), names, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "pass-1.facts"), nil, 0o600))
		s, err := OpenSpool(dir, 1)
		require.NoError(t, err)
		defer s.Close()
		last := ""
		for c := Read(s); c.Peek() != nil; c.Next() {
			require.True(t, last == "" || handle.Compare(last, c.Peek().Path) < 0, "out of order")
			last = c.Peek().Path
		}
	})
}

// Verification lets pass exactly what was accepted.
func TestAllow(t *testing.T) {
	acl, user := handle.Xattr{Name: "system.posix_acl_access", Value: []byte("x")},
		handle.Xattr{Name: "user.a", Value: []byte("x")}
	source := Snap{Mode: 0o100644, UID: 1, GID: 2, Size: 3, Mtime: handle.Time{Sec: 5, Nsec: 7}}
	both := []handle.Xattr{acl, user}
	for what, c := range map[string]struct {
		change func(*Snap)
		xattrs []handle.Xattr
		allow  Allow // the one that lets it pass; zero if none does
	}{
		"mode":         {func(s *Snap) { s.Mode = 0o100777 }, both, Allow{Modes: true}},
		"type":         {func(s *Snap) { s.Mode = 0o120644 }, both, Allow{}},
		"owner":        {func(s *Snap) { s.UID = 0 }, both, Allow{Owners: true}},
		"group":        {func(s *Snap) { s.GID = 0 }, both, Allow{Owners: true}},
		"size":         {func(s *Snap) { s.Size = 4 }, both, Allow{}},
		"time":         {func(s *Snap) { s.Mtime = handle.Time{Sec: 5} }, both, Allow{TimeStep: time.Second}},
		"two seconds":  {func(s *Snap) { s.Mtime = handle.Time{Sec: 4} }, both, Allow{TimeStep: 2 * time.Second}},
		"far time":     {func(s *Snap) { s.Mtime = handle.Time{Sec: 8} }, both, Allow{}},
		"other time":   {func(s *Snap) { s.Mtime = handle.Time{Sec: -1 << 62} }, both, Allow{}},
		"no ACL":       {func(*Snap) {}, both[1:], Allow{ACLs: true}},
		"no attribute": {func(*Snap) {}, both[:1], Allow{Xattrs: true}},
		"none at all":  {func(*Snap) {}, nil, Allow{Xattrs: true, ACLs: true}},
	} {
		made := source
		c.change(&made)
		require.NotEmpty(t, (&Allow{}).Differs(&source, &made, both, c.xattrs), what)
		others := Allow{Owners: !c.allow.Owners, Modes: !c.allow.Modes, Xattrs: !c.allow.Xattrs, ACLs: !c.allow.ACLs,
			Links: true}
		if c.allow.TimeStep == 0 {
			others.TimeStep = 2 * time.Second
		}
		require.NotEmpty(t, others.Differs(&source, &made, both, c.xattrs), "%s: only what was accepted", what)
		if c.allow != (Allow{}) {
			require.Empty(t, c.allow.Differs(&source, &made, both, c.xattrs), what)
		}
	}
}
