//go:build linux

package test

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// everyNth is how many of the cases of a matrix are left out in the suite;
// NEXLIN_MATRIX=all runs all of them.
func everyNth(n int) int {
	if os.Getenv("NEXLIN_MATRIX") == "all" {
		return 1
	}
	return n
}

var errnos = []string{"EIO", "ENOSPC", "EROFS", "EACCES", "EMFILE", "EDQUOT"}

// cannot is how Nexlin says that a drive is not able to keep something.
var cannot = regexp.MustCompile(
	`\[[a-z-]*(not-kept|not-fit|split|rounded|filled|collide|too-large|exposed|special-files)[a-z-]*\]`)

// Whatever system call fails, and however, the inspection and the trial of
// the target's abilities included: the folder stays whole, the command ends
// cleanly or stops so that it can be finished or taken back, and nothing is
// called done, or impossible for the drive, that is not.
func TestErrorMatrix(t *testing.T) {
	drives := memoryDrives(t)
	for k, s := range crashStories() {
		if s.name == "update-manifest" {
			continue // a check tells what fails as a finding, and goes on
		}
		t.Run(s.name, func(t *testing.T) {
			seen, cases := map[string]int{}, 0
			for _, call := range newCrashBed(t, program, drives).points(s, "calls", "call") {
				seen[call]++
			}
			for j, call := range slices.Sorted(maps.Keys(seen)) {
				nth := everyNth(44)
				if k == 0 {
					nth = everyNth(4)
				}
				if (j+k)%nth != 0 {
					continue // a few calls, in turn: all of them fail in process
				}
				last := seen[call]
				for i, at := range sample(last, everyNth(1700)) {
					errno := errnos[(i+len(call))%len(errnos)]
					for _, on := range []string{"", "+"} {
						if on == "+" && i%3 != 0 {
							continue
						}
						cases++
						fault := fmt.Sprintf("call:%s:%d%s:%s", call, at, on, errno)
						t.Run(fault, func(t *testing.T) {
							t.Parallel()
							newCrashBed(t, program, drives).fails(t, s, fault, i%2 == 0)
						})
					}
				}
			}
			steps := newCrashBed(t, program, drives).points(s, "list", "step")
			slices.Sort(steps)
			for i, step := range slices.Compact(steps) {
				if i%everyNth(34) != 0 {
					continue
				}
				cases++
				t.Run("error at "+step, func(t *testing.T) {
					t.Parallel()
					newCrashBed(t, program, drives).fails(t, s, "error:"+step, i%2 == 0)
				})
			}
			t.Logf("%d cases", cases)
		})
	}
}

// sample picks numbers from 1 to last: the first, the last, and every n-th.
func sample(last, n int) (out []int) {
	for at := 1; at < last; at += n {
		out = append(out, at)
	}
	return append(out, last)
}

// fails runs the command of a story with a fault and sees how it ends.
func (b *crashBed) fails(t *testing.T, s crashStory, fault string, resume bool) {
	before := b.set(s).world(t)
	out, code := b.faulted(s, fault)
	b.wholeMidway(t, s)
	require.NotContains(t, out, "internal error")
	require.False(t, cannot.MatchString(out), out)
	if b.unfinished() {
		require.Contains(t, []int{5, 6}, code, out)
		run := b.LastRun()
		require.Contains(t, out, "nexlin resume "+run)
		way := "resume"
		if !resume && s.start != nil {
			require.Contains(t, out, "nexlin undo "+run)
			way = "undo"
		}
		b.recovered(t, s, way, run)
		return
	}
	if code == 0 {
		if strings.Contains(fault, "utimensat") && strings.HasSuffix(fault, "EACCES") {
			b.wholeMidway(t, s) // times that this account may not set stay as they are
		} else {
			b.whole(t, s)
		}
		s.end(t, b)
		b.noLitter(t)
		return
	}
	require.Contains(t, []int{1, 3, 6, 7}, code, out)
	// What could not be removed again because removing failed stays, and is
	// named; so do times that could not be put back.
	if !strings.Contains(fault, "unlinkat") && !strings.Contains(fault, "rmdir") &&
		!strings.Contains(fault, "utimensat") {
		require.Empty(t, lab.Changes(before, b.world(t)), out)
	}
	b.startedOrEnded(t, s)
}
