//go:build linux

package transfer

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// lendingBench has a live folder that was copied from a held original, which
// lends to the copy of the live folder.
func lendingBench(t *testing.T, take bool) (b *bench, held string) {
	made := newBench(t)
	sample.Make(t, made.source)
	made.mustPass()
	made.equal()
	b = newBench(t)
	require.NoError(t, os.Remove(b.source))
	require.NoError(t, os.Rename(made.copy, b.source))
	b.src.Release()
	var err error
	b.src, err = handle.Open(b.source)
	require.NoError(t, err)
	b.lender = &Lender{Held: made.src, Spool: made.spool, Before: handle.Time{Sec: 1 << 40}, Take: take}
	return b, made.source
}

// What is the same in the held original comes from there, whichever way, and
// the copy equals the live folder; what was taken goes back when the live
// folder changes, and all of it in the end.
func TestHeldOriginalLends(t *testing.T) {
	for what, take := range map[string]bool{"copies": false, "is taken from": true} {
		t.Run(what, func(t *testing.T) {
			b, held := lendingBench(t, take)
			before := lab.Print(t, held)
			b.write("a", "worked in")
			require.NoError(t, os.WriteFile(filepath.Join(held, "d/b"), []byte("TWO"), 0o644)) // not what it was
			loan, err := b.lender.Lendable(context.Background(), b.src, 4096)
			require.NoError(t, err)
			require.EqualValues(t, 2, loan.Files, "d/e/f and z")
			require.EqualValues(t, 4096, loan.Bytes)
			tally := b.mustPass()
			if take {
				require.EqualValues(t, 2, tally.Lent)
				require.NoFileExists(t, filepath.Join(held, "z"))
			}
			// The live folder changes and loses what the copy was lent.
			b.write("d/e/f", "worked in, too")
			require.NoError(t, os.Remove(filepath.Join(b.source, "z")))
			b.mustPass()
			b.equal()
			require.NoError(t, os.WriteFile(filepath.Join(held, "d/b"), []byte("two"), 0o644))
			require.NoError(t, lab.AgeTree(held))
			require.Equal(t, before, lab.Print(t, held), "the held original has everything again")
		})
	}
}

// A content that is not what the record says is not lent but copied from the
// live folder; what was taken is given back from wherever it is.
func TestHeldOriginalIsProven(t *testing.T) {
	for what, take := range map[string]bool{"copies": false, "is taken from": true} {
		t.Run(what, func(t *testing.T) {
			b, held := lendingBench(t, take)
			before := lab.Print(t, held)
			for c := Read(b.lender.Spool); c.Peek() != nil; c.Next() {
				if r := c.Peek(); r.Path == "d/b" {
					r.Fact.Sum[0] ^= 1 // as if the bits on the drive were other ones
					require.NoError(t, b.lender.Spool.Put(r.Ord, &r.Fact))
				}
			}
			tally := b.mustPass()
			if take {
				require.EqualValues(t, 3, tally.Lent, "a, d/e/f and z")
			}
			b.equal()
			require.NoError(t, b.lender.GiveBack(b.parent, "part", b.taken))
			require.NoError(t, b.lender.GiveBack(b.parent, "part", b.taken), "again")
			require.Equal(t, before, lab.Print(t, held))
			if take {
				require.NoFileExists(t, filepath.Join(b.copy, "a"))
			}
			require.FileExists(t, filepath.Join(b.copy, "d/b"))
		})
	}
}

// takeDirs takes what is equal out of the held original, directory by directory.
func (b *bench) takeDirs() (dirs []string) {
	b.t.Helper()
	loan, err := b.lender.Lendable(context.Background(), b.src, 4096)
	require.NoError(b.t, err)
	b.n++
	b.spool, err = CreateSpool(filepath.Join(b.dir, "spools"), b.n)
	require.NoError(b.t, err)
	_, err = b.lender.RecordDirs(loan.Dirs, b.spool)
	require.NoError(b.t, err)
	p := b.part()
	defer p.Close()
	require.NoError(b.t, b.lender.TakeDirs(p, loan.Dirs))
	require.NoError(b.t, b.lender.TakeDirs(p, loan.Dirs), "again")
	b.lent, b.taken = true, loan.Dirs
	for _, d := range loan.Dirs {
		dirs = append(dirs, d.Path)
	}
	return dirs
}

