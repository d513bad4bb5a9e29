//go:build faults && linux

package jobs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/run"
	"nexlin/test/lab"
)

// A world is a machine with three drives, on which a run is stopped in process as if it
// had been killed.
type world struct {
	*testing.T
	*engine.Engine
	dir     string
	lenient bool // planning may fail: then carrying out says so
}

// newWorld makes one in a directory below scratch.
func newWorld(t *testing.T, scratch string) *world {
	t.Helper()
	dir, err := os.MkdirTemp(scratch, "")
	require.NoError(t, err)
	w := &world{T: t, dir: dir}
	lab.Tree{"skerry/Charts/coast: the coast", "skerry/Charts/deep/reef: the reef", "skerry/Charts/l => deep/reef",
		"skerry/Logs/day: fog", "basalt/", "dune/", "drives.yaml: drives: [" +
			"{label: SKERRY, id: 5ce771b0-1a5d-4c1e-8e0f-0b0a57a1e001, path: skerry, capacity: 9 MiB}, " +
			"{label: BASALT, id: ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002, path: basalt, capacity: 9 MiB}, " +
			"{label: DUNE, id: d00de5e0-3b1c-4a86-a7d4-0b0a57a1e003, path: dune, capacity: 9 MiB}]"}.Make(t, dir)
	w.open()
	return w
}

// open begins a process on it.
func (w *world) open() {
	w.Helper()
	drives, err := drive.WithStandins(w.at("drives.yaml"))
	require.NoError(w, err)
	l, err := ledger.Open(w.at("state"))
	require.NoError(w, err)
	w.Engine = engine.New(l, drives)
}

func (w *world) at(rel string) string { return filepath.Join(w.dir, rel) }

// end ends it with all that it has.
func (w *world) end() {
	require.NoError(w, w.Ledger.Close())
	require.NoError(w, os.RemoveAll(w.dir))
}

// charts is the redirect of the folder.
func (w *world) charts() ledger.Redirect {
	w.Helper()
	r, err := w.Ledger.Redirect("charts")
	require.NoError(w, err)
	return r
}

// does plans a run that nothing blocks and gives what carries it out.
func (w *world) does(p *plan.Plan, err error) func() error {
	w.Helper()
	if err == nil {
		err = p.Blocked()
	}
	return w.planned(err, func() *plan.Plan { return p })
}

// planned is [world.does] for what is made a plan of a run only then.
func (w *world) planned(err error, p func() *plan.Plan) func() error {
	w.Helper()
	if w.lenient && err != nil {
		return func() error { return err }
	}
	require.NoError(w, err)
	return func() error { _, err := Do(context.Background(), w.Engine, p()); return err }
}

// did carries it out.
func (w *world) did(do func() error) { w.Helper(); require.NoError(w, do()) }

func (w *world) move(folder, into string) func() error {
	w.Helper()
	return w.does(onto(folder, into, planning.MoveOptions{})(w))
}

// onto plans a move with these options.
func onto(folder, into string, o planning.MoveOptions) func(w *world) (*plan.Plan, error) {
	return func(w *world) (*plan.Plan, error) {
		o := o
		o.Folder, o.Into = w.at(folder), w.at(into)
		o.Accept = append([]finding.Code{finding.TargetInMemory}, o.Accept...)
		return redirect.PlanMove(ctx, w.Engine, o)
	}
}

