//go:build faults && linux

package swap

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// A world is the directory of a link path and the one where the folder has its
// other name, and what else may stand there.
type world struct {
	*Swap
	root  string
	spare []string
	stood State // where it began
}

// A mode is one way in which link and folder change places.
type mode struct {
	name              string
	gap, none, lacks  bool // none: no link stands meanwhile; lacks: it may be missing, and is
	unnumbered, apart bool // apart: the folder's other name is in another directory
}

func modes() (all []mode) {
	for n := range 1 << 5 {
		m := mode{gap: n&1 != 0, none: n&2 != 0, lacks: n&4 != 0, unnumbered: n&8 != 0, apart: n&16 != 0}
		if m.none && m.lacks {
			continue
		}
		m.name = fmt.Sprintf("%+v", m)
		all = append(all, m)
	}
	return all
}

// scratch is a directory of the test in memory, where there is one: thousands of
// flushes do not wait for a disk.
var scratch = func() func(*testing.T) string {
	dirs := map[string]string{}
	return func(t *testing.T) string {
		if dirs[t.Name()] == "" {
			dirs[t.Name()] = lab.Scratch(t)
		}
		return dirs[t.Name()]
	}
}()

func (m mode) world(t *testing.T, begins State) *world {
	t.Helper()
	root, err := os.MkdirTemp(scratch(t), "")
	require.NoError(t, err)
	w := &world{root: root, stood: begins}
	w.Swap = &Swap{Text: "/mnt/basalt/Docs", Name: ".Docs.held", MayLack: m.lacks, Gap: m.gap,
		Spare:    func() (string, error) { return fmt.Sprintf(".Docs.gap-%d", len(w.spare)), nil },
		SetAside: func(name string) { w.spare = append(w.spare, name) }}
	if m.none {
		w.Text = ""
	}
	open := func(name string) *handle.Dir {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(path, 0o755))
		d, err := handle.Open(path)
		require.NoError(t, err)
		return d
	}
	w.Place = Place{Dir: open("home"), Base: "Docs", Temp: ".nexlin-link-x"}
	w.Away = w.Dir
	if m.apart {
		w.Away = open("home/aside")
	}
	folder := w.at(w.Dir, w.Base)
	if begins == Link {
		folder = w.at(w.Away, w.Name)
		if w.Text != "" && !m.lacks {
			require.NoError(t, os.Symlink(w.Text, w.at(w.Dir, w.Base)))
		}
	}
	require.NoError(t, os.Mkdir(folder, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "photo"), []byte("heron"), 0o644))
	if !m.unnumbered {
		st, err := handle.Lstat(folder)
		require.NoError(t, err)
		w.Ino = st.Ino
	}
	return w
}

// close lets go of a world that is done with.
func (w *world) close(t *testing.T) {
	w.Dir.Release()
	if w.Away != w.Dir {
		w.Away.Release()
	}
	require.NoError(t, os.RemoveAll(w.root))
}

func (w *world) at(d *handle.Dir, name string) string { return filepath.Join(d.Path(), name) }

// tree is every path below the world, with what a link says and a file holds.
func (w *world) tree(t *testing.T) map[string]string {
	t.Helper()
	got := map[string]string{}
	require.NoError(t, filepath.Walk(w.root, func(path string, fi os.FileInfo, err error) error {
		if err != nil || path == w.root {
			return err
		}
		rel, what := strings.TrimPrefix(path, w.root+"/"), ""
		switch {
		case fi.Mode()&os.ModeSymlink != 0:
			text, _ := os.Readlink(path)
			what = "-> " + text
		case fi.Mode().IsRegular():
			data, _ := os.ReadFile(path)
			what = string(data)
		}
		got[rel] = what
		return nil
	}))
	return got
}

// want is the tree of a swap that has ended in a state, with nothing left over.
func (w *world) want(at State, foreign ...string) map[string]string {
	rel := func(d *handle.Dir, name string) string { return strings.TrimPrefix(w.at(d, name), w.root+"/") }
	want := map[string]string{"home": ""}
	if w.Away != w.Dir {
		want["home/aside"] = ""
	}
	folder := rel(w.Dir, w.Base)
	if at == Link {
		folder = rel(w.Away, w.Name)
		if w.Text != "" && (w.stood != Link || !w.MayLack) {
			want[rel(w.Dir, w.Base)] = "-> " + w.Text
		}
	}
	want[folder], want[folder+"/photo"] = "", "heron"
	for _, f := range foreign {
		want[f] = "gull"
	}
	return want
}

func (w *world) to(at State) error {
	if at == Link {
		return w.ToLink(context.Background())
	}
	return w.ToFolder(context.Background())
}

var errStop = errors.New("stopped here")

