//go:build linux

package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/standin"
	"nexlin/test/lab"
)

// nests is a home with an engine and its nests, on drives of its own.
type nests struct {
	*crashBed
	config, old, fresh, content string
}

func newNests(t *testing.T, drives [3]string, program string) *nests {
	b := newCrashBed(t, program, drives)
	b.Home = b.skerry
	require.NoError(t, (&standin.Brooder{Home: b.Home}).Furnish(time.Date(2026, 5, 3, 4, 0, 0, 0, time.UTC)))
	n := &nests{crashBed: b, config: filepath.Join(b.skerry, "config"), old: filepath.Join(b.skerry, "Brooder",
		"kestrel-calls"), fresh: filepath.Join(b.basalt, "ines", "kestrel-calls")}
	require.NoError(t, os.MkdirAll(filepath.Join(n.config, "cards"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(n.config, "cards", "brooder.yaml"),
		[]byte(standin.Card("brooder", program)), 0o644))
	n.content = n.files(t, n.old)
	return n
}

// files prints the content of a nest: an engine keeps times and names.
func (n *nests) files(t *testing.T, dir string) string {
	t.Helper()
	return dirTime.ReplaceAllString(lab.Print(t, dir), "$1")
}

func (n *nests) at(t *testing.T) (place string) {
	t.Helper()
	for _, line := range strings.Split(n.Want(0, "standin", "brooder", "list"), "\n") {
		if w := strings.Split(line, "\t"); len(w) == 3 && w[0] == "kestrel-calls" {
			place = w[2]
		}
	}
	return place
}

func (n *nests) move() []string {
	return []string{"--config", n.config, "move", "card:brooder", "--store", "kestrel-calls", "--into",
		n.basalt + "/ines", "--yes", "-q", "--accept", "target-in-memory"}
}

func (n *nests) back() []string {
	return []string{"--config", n.config, "bring-back", "kestrel-calls", "--yes", "-q", "--accept", "target-in-memory"}
}

// is wants the engine to have the nest at a place, whole, with its facts.
func (n *nests) is(t *testing.T, place string) {
	t.Helper()
	require.Equal(t, place, n.at(t))
	require.Equal(t, n.content, n.files(t, place))
	require.Equal(t, "16\n", n.Want(0, "standin", "brooder", "limit", "kestrel-calls"))
	require.Contains(t, n.Want(0, "standin", "brooder", "order"), "kestrel-calls kestrel-calls-2025 brooder-own")
}

// archives lists those that are held in a directory.
func archives(t *testing.T, dir string) []string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, ".*.archive"))
	require.NoError(t, err)
	return found
}

// Killed at every step, a handover is finished by resume or taken back by
// undo, and the store is never lost.
func TestHandoverKilledAtEveryStep(t *testing.T) {
	drives := memoryDrives(t)
	first := newNests(t, drives, program)
	listed := func(args []string) (steps []string) {
		first.Env = []string{"NEXLIN_FAULT=list"}
		out := first.Want(0, args...)
		first.Env = nil
		for line := range strings.Lines(out) {
			if name, ok := strings.CutPrefix(line, "step "); ok {
				steps = append(steps, strings.TrimSpace(name))
			}
		}
		slices.Sort(steps)
		return slices.Compact(steps)
	}
	there := listed(first.move())
	first.is(t, first.fresh)
	home := listed(first.back())
	first.is(t, first.old)
	// Both drives have their tags now; the cases go side by side. What came back may be handed over again.
	first.Want(0, first.move()...)
	first.is(t, first.fresh)
	require.Greater(t, len(there), 15)
	require.Greater(t, len(home), 15)
	killed := func(step, way string, goesHome bool) {
		t.Run(fmt.Sprint(step, " ", way, " home ", goesHome), func(t *testing.T) {
			t.Parallel()
			n := newNests(t, drives, program)
			args, from, to := n.move(), n.old, n.fresh
			if goesHome {
				n.Want(0, args...)
				args, from, to = n.back(), n.fresh, n.old
			}
			n.Env = []string{"NEXLIN_FAULT=kill:" + step}
			out, code := n.Exit(args...)
			require.Equal(t, -1, code, out)
			n.Env = nil
			if !n.unfinished() {
				return
			}
			n.Want(0, "--config", n.config, way, "--yes", "-q")
			if way == "undo" {
				to = from
			}
			n.is(t, to)
			if to == n.fresh {
				n.Want(0, n.back()...)
			}
			n.is(t, n.old)
			require.False(t, n.unfinished())
			n.noLitter(t)
		})
	}
	for i, step := range there { // the others are gone through in process
		if i%everyNth(3) == 0 {
			killed(step, []string{"resume", "undo"}[i%2], false)
		}
	}
	for i, step := range home {
		if i%everyNth(4) == 1 {
			killed(step, []string{"undo", "resume"}[i%2], true)
		}
	}
}