// print is all that stands on the drives, and what the ledger has; what differs from run
// to run is left out.
func (w *world) print() string {
	w.Helper()
	var b strings.Builder
	for _, on := range []string{"skerry", "basalt", "dune"} {
		require.NoError(w, filepath.WalkDir(w.at(on), func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return handle.IgnoreMissing(err) // a drive that is away
			}
			st, err := d.Info()
			if err != nil {
				return err
			}
			said := ""
			switch {
			case d.Type() == fs.ModeSymlink:
				said, err = os.Readlink(path)
			case d.Type().IsRegular() && !strings.Contains(path, "/.nexlin") && !strings.HasSuffix(path, ".zst") &&
				!strings.Contains(path, ".archive"):
				var content []byte
				content, err = os.ReadFile(path)
				said = string(content)
			}
			fmt.Fprintln(&b, strings.TrimPrefix(path, w.dir), st.Mode(), said)
			return err
		}))
	}
	all, err := w.Ledger.Redirects(true)
	require.NoError(w, err)
	for _, r := range all {
		fmt.Fprintln(&b, "redirect", r.Name, r.State, r.Link, r.Target, r.Methods, r.Bytes, r.Files)
		held, err := w.Ledger.HeldOf(r.Name)
		require.NoError(w, err)
		for _, h := range held {
			fmt.Fprintln(&b, "  held", h.Path, h.Bytes, h.Copy)
		}
	}
	open, err := plan.Open(w.Ledger)
	require.NoError(w, err)
	require.Empty(w, open, "a run is stopped")
	rows := w.runs()
	said := strings.ReplaceAll(b.String(), w.dir, "")
	slices.Reverse(rows)
	for i, row := range rows {
		said = strings.ReplaceAll(said, row.ID, fmt.Sprint("RUN", i+1))
	}
	lines := strings.Split(said, "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

var errDead = errors.New("the process has ended")

// dies has do end at the nth step, or the nth system call, as if the process were killed
// there: nothing that follows reaches the disks. It reports whether it came so far.
func (w *world) dies(step, call int, do func() error) bool {
	w.Helper()
	var dead atomic.Bool
	var steps, calls atomic.Int64
	die := func() error {
		if dead.CompareAndSwap(false, true) {
			_ = w.Ledger.Close() // what is not in it by now, never will be
		}
		return errDead
	}
	run.OnPoint = func(string) error {
		if dead.Load() || int(steps.Add(1)) == step {
			return die()
		}
		return nil
	}
	handle.OnCall = func(string) error {
		if dead.Load() || int(calls.Add(1)) == call {
			return die()
		}
		return nil
	}
	err := do()
	run.OnPoint, handle.OnCall = nil, nil
	if !dead.Load() {
		require.NoError(w, err)
		return false
	}
	w.open()
	return true
}

// counted carries out what is to be stopped, and says how many steps and calls it has.
func (w *world) counted(do func() error) (steps, calls int) {
	w.Helper()
	var s, c atomic.Int64
	run.OnPoint = func(string) error { s.Add(1); return nil }
	handle.OnCall = func(string) error { c.Add(1); return nil }
	w.did(do)
	run.OnPoint, handle.OnCall = nil, nil
	return int(s.Load()), int(c.Load())
}

// recovery gives what finishes, or takes back, the one run that was stopped; nil if none
// was.
func (w *world) recovery(undo bool) func() error {
	w.Helper()
	ctx := context.Background()
	open, err := plan.Open(w.Ledger)
	require.NoError(w, err)
	if len(open) == 0 {
		return nil
	}
	require.Len(w, open, 1)
	row := open[0]
	return func() (err error) {
		switch {
		case undo:
			_, err = Undo(ctx, w.Engine, row)
		default:
			_, err = Resume(ctx, w.Engine, row)
		}
		return err
	}
}

// Stopped at every step, and at system calls between them, every kind of run is finished
// by resume and taken back by undo, also if that is stopped, too (I3); and then all is as
// after a run that nothing happened to.
func TestEveryKindIsStoppedEverywhere(t *testing.T) {
	scratch := lab.MemoryDrive(t, "MACHINE", 64)
	cases := 0
	for _, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			ready, ends, steps, calls := s.rehearsed(t, scratch)
			for n := 1; n <= steps; n++ {
				for i, undo := range []bool{false, true} {
					if n%2 != i && os.Getenv("NEXLIN_MATRIX") != "all" {
						continue // finished and taken back in turn
					}
					cases++
					s.dies(t, ready, ends, n, 0, undo, n%3)
				}
			}
			every := max(1, calls/callsOf())
			for n := 1; n <= calls; n += every {
				cases++
				s.dies(t, ready, ends, 0, n, n/every%2 == 0, n%3)
			}
		})
	}
	t.Logf("%d cases", cases)
}