// Directories in which nothing has changed are taken by one rename each, wherever they lie,
// and proven where they are.
func TestEqualDirectoriesAreTaken(t *testing.T) {
	for what, c := range map[string]struct {
		change func(b *bench, held string)
		dirs   []string
	}{
		"nothing changed": {func(*bench, string) {}, []string{"d", "empty"}},
		"changed":         {func(b *bench, _ string) { b.write("d/b", "worked in") }, []string{"d/e", "empty"}},
		"a new one":       {func(b *bench, _ string) { b.write("d/e/new", "x") }, []string{"empty"}},
		"gone": {func(b *bench, _ string) { require.NoError(b.t, os.Remove(filepath.Join(b.source, "d/e/f"))) },
			[]string{"empty"}},
		"changed in the held original": {func(b *bench, held string) {
			require.NoError(b.t, os.WriteFile(filepath.Join(held, "d/b"), []byte("TWO"), 0o644))
		}, []string{"d/e", "empty"}},
		"a new one there": {func(b *bench, held string) {
			require.NoError(b.t, os.WriteFile(filepath.Join(held, "empty/new"), []byte("x"), 0o644))
		}, []string{"d"}},
		"gone there": {func(b *bench, held string) {
			require.NoError(b.t, os.RemoveAll(filepath.Join(held, "empty")))
		}, []string{"d"}},
		"a link": {func(b *bench, _ string) {
			require.NoError(b.t, os.Remove(filepath.Join(b.source, "d/l")))
			require.NoError(b.t, os.Symlink("e", filepath.Join(b.source, "d/l")))
		}, []string{"d/e", "empty"}},
		"other rights": {func(b *bench, _ string) {
			require.NoError(b.t, os.Chmod(filepath.Join(b.source, "d/e"), 0o700))
		}, []string{"empty"}},
	} {
		t.Run(what, func(t *testing.T) {
			b, held := lendingBench(t, true)
			c.change(b, held)
			before := lab.Print(t, held)
			require.Equal(t, c.dirs, b.takeDirs())
			b.mustPass()
			b.equal()
			for range 2 { // what was lent is carried over
				require.Zero(t, b.mustPass().Changed)
			}
			b.equal()
			for _, d := range c.dirs {
				require.NoDirExists(t, filepath.Join(held, d))
			}
			require.NoError(t, b.lender.GiveBack(b.parent, "part", b.taken))
			require.NoError(t, b.lender.GiveBack(b.parent, "part", b.taken), "again")
			require.Equal(t, before, lab.Print(t, held))
		})
	}
}

// What was taken as it is, and is found not to be as the folder, is given back as it was, and
// looked at file by file.
func TestTakenDirectoriesAreGivenUp(t *testing.T) {
	part := func(b *bench, name string) string { return filepath.Join(b.copy, name) }
	for what, change := range map[string]func(b *bench){
		"content":   func(b *bench) { b.write("d/e/f", "other") },
		"a new one": func(b *bench) { b.write("d/e/new", "x") },
		"gone":      func(b *bench) { require.NoError(b.t, os.Remove(filepath.Join(b.source, "d/b"))) },
		"all gone":  func(b *bench) { require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, "d"))) },
		"another type": func(b *bench) {
			require.NoError(b.t, os.RemoveAll(filepath.Join(b.source, "d/e")))
			b.write("d/e", "no directory")
		},
		"rights":               func(b *bench) { require.NoError(b.t, os.Chmod(filepath.Join(b.source, "d/b"), 0o600)) },
		"rights of one":        func(b *bench) { require.NoError(b.t, os.Chmod(filepath.Join(b.source, "d"), 0o700)) },
		"content of the lent":  func(b *bench) { lab.Tree{"d/b: TWO"}.Make(b.t, b.copy) },
		"a new one of theirs":  func(b *bench) { lab.Tree{"d/e/new: x"}.Make(b.t, b.copy) },
		"gone from the lent":   func(b *bench) { require.NoError(b.t, os.Remove(part(b, "d/b"))) },
		"an empty one is gone": func(b *bench) { require.NoError(b.t, os.Remove(part(b, "empty"))) },
		"rights of the lent":   func(b *bench) { require.NoError(b.t, os.Chmod(part(b, "d/e"), 0o700)) },
	} {
		t.Run(what, func(t *testing.T) {
			b, _ := lendingBench(t, true)
			b.takeDirs()
			change(b)
			_, err := b.pass()
			if err == nil {
				_, err = b.verify()
			}
			require.ErrorIs(t, err, ErrNotAsLent)
			before := lab.Print(t, filepath.Join(b.dir, "parent"))
			require.NoError(t, b.lender.GiveBack(b.parent, "part", b.taken))
			require.NotEqual(t, before, lab.Print(t, filepath.Join(b.dir, "parent")), "nothing was given back")
			b.lent, b.doubt = false, true
			b.mustPass()
			b.equal()
		})
	}
}

// A directory that somebody has put in the place of one that was to be taken stays there.
func TestAnotherDirectoryIsNotTaken(t *testing.T) {
	b, held := lendingBench(t, true)
	loan, err := b.lender.Lendable(context.Background(), b.src, 4096)
	require.NoError(t, err)
	require.NoError(t, os.Rename(filepath.Join(held, "d"), filepath.Join(b.dir, "d")))
	lab.Tree{"d/other: x"}.Make(t, held)
	before := lab.Print(t, held)
	p := b.part()
	defer p.Close()
	require.ErrorIs(t, b.lender.TakeDirs(p, loan.Dirs), ErrNotAsLent)
	require.Equal(t, before, lab.Print(t, held))
	require.NoDirExists(t, filepath.Join(b.copy, "d"))
}