// interrupted runs do and has its nth call fail with err; errStop ends it there,
// and makes no further call. met reports that there were so many calls.
func interrupted(nth int, with error, do func() error) (met bool, err error) {
	calls := 0
	handle.OnCall = func(string) error {
		if calls++; calls < nth {
			return nil
		}
		met = true
		if with == errStop {
			panic(errStop)
		}
		if calls == nth {
			return with
		}
		return nil
	}
	defer func() {
		handle.OnCall = nil
		if p := recover(); p != nil && p != errStop {
			panic(p)
		} else if p != nil {
			err = errStop
		}
	}()
	return met, do()
}

// whole wants the folder to be somewhere, whole, and the disks to be in a state
// that is known.
func (w *world) whole(t *testing.T, what string) {
	t.Helper()
	photos := 0
	for path := range w.tree(t) {
		if strings.HasSuffix(path, "/photo") {
			photos++
		}
	}
	require.Equal(t, 1, photos, what)
	_, err := w.Where()
	require.NoError(t, err, what)
}

// Every state, direction, call that fails and stop, and after it either direction
// with every stop once more (of the rarer modes with the first): at the end link and
// folder are where they should be, and nothing else is left (I1, I3, I4).
func TestStoppedAnywhere(t *testing.T) {
	ends := 0
	for _, m := range modes() {
		for _, begins := range []State{Folder, Link} {
			ends += m.stopAnywhere(t, begins)
		}
	}
	t.Logf("%d ends", ends)
	require.Greater(t, ends, 2_000)
}

func (m mode) stopAnywhere(t *testing.T, begins State) (ends int) {
	for _, with := range []error{errStop, syscall.EIO} {
		for nth, met := 1, true; met; nth++ {
			for _, then := range []State{Folder, Link} {
				for again, met2 := 1, true; met2 && (again == 1 || !m.apart && !m.unnumbered); again++ {
					w := m.world(t, begins)
					first := Link - begins
					what := fmt.Sprintf("%s from %d: %v at call %d, then to %d, stopped at call %d", m.name, begins,
						with, nth, then, again)
					met, _ = interrupted(nth, with, func() error { return w.to(first) })
					w.whole(t, what)
					met2, _ = interrupted(again, errStop, func() error { return w.to(then) })
					w.whole(t, what)
					require.NoError(t, w.to(then), what)
					at, err := w.Where()
					require.NoError(t, err, what)
					require.Equal(t, then, at, what)
					if then == Link && m.lacks {
						w.stood = linkIsMissing(w)
					}
					require.Equal(t, w.want(then), w.tree(t), what)
					w.close(t)
					ends++
				}
			}
		}
	}
	return ends
}

// linkIsMissing is Link where no link was made: it was missing from the start, and
// the folder never left.
func linkIsMissing(w *world) State {
	if _, err := os.Lstat(w.at(w.Dir, w.Base)); err != nil {
		return Link
	}
	return Folder
}

// What came into the gap is set aside and told, and never removed.
func TestSomethingInTheGap(t *testing.T) {
	for _, m := range modes() {
		if !m.gap || m.none {
			continue
		}
		for act, to := range map[string]State{"link": Link, "folder": Folder} {
			w := m.world(t, Link-to)
			w.Journal = func(_ context.Context, name string, _ any, do func() error) error {
				if name == act {
					require.NoError(t, os.WriteFile(w.at(w.Dir, w.Base), []byte("gull"), 0o644))
				}
				return do()
			}
			require.NoError(t, w.to(to), m.name)
			require.Equal(t, w.want(to, "home/.Docs.gap-0"), w.tree(t), m.name)
			require.Equal(t, []string{".Docs.gap-0"}, w.spare)
			w.close(t)
		}
	}
}

// A folder put in place of the one that was looked at, in the last moment before
// the exchange, is put back where it was.
func TestAnotherFolderMet(t *testing.T) {
	for _, m := range modes() {
		if m.gap || m.none || m.unnumbered {
			continue
		}
		for _, begins := range []State{Folder, Link} {
			w := m.world(t, begins)
			dir, name := w.Dir, w.Base
			if begins == Link {
				dir, name = w.Away, w.Name
			}
			swapped := false
			handle.OnCall = func(call string) error {
				if call == "renameat2" && !swapped {
					swapped = true
					require.NoError(t, os.Rename(w.at(dir, name), filepath.Join(w.root, "true")))
					require.NoError(t, os.Mkdir(w.at(dir, name), 0o755))
				}
				return nil
			}
			err := w.to(Link - begins)
			handle.OnCall = nil
			var broken *BrokenError
			require.ErrorAs(t, err, &broken, m.name)
			require.ErrorContains(t, err, "and was taken back", m.name)
			st, err := os.Lstat(w.at(dir, name))
			require.NoError(t, err, m.name)
			require.True(t, st.IsDir(), m.name)
			w.close(t)
		}
	}
}

