//go:build faults && linux

package jobs

import (
	"fmt"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

// Whatever call fails while redirects are looked at, all of them are told of, nothing changes, and
// nothing stays open.
func TestLookingFailsEverywhere(t *testing.T) {
	w := newWorld(t, lab.MemoryDrive(t, "MACHINE", 64))
	onBasalt(w)
	w.did(w.move("skerry/Logs", "dune/ines"))
	check := func() (codes map[string]string, err error) {
		once := w.AtOnce()
		reports, stopped, err := health.CheckAll(ctx, once, 1, func(r ledger.Redirect) (*health.Report, error) {
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
	var calls atomic.Int64
	handle.OnCall = func(string) error { calls.Add(1); return nil }
	well, err := check()
	handle.OnCall = nil
	require.NoError(t, err)
	require.Equal(t, map[string]string{"charts": "info:held-waiting ", "logs": "info:held-waiting "}, well)
	before := w.print()
	said := 0
	for n := range int(calls.Load()) {
		for _, errno := range []syscall.Errno{syscall.EIO, syscall.EACCES, syscall.ENOENT} {
			var seen atomic.Int64
			var failed string
			handle.OnCall = func(name string) error {
				if int(seen.Add(1)) == n+1 {
					failed = name
					return errno
				}
				return nil
			}
			open := openFiles(t)
			codes, err := check()
			handle.OnCall = nil
			what := fmt.Sprintf("call %d, %s fails with %v: %v", n+1, failed, errno, codes)
			require.NoError(t, err, what)
			require.Len(t, codes, 2, what)
			require.Equal(t, open, openFiles(t), what)
			require.Equal(t, before, w.print(), what)
			if codes["charts"] != well["charts"] || codes["logs"] != well["logs"] {
				said++
			}
		}
	}
	require.Greater(t, said, 20, "what can't be seen is told")
}