// rehearsed gives what makes a story ready to run; how all is before the run, when it is
// done, and when it is taken back after that; and how many steps and calls it has.
func (s story) rehearsed(t *testing.T, scratch string) (ready func() (*world, func() error), ends []string, steps,
	calls int) {
	t.Helper()
	ready = func() (*world, func() error) {
		w := s.world(t, scratch)
		return w, s.begin(w)
	}
	known, ok := rehearsals[s.name]
	if !ok {
		w, do := ready()
		before := w.print()
		known.steps, known.calls = w.counted(do)
		known.ends = []string{before, w.print()}
		if !s.final { // what programs were led to is set aside, and not deleted
			w.undoes()
			known.ends = append(known.ends, w.print())
		}
		w.end()
		rehearsals[s.name] = known
	}
	return ready, known.ends, known.steps, known.calls
}

// world is one in which the story can begin.
func (s story) world(t *testing.T, scratch string) *world {
	t.Helper()
	w := newWorld(t, scratch)
	if s.before != nil {
		s.before(w)
	}
	return w
}

// callsIn has do fail at its nth system call, if n is not 0, and says how many it made and which one
// failed.
func callsIn(n int, with error, do func()) (calls int, failed string) {
	var seen atomic.Int64
	handle.OnCall = func(name string) error {
		if int(seen.Add(1)) == n {
			failed = name
			return with
		}
		return nil
	}
	do()
	handle.OnCall = nil
	return int(seen.Load()), failed
}

// rehearsals are what [story.rehearsed] has found out, by the story's name.
var rehearsals = map[string]struct {
	ends         []string
	steps, calls int
}{}

// undoes takes the last run back, which is done.
func (w *world) undoes() {
	w.Helper()
	row, err := w.runs()[0], error(nil)
	if p, err := plan.Of(row); err == nil && p.Together != "" {
		row, err = w.Ledger.Run(p.Together)
		require.NoError(w, err)
	}
	_, err = Undo(context.Background(), w.Engine, row)
	require.NoError(w, err)
}

// dies stops a run of the story at the nth step or call, then what recovers it at some
// calls, too, if again is not 0, and recovers it. ends are how all is before the run, when
// it is done, and when it is taken back after that.
func (s story) dies(t *testing.T, ready func() (*world, func() error), ends []string, step, call int, undo bool,
	again int) {
	t.Helper()
	w, do := ready()
	defer w.end()
	died := w.dies(step, call, do)
	what := fmt.Sprintf("step %d, call %d, undo %v, again %d", step, call, undo, again)
	back := w.recovery(undo)
	if back == nil { // not begun, or at its end
		if w.print() != ends[1] { // what was tried beforehand may be left, and hinders nobody
			require.NoError(t, do(), what)
			require.Equal(t, ends[1], w.print(), what)
		}
		return
	}
	require.True(t, died, what)
	for at := again * 7; again > 0 && at < 120 && w.dies(0, at, back); at += 37 {
		if back = w.recovery(undo); back == nil {
			break
		}
	}
	s.recovers(w, ends, undo, what)
}

// recovers finishes what was stopped, or takes it back, and looks how all is then.
func (s story) recovers(w *world, ends []string, undo bool, what string) {
	w.Helper()
	if back := w.recovery(undo); back != nil {
		require.NoError(w, back(), what)
	}
	t := w.T
	switch is := w.print(); {
	case !undo && s.lends: // what was not taken the first time may be copied the second
		require.Equal(t, withoutHeld(ends[1]), withoutHeld(is), what)
	case !undo:
		require.Equal(t, ends[1], is, what)
	case !s.final:
		w.takenBack(ends, is, what)
	}
}

// takenBack wants what is there to be as it was; copies that programs were led to may be
// set aside, of several runs those of some.
func (w *world) takenBack(ends []string, is, what string) {
	w.Helper()
	for _, change := range lab.Changes(unnumbered(ends[0]), unnumbered(is)) {
		require.Contains(w, lab.Changes(unnumbered(ends[0]), unnumbered(ends[2])), change, what)
	}
}

// Whatever system call fails, once or for good, a run says so and can be finished or taken
// back, or is what it would have been; and it keeps nothing open (I3).
func TestEveryKindFailsEverywhere(t *testing.T) {
	scratch := lab.MemoryDrive(t, "MACHINE", 64)
	cases := 0
	for i, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			ready, ends, _, calls := s.rehearsed(t, scratch)
			every := max(1, calls/callsOf())
			for n := 1 + i%every; n <= calls; n += every {
				cases++
				t.Run(fmt.Sprint("call ", n), func(t *testing.T) {
					s.fails(t, ready, ends, n, failures[n/every%len(failures)], n/every%3 == 0, n/every%2 == 0)
				})
			}
		})
	}
	t.Logf("%d cases", cases)
}