// What engines do to people who move their stores.
func TestHandoverTraps(t *testing.T) {
	t.Parallel()
	drives := memoryDrives(t)
	t.Run("carrying in fails: it is carried in again at its old place", func(t *testing.T) {
		n := newNests(t, drives, program)
		require.NoError(t, os.MkdirAll(filepath.Dir(n.fresh), 0o755))
		require.NoError(t, os.WriteFile(n.fresh+".full", nil, 0o600))
		out, code := n.Exit(n.move()...)
		require.Equal(t, 1, code, out)
		require.Contains(t, out, "was taken back")
		n.is(t, n.old)
	})
	t.Run("a file stays locked: the run stops, and can go on after a restart", func(t *testing.T) {
		n := newNests(t, drives, program)
		require.NoError(t, os.WriteFile(n.old+".lock", nil, 0o600))
		out, code := n.Exit(n.move()...)
		require.Equal(t, 5, code, out)
		require.Contains(t, out, "stays locked")
		require.Contains(t, out, "--after-restart")
		require.Equal(t, n.old, n.at(t))
		require.NoError(t, os.Remove(n.old+".lock"))
		n.Want(0, "--config", n.config, "resume", "--yes", "-q")
		n.is(t, n.fresh)
	})
	t.Run("the archive is cut short: nothing is signed off", func(t *testing.T) {
		n := newNests(t, drives, program)
		short := filepath.Join(n.config, "short.sh")
		require.NoError(t, os.WriteFile(short, []byte("#!/bin/sh\n\""+program+"\" standin brooder carry-out \"$1\" "+
			"\"$2\" && truncate -s 30000 \"$2\"\n"), 0o755))
		card := strings.Replace(standin.Card("brooder", program), "["+program+", standin, brooder, carry-out,",
			"["+short+",", 1)
		require.NoError(t, os.WriteFile(filepath.Join(n.config, "cards", "brooder.yaml"), []byte(card), 0o644))
		out, code := n.Exit(n.move()...)
		require.Equal(t, 5, code, out)
		require.Contains(t, out, "archive is damaged")
		n.is(t, n.old)
		n.Want(0, "--config", n.config, "undo", "--yes", "-q")
		n.is(t, n.old)
		n.noLitter(t)
	})
	// scripted replaces one of the engine's steps by a script that may call it as
	// "$0" "$@", with what the script does around it.
	scripted := func(t *testing.T, n *nests, step, script string) {
		file := filepath.Join(n.config, step+".sh")
		require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\nengine() { \""+program+"\" standin brooder "+step+
			" \"$@\"; }\nset -e\n"+script+"\n"), 0o755))
		at := filepath.Join(n.config, "cards", "brooder.yaml")
		card, err := os.ReadFile(at)
		require.NoError(t, err)
		changed := strings.Replace(string(card), "["+program+", standin, brooder, "+step+",", "["+file+",", 1)
		require.NotEqual(t, string(card), changed)
		require.NoError(t, os.WriteFile(at, []byte(changed), 0o644))
	}
	t.Run("the engine deletes all that lies around a store: the archive is not there", func(t *testing.T) {
		n := newNests(t, drives, program)
		n.Want(0, n.move()...)
		scripted(t, n, "sign-off", `engine "$@"; rm -rf "`+filepath.Dir(n.old)+`"/.*archive*`)
		n.Want(0, n.back()...)
		n.is(t, n.old)
		require.Empty(t, archives(t, filepath.Dir(n.old)))
		require.Len(t, archives(t, filepath.Dir(n.fresh)), 2, "both are held where a person wanted the store")
		require.Contains(t, n.Want(3, "--config", n.config, "move", "card:brooder", "--store", "kestrel-calls",
			"--into", filepath.Join(filepath.Dir(n.old), "deeper"), "--yes", "-q"), "[target-inside-folder]")
		n.is(t, n.old)
	})
	t.Run("no room for an archive where it leaves: it lies in the home", func(t *testing.T) {
		n := newNests(t, [3]string{drives[0], lab.MemoryDrive(t, "BASALT", 2), drives[2]}, program)
		n.Want(0, n.move()...)
		n.Want(0, "--config", n.config, "discard-original", "kestrel-calls", "--yes", "-q")
		fill := filepath.Join(n.basalt, "fill")
		_ = exec.Command("dd", "if=/dev/zero", "of="+fill, "bs=64k").Run() // it stops when the drive is full
		n.Env = []string{"NEXLIN_FAULT=kill:sign-off.act"}
		n.Exit(n.back()...)
		n.Env = nil
		require.Empty(t, n.at(t), "the engine has let go of it")
		n.Want(0, "--config", n.config, "resume", "--yes", "-q")
		n.is(t, n.old)
		require.Len(t, archives(t, n.Home), 1)
		n.Want(0, "--config", n.config, "discard-original", "kestrel-calls", "--yes", "-q")
		require.Empty(t, archives(t, n.Home))
	})
	t.Run("jobs are written after a sign-off that failed: they are carried out, too", func(t *testing.T) {
		n := newNests(t, drives, program)
		scripted(t, n, "sign-off", `if [ ! -e "`+n.config+`/failed" ]; then touch "`+n.config+
			`/failed"; exit 1; fi; engine "$@"`)
		out, code := n.Exit(n.move()...)
		require.Equal(t, 5, code, out)
		require.NoError(t, os.WriteFile(filepath.Join(n.old, "job-00", "late.bin"), []byte("late"), 0o644))
		require.NoError(t, os.RemoveAll(filepath.Join(n.old, "job-05")))
		require.NoError(t, os.WriteFile(filepath.Join(n.old, "job-01", "result.bin"), []byte("anew"), 0o644))
		n.content = n.files(t, n.old)
		n.Want(0, "--config", n.config, "resume", "--yes", "-q")
		n.is(t, n.fresh)
		n.Want(0, "--config", n.config, "discard-original", "kestrel-calls", "--yes")
	})
	t.Run("an archive as large as the store, and not it: nothing is signed off", func(t *testing.T) {
		n := newNests(t, drives, program)
		scripted(t, n, "carry-out",
			`head -c 400000 /dev/zero >"$2.zeros"; tar -cf "$2" -C / "${2#/}.zeros"; rm "$2.zeros"`)
		out, code := n.Exit(n.move()...)
		require.Equal(t, 5, code, out)
		require.Contains(t, out, "does not have it as the store has it")
		n.is(t, n.old)
		n.Want(0, "--config", n.config, "undo", "--yes", "-q")
		n.is(t, n.old)
		n.noLitter(t)
	})
	t.Run("a part is carried in: all of it comes back to its old place", func(t *testing.T) {
		n := newNests(t, drives, program)
		scripted(t, n, "carry-in", `engine "$@"; case "$3" in *basalt*|*BASALT*) rm -r "$3/job-03";; esac`)
		out, code := n.Exit(n.move()...)
		require.Equal(t, 1, code, out)
		require.Contains(t, out, "was taken back")
		require.Contains(t, out, "has not carried kestrel-calls in whole")
		n.is(t, n.old)
	})
	t.Run("not at rest, a near name, and its own", func(t *testing.T) {
		n := newNests(t, drives, program)
		n.Want(0, "standin", "brooder", "hatch", "kestrel-calls")
		out, code := n.Exit(n.move()...)
		require.Equal(t, 6, code, out)
		require.Contains(t, out, "is hatching")
		for name, says := range map[string]string{"kestrel-cals": "did you mean kestrel-calls",
			"brooder-own": "must stay"} {
			args := slices.Clone(n.move())
			args[slices.Index(args, "kestrel-calls")] = name
			out, code := n.Exit(args...)
			require.Equal(t, 3, code, out)
			require.Contains(t, out, says)
		}
		out, code = n.Exit("--config", n.config, "move", n.old, "--into", n.basalt+"/ines", "--yes", "--accept",
			"target-in-memory")
		require.Equal(t, 3, code, out)
		require.Contains(t, out, "must-stay")
	})
	t.Run("moved by hand, the engine loses it, and check says so", func(t *testing.T) {
		n := newNests(t, drives, program)
		n.Want(0, n.move()...)
		n.Want(0, "--config", n.config, "check")
		require.NoError(t, os.Rename(n.fresh, n.fresh+"-elsewhere"))
		out, code := n.Exit("--config", n.config, "check")
		require.Equal(t, 4, code, out)
		require.Contains(t, out, "target-missing")
		require.NoError(t, os.Rename(n.fresh+"-elsewhere", n.fresh))
		n.Want(0, "standin", "brooder", "sign-off", "kestrel-calls")
		out, code = n.Exit("--config", n.config, "check")
		require.Equal(t, 4, code, out)
		require.Contains(t, out, "does not list kestrel-calls any more")
	})
}
