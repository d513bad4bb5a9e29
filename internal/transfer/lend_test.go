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
			files, bytes, err := b.lender.Lendable(context.Background(), b.src, 4096)
			require.NoError(t, err)
			require.EqualValues(t, 2, files, "d/e/f and z")
			require.EqualValues(t, 4096, bytes)
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
			require.NoError(t, b.lender.GiveBack(b.parent, "part"))
			require.NoError(t, b.lender.GiveBack(b.parent, "part"), "again")
			require.Equal(t, before, lab.Print(t, held))
			if take {
				require.NoFileExists(t, filepath.Join(b.copy, "a"))
			}
			require.FileExists(t, filepath.Join(b.copy, "d/b"))
		})
	}
}