var failures = []syscall.Errno{syscall.EIO, syscall.ENOSPC, syscall.EROFS, syscall.EACCES, syscall.EMFILE}

// fails has the nth call of a run fail, and all of its name after it if ever, and recovers
// the run.
func (s story) fails(t *testing.T, ready func() (*world, func() error), ends []string, n int, with syscall.Errno, ever,
	undo bool) {
	t.Helper()
	defer staysOpen(t)(fmt.Sprint("recovered from call ", n))
	w, do := ready()
	defer w.end()
	var calls atomic.Int64
	var failed atomic.Value
	handle.OnCall = func(name string) error {
		if int(calls.Add(1)) == n {
			failed.Store(name)
			return with
		}
		if was, _ := failed.Load().(string); ever && was == name {
			return with
		}
		return nil
	}
	nothing := staysOpen(t)
	err := do()
	handle.OnCall = nil
	what := fmt.Sprintf("call %d, %v fails with %v, for good %v, undo %v: %v", n, failed.Load(), with, ever, undo, err)
	nothing(what)
	stopped, lerr := plan.Open(w.Ledger)
	require.NoError(t, lerr, what)
	var back *plan.TakenBackError
	switch {
	case errors.As(err, &back):
		w.takenBack(ends, w.print(), what)
	case err == nil:
		require.Empty(t, stopped, what)
		is := w.print()
		if s.lends { // what can't be read is copied
			is, ends = withoutHeld(is), []string{"", withoutHeld(ends[1])}
		}
		if failed.Load() == "rmdir" && ever { // what can't be taken away, empty as it is, stays
			is = regexp.MustCompile(`\S+/\.nexlin-new-RUN1 \S+ \n`).ReplaceAllString(is, "")
		}
		require.Contains(t, ends[1:], is, "%s\n%v", what, lab.Changes(ends[1], is))
	case len(stopped) == 0: // it did not begin, or was taken back: nothing hinders it now
		require.NoError(t, s.again(w, do), what)
		require.Equal(t, unnumbered(ends[1]), unnumbered(w.print()), what)
	default:
		// Where taking several back has begun, that alone is left.
		s.recovers(w, ends, undo || slices.ContainsFunc(w.runs(), func(r ledger.RunRow) bool {
			return r.State == ledger.Undone
		}), what)
	}
}

// runs are all that the ledger knows.
func (w *world) runs() []ledger.RunRow {
	w.Helper()
	rows, err := w.Ledger.Runs()
	require.NoError(w, err)
	return rows
}

// again plans the run anew, which was refused, and carries it out.
func (s story) again(w *world, do func() error) error {
	if err := do(); err == nil {
		return nil
	}
	return s.begin(w)()
}

// staysOpen gives the check that this process has no file open by then that it has not now.
func staysOpen(t *testing.T) (nothing func(what string)) {
	t.Helper()
	before := openFiles(t)
	return func(what string) {
		t.Helper()
		left := openFiles(t)
		for _, path := range before {
			if i := slices.Index(left, path); i >= 0 {
				left = slices.Delete(left, i, i+1)
			}
		}
		require.Empty(t, left, what)
	}
}

// openFiles are the paths of the files that this process has open.
func openFiles(t *testing.T) (paths []string) {
	t.Helper()
	all, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	for _, d := range all {
		if at, err := os.Readlink("/proc/self/fd/" + d.Name()); err == nil && strings.HasPrefix(at, "/") {
			paths = append(paths, at)
		}
	}
	return paths
}

// unnumbered leaves out which run is which: those that were refused count, too.
func unnumbered(is string) string { return regexp.MustCompile(`RUN\d+`).ReplaceAllString(is, "RUN") }

func withoutHeld(is string) string {
	lines := strings.Split(is, "\n")
	return strings.Join(slices.DeleteFunc(lines, func(l string) bool { return strings.Contains(l, ".held-RUN1") }), "\n")
}
