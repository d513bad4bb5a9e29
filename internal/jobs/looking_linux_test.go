//go:build faults && linux

package jobs

import (
	"fmt"
	"regexp"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/test/lab"
)

// withoutSizes leaves out which run is which, what is held by its files, and what that takes.
func withoutSizes(is string) string {
	return regexp.MustCompile(`(held \S+) \d+`).ReplaceAllString(withoutHeld(unnumbered(is)), "$1")
}

// Whatever call fails while a run is planned, planning changes nothing and keeps nothing open, and
// what is carried out all the same ends as ever, or is refused and can be planned again.
func TestPlanningFailsEverywhere(t *testing.T) {
	scratch := lab.MemoryDrive(t, "MACHINE", 64)
	cases := 0
	for i, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			_, ends, _, _ := s.rehearsed(t, scratch)
			w := s.world(t, scratch)
			calls, _ := callsIn(0, nil, func() { s.begin(w) })
			w.end()
			every := max(1, calls/callsOf())
			for n := 1 + i%every; n <= calls; n += every {
				cases++
				with := failures[n/every%len(failures)]
				if with == syscall.EACCES { // which is an answer: what an account may not see is left out
					with = syscall.EIO
				}
				w := s.world(t, scratch)
				w.lenient = true
				nothing := staysOpen(t)
				var do func() error
				_, failed := callsIn(n, with, func() { do = s.begin(w) })
				what := fmt.Sprintf("call %d, %s, fails with %v", n, failed, with)
				nothing(what)
				require.Equal(t, ends[0], w.print(), what)
				w.lenient = false
				if err := do(); err != nil {
					stopped, lerr := plan.Open(w.Ledger)
					require.NoError(t, lerr, what)
					require.Empty(t, stopped, "%s: %v", what, err)
					require.Equal(t, ends[0], w.print(), "%s: %v", what, err)
					require.NoError(t, s.begin(w)(), "%s: %v", what, err)
				}
				if is := w.print(); !slices.Contains(ends[1:], is) {
					// Of what is held without a copy, what could not be looked at is told, and not counted.
					require.Equal(t, withoutSizes(ends[1]), withoutSizes(is), what)
				}
				w.end()
			}
		})
	}
	t.Logf("%d cases", cases)
}

// Whatever call fails while redirects are looked at, all of them are told of, nothing changes, and
// nothing stays open.
func TestLookingFailsEverywhere(t *testing.T) {
	w := newWorld(t, lab.MemoryDrive(t, "MACHINE", 64))
	onBasalt(w)
	w.did(w.move("skerry/Logs", "dune/ines"))
	check := func() (codes map[string]string, err error) {
		once := w.AtOnce()
		reports, stopped, err := health.CheckAll(ctx, once, true, func(r ledger.Redirect) (*health.Report, error) {
			return health.Check(ctx, once, r)
		})
		codes = map[string]string{}
		for _, r := range append(reports, stopped...) {
			for _, f := range r.Findings {
				codes[r.Redirect.Name] += string(f.Severity) + ":" + string(f.Code) + " "
			}
		}
		return codes, err
	}
	var well, codes map[string]string
	var err error
	calls, _ := callsIn(0, nil, func() { well, err = check() })
	require.NoError(t, err)
	require.Equal(t, map[string]string{"charts": "info:held-waiting ", "logs": "info:held-waiting "}, well)
	before := w.print()
	said := 0
	for n := 1; n <= calls; n++ {
		for _, errno := range []syscall.Errno{syscall.EIO, syscall.EACCES, syscall.ENOENT} {
			nothing := staysOpen(t)
			_, failed := callsIn(n, errno, func() { codes, err = check() })
			what := fmt.Sprintf("call %d, %s fails with %v: %v", n, failed, errno, codes)
			require.NoError(t, err, what)
			require.Len(t, codes, 2, what)
			nothing(what)
			require.Equal(t, before, w.print(), what)
			if codes["charts"] != well["charts"] || codes["logs"] != well["logs"] {
				said++
			}
		}
	}
	require.Greater(t, said, 20, "what can't be seen is told")
}
