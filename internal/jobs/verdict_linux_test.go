//go:build faults && linux

package jobs

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/discard"
	"nexlin/internal/finding"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/test/lab"
)

// An edit is what somebody does to a file after a move.
type edit struct {
	name string
	do   func(t *testing.T, path string)
	says finding.Code // what a discard says of it at the target
}

func write(t *testing.T, path, text string) {
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// asOld does something and puts the file's modification time back.
func asOld(do func(t *testing.T, path string)) func(t *testing.T, path string) {
	return func(t *testing.T, path string) {
		st, err := os.Lstat(path)
		require.NoError(t, err)
		do(t, path)
		require.NoError(t, os.Chtimes(path, st.ModTime(), st.ModTime()))
	}
}

var edits = []edit{
	{"stays", func(*testing.T, string) {}, ""},
	{"is touched", func(t *testing.T, path string) { require.NoError(t, os.Chtimes(path, time.Now(), time.Now())) }, ""},
	{"is saved as it was", func(t *testing.T, path string) {
		is, err := os.ReadFile(path)
		require.NoError(t, err)
		write(t, path+".new", string(is))
		require.NoError(t, os.Rename(path+".new", path))
	}, ""},
	{"is written", func(t *testing.T, path string) { write(t, path, "new text, and longer") }, finding.ChangedSince},
	{"is cut short", func(t *testing.T, path string) { require.NoError(t, os.Truncate(path, 2)) }, finding.ChangedSince},
	{"is written under its old time", asOld(func(t *testing.T, path string) {
		is, err := os.ReadFile(path)
		require.NoError(t, err)
		write(t, path, strings.ToUpper(string(is)))
	}), finding.ChangedQuiet},
	{"is deleted", func(t *testing.T, path string) { require.NoError(t, os.Remove(path)) }, finding.GoneAtTarget},
	{"becomes a directory", func(t *testing.T, path string) {
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Mkdir(path, 0o755))
	}, finding.ChangedSince},
	{"becomes a link", func(t *testing.T, path string) {
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Symlink("elsewhere", path))
	}, finding.ChangedSince},
	{"gets other rights", func(t *testing.T, path string) { require.NoError(t, os.Chmod(path, 0o600)) },
		finding.MetaDiffers},
}

// manyFiles makes some files in some directories below dir and gives their paths in it.
func manyFiles(t *testing.T, r *rand.Rand, dir string) (paths []string) {
	var tree lab.Tree
	for i := range 4 + r.IntN(12) {
		path := fmt.Sprintf("%sf%d", strings.Repeat("d/", r.IntN(3))+[]string{"", "e/"}[r.IntN(2)], i)
		paths = append(paths, path)
		tree = append(tree, path+": the text of "+path)
	}
	require.NoError(t, os.RemoveAll(dir))
	tree.Make(t, dir)
	return paths
}

// moved is a world in which a folder of some files was moved.
func moved(t *testing.T, scratch string, r *rand.Rand) (w *world, paths []string, live, held string) {
	w = newWorld(t, scratch)
	paths = manyFiles(t, r, w.at("skerry/Charts"))
	w.did(w.move("skerry/Charts", "basalt/ines"))
	all, err := w.Ledger.HeldOf("charts")
	require.NoError(t, err)
	require.Len(t, all, 1)
	return w, paths, w.at("basalt/ines/Charts"), all[0].Path
}

// filesIn are the entries below dir that are no directories.
func filesIn(t *testing.T, dir string) (out []string) {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if rel, _ := filepath.Rel(dir, path); err == nil && !d.IsDir() {
			out = append(out, rel)
		}
		return err
	})
	if !os.IsNotExist(err) {
		require.NoError(t, err)
	}
	return out
}