// What no step leaves behind is told, and nothing of it is touched.
func TestBrokenStates(t *testing.T) {
	for what, make := range map[string]func(w *world) error{
		"nothing at all": func(w *world) error { return os.RemoveAll(w.at(w.Dir, w.Base)) },
		"a file": func(w *world) error {
			return errors.Join(os.RemoveAll(w.at(w.Dir, w.Base)), os.WriteFile(w.at(w.Dir, w.Base), nil, 0o600))
		},
		"a link that is not ours": func(w *world) error {
			return errors.Join(os.RemoveAll(w.at(w.Dir, w.Base)), os.Symlink("/elsewhere", w.at(w.Dir, w.Base)))
		},
		"our link without the folder": func(w *world) error {
			return errors.Join(os.RemoveAll(w.at(w.Dir, w.Base)), os.Symlink("/mnt/basalt/Docs", w.at(w.Dir, w.Base)))
		},
		"another folder": func(w *world) error {
			return errors.Join(os.Rename(w.at(w.Dir, w.Base), filepath.Join(w.root, "true")),
				os.Mkdir(w.at(w.Dir, w.Base), 0o755))
		},
	} {
		for _, m := range modes() {
			if m.unnumbered && what == "another folder" {
				continue
			}
			w := m.world(t, Folder)
			require.NoError(t, make(w))
			was := w.tree(t)
			for _, to := range []State{Folder, Link} {
				var broken *BrokenError
				require.ErrorAs(t, w.to(to), &broken, "%s: %s", m.name, what)
				require.Equal(t, was, w.tree(t), "%s: %s", m.name, what)
			}
			w.close(t)
		}
	}
}

// What stands under the folder's other name is left, and so is the folder.
func TestOtherNameTaken(t *testing.T) {
	for _, m := range modes() {
		w := m.world(t, Folder)
		require.NoError(t, os.WriteFile(w.at(w.Away, w.Name), []byte("gull"), 0o600))
		was := w.tree(t)
		require.Error(t, w.to(Link), m.name)
		require.Equal(t, was, w.tree(t), m.name)
		require.Empty(t, w.spare, m.name)
		require.NoError(t, w.to(Folder), m.name)
		require.Equal(t, was, w.tree(t), m.name)
		w.close(t)
	}
}

// What came to stand in the link's place is told, and left; a link that somebody took
// away is no trouble.
func TestPlaceTaken(t *testing.T) {
	for what, make := range map[string]func(at string) error{
		"a file":   func(at string) error { return os.WriteFile(at, []byte("gull"), 0o600) },
		"a folder": func(at string) error { return os.Mkdir(at, 0o755) },
		"a link":   func(at string) error { return os.Symlink("/elsewhere", at) },
		"nothing":  func(string) error { return nil },
	} {
		for _, m := range modes() {
			for _, to := range []State{Folder, Link} {
				w := m.world(t, Link)
				require.NoError(t, errors.Join(os.RemoveAll(w.at(w.Dir, w.Base)), make(w.at(w.Dir, w.Base))))
				was := w.tree(t)
				err := w.to(to)
				if what == "nothing" {
					require.NoError(t, err, m.name)
					require.Equal(t, w.want(to), w.tree(t), m.name)
				} else {
					var taken *TakenError
					require.ErrorAs(t, err, &taken, "%s: %s", m.name, what)
					require.Equal(t, w.at(w.Away, w.Name), taken.Away)
					require.Equal(t, was, w.tree(t), "%s: %s", m.name, what)
				}
				w.close(t)
			}
		}
	}
}

// A link that is led elsewhere says one of the two texts whatever stops it, or has
// its temporary name; led again, there or back, it says what it should.
func TestLeadStoppedAnywhere(t *testing.T) {
	const old, text = "/mnt/basalt/Docs", "/mnt/skerry/Docs"
	ends := 0
	for _, twoActs := range []bool{false, true} {
		for _, with := range []error{errStop, syscall.EIO} {
			for nth, met := 1, true; met; nth++ {
				for _, way := range [][2]string{{old, text}, {text, old}} {
					w := mode{}.world(t, Link)
					w.TwoActs = twoActs
					met, _ = interrupted(nth, with, func() error { return w.Lead(old, text) })
					require.NoError(t, w.Lead(way[0], way[1]))
					names := slices.Sorted(maps.Keys(w.tree(t)))
					require.Equal(t, []string{"home", "home/.Docs.held", "home/.Docs.held/photo", "home/Docs"}, names)
					require.Equal(t, "-> "+way[1], w.tree(t)["home/Docs"])
					w.close(t)
					ends++
				}
			}
		}
	}
	require.Greater(t, ends, 40)

	w := mode{}.world(t, Link)
	var broken *BrokenError
	require.ErrorAs(t, w.Lead("/mnt/dune/Docs", text), &broken)
	require.Equal(t, w.want(Link), w.tree(t))
}