// Whatever was done at the target since, a discard says exactly that of every file, deletes
// what is proven and nothing else, and touches nothing at the target (I2).
func TestDiscardSaysOfEveryFileWhatBecameOfIt(t *testing.T) {
	scratch := lab.MemoryDrive(t, "MACHINE", 64)
	for seed := range uint64(24) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 1))
			w, paths, live, held := moved(t, scratch, r)
			defer w.end()
			want, stay := map[finding.Code][]string{}, []string(nil)
			for _, path := range paths {
				e := edits[r.IntN(len(edits))]
				e.do(t, filepath.Join(live, path))
				if e.says != "" {
					want[e.says] = append(want[e.says], filepath.Join(live, path))
					stay = append(stay, path)
				}
			}
			before := lab.Print(t, live)

			d, err := discard.MakePlan(ctx, w.Engine, w.charts(), discard.Options{})
			require.NoError(t, err)
			require.Len(t, d.Verdicts, 1)
			said := map[finding.Code][]string{}
			for code, l := range d.Verdicts[0].Cases {
				said[code] = l.Paths
				slices.Sort(l.Paths)
				require.EqualValues(t, len(l.Paths), l.Count)
			}
			for _, l := range want {
				slices.Sort(l)
			}
			require.Equal(t, want, said)
			require.EqualValues(t, len(paths)-len(stay), d.Verdicts[0].Proven)
			if len(stay) > 0 {
				_, err = Do(ctx, w.Engine, d.ToRun())
				require.ErrorAs(t, err, new(*plan.RefusedError))
				require.Len(t, filesIn(t, held), len(paths))
			}

			d, err = discard.MakePlan(ctx, w.Engine, w.charts(), discard.Options{OnlyEqual: true})
			require.NoError(t, err)
			_, err = Do(ctx, w.Engine, d.ToRun())
			require.NoError(t, err)
			require.ElementsMatch(t, stay, filesIn(t, held))
			require.Equal(t, before, lab.Print(t, live))
		})
	}
}

// What programs wrote to a held original after the switch is brought over where nobody wrote
// at the target; where somebody did, both stay, and nothing is done before a person has
// looked (I1).
func TestLateWritesAreBroughtOver(t *testing.T) {
	scratch := lab.MemoryDrive(t, "MACHINE", 64)
	for seed := range uint64(24) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 2))
			w, paths, live, held := moved(t, scratch, r)
			defer w.end()
			is, stays, conflict := map[string]string{}, map[string]string{}, false
			for _, path := range paths {
				is[path] = "the text of " + path
				late, there := r.IntN(3) == 0, r.IntN(3) == 0
				if there {
					is[path] = "at the target"
					write(t, filepath.Join(live, path), is[path])
					stays[path] = "the text of " + path
				}
				if late {
					write(t, filepath.Join(held, path), "late")
					if conflict = conflict || there; !there {
						is[path] = "late"
					}
				}
			}
			if r.IntN(2) == 0 {
				require.NoError(t, os.MkdirAll(filepath.Join(held, "late/one"), 0o755))
				write(t, filepath.Join(held, "late/one/more"), "made late")
				is["late/one/more"] = "made late"
			}

			d, err := discard.MakePlan(ctx, w.Engine, w.charts(), discard.Options{OnlyEqual: true})
			require.NoError(t, err)
			before := lab.Print(t, w.at("skerry")) + lab.Print(t, w.at("basalt"))
			_, err = Do(ctx, w.Engine, d.ToRun())
			if conflict {
				require.ErrorAs(t, err, new(*plan.RefusedError))
				require.Equal(t, before, lab.Print(t, w.at("skerry"))+lab.Print(t, w.at("basalt")))
				return
			}
			require.NoError(t, err)
			for dir, want := range map[string]map[string]string{live: is, held: stays} {
				got := map[string]string{}
				for _, path := range filesIn(t, dir) {
					text, err := os.ReadFile(filepath.Join(dir, path))
					require.NoError(t, err)
					got[path] = string(text)
				}
				require.Equal(t, want, got, dir)
			}
		})
	}
}

// What the ledger says of a folder that grew while it was copied is what was copied, also where
// another process ended the run.
func TestRecordsCountWhatWasCopied(t *testing.T) {
	for _, stops := range []string{"", "try.intent"} {
		t.Run(stops, func(t *testing.T) {
			w := newWorld(t, t.TempDir())
			do := w.move("skerry/Charts", "basalt/ines")
			run.OnPoint = func(name string) error {
				switch name {
				case "pass-1":
					require.NoError(t, os.WriteFile(w.at("skerry/Charts/shoal"), []byte("a shoal"), 0o644))
				case stops:
					_ = w.Ledger.Close() // the process ends here
					return errDead
				}
				return nil
			}
			err := do()
			run.OnPoint = nil
			if stops != "" {
				require.Error(t, err)
				w.open()
				err = w.recovery(false)()
			}
			require.NoError(t, err)
			r := w.charts()
			require.Equal(t, [2]int64{3, 24}, [2]int64{r.Files, r.Bytes})
			held, err := w.Ledger.HeldOf("charts")
			require.NoError(t, err)
			require.EqualValues(t, 3, held[0].Files)
		})
	}
}
