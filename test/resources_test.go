//go:build linux

package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// Whatever is read from a drive, an archive, a settings file, a card or a command's
// output, however large: a command answers in time, within 256 MiB of memory.
func TestHostileInputsExhaustNothing(t *testing.T) {
	const most = 256 << 10 // KiB
	// huge is a file of a gibibyte that takes no room.
	huge := func(s *stand, path string) {
		require.NoError(s.T, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(s.T, errors.Join(os.WriteFile(path, nil, 0o644), os.Truncate(path, 1<<30)))
	}
	card := func(s *stand, text string) {
		lab.Tree{".config/nexlin/cards/roost.yaml: " + text}.Make(s.T, s.Home)
		s.Env = append(s.Env, "XDG_CONFIG_HOME="+s.at(".config"))
	}
	const roost = "card: roost\nabout: Roosts.\nfamily: sync\nfolders:\n  - linux: \"{home}/Notes\"\n"
	moved := func(s *stand) {
		s.Want(0, "move", s.at("Notes"), "--into", s.dir+"/basalt/ines", "--yes", "-q")
	}
	for name, c := range map[string]struct {
		set  func(*stand)
		args []string
		code int
	}{
		"a command that talks without end": {func(s *stand) {
			card(s, roost+"facts:\n  - name: talk\n    command: {run: [yes], within: 3s}\n")
		}, []string{"move", "card:roost", "--into", "BASALT/ines", "--yes"}, 5},
		"a step that talks without end": {func(s *stand) {
			card(s, roost+"before:\n  - run: [yes]\n    within: 3s\n")
		}, []string{"move", "card:roost", "--into", "BASALT/ines", "--yes"}, 3},
		"a settings file": {func(s *stand) {
			card(s, roost+"settings:\n  - {file: \"{home}/set.json\", format: json, at: /folder}\n")
			huge(s, s.at("set.json"))
		}, []string{"move", "card:roost", "--into", "BASALT/ines", "--yes"}, 3},
		"a card": {func(s *stand) { card(s, ""); huge(s, s.at(".config/nexlin/cards/roost.yaml")) },
			[]string{"card", "list"}, 2},
		"a card, nested": {func(s *stand) { card(s, "card: "+strings.Repeat("[", 1<<20)) },
			[]string{"card", "list"}, 2},
		"places of profiles": {func(s *stand) { huge(s, s.at(".config/user-dirs.dirs")) },
			[]string{"move", "--profile", "documents", "--into", "BASALT/ines", "--yes"}, 3},
		"a target note": {func(s *stand) { moved(s); huge(s, s.dir+"/basalt/ines/.nexlin/notes.json") },
			[]string{"check"}, 4},
		"a note to restore": {func(s *stand) { huge(s, s.dir+"/basalt/ines/.nexlin/notes.json") },
			[]string{"restore-links", "BASALT/ines", "--yes"}, 0},
		"a manifest": {func(s *stand) {
			moved(s)
			s.Want(0, "forget", "notes", "--yes")
			huge(s, s.dir+"/basalt/ines/.nexlin/notes.mtree")
		}, []string{"restore-links", "BASALT/ines", "--yes"}, 3},
		// the file system's UUID says the same
		"a drive tag": {func(s *stand) { moved(s); huge(s, s.dir+"/basalt/.nexlin/drive.json") },
			[]string{"check"}, 0},
		"a file of stand-ins": {func(s *stand) { huge(s, s.dir+"/drives.yaml") }, []string{"drives"}, 2},
		"zeros for an archive": {func(s *stand) { compressed(s.T, s.at("a.tar.zst"), 0) },
			[]string{"unpack", "HOME/a.tar.zst", "--into", "HOME/new", "--yes"}, 3},
		"text for an archive": {func(s *stand) { compressed(s.T, s.at("a.tar.zst"), 'a') },
			[]string{"unpack", "HOME/a.tar.zst", "--into", "HOME/new", "--yes"}, 3},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := onStandins(t, program, lab.Tree{"Notes/a: a", "Notes/b: b"})
			c.set(s)
			before := lab.Print(t, s.at("Notes"))
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := s.Cmd(append(s.fill(c.args), "-q")...)
			bounded := exec.CommandContext(ctx, cmd.Path, cmd.Args[1:]...)
			bounded.Env, bounded.Dir = append(cmd.Env, "GOGC=100"), cmd.Dir // as it is run by people
			var out bytes.Buffer
			bounded.Stdout, bounded.Stderr = &out, &out
			require.NoError(t, bounded.Start())
			peak := peakOf(bounded.Process.Pid)
			_ = bounded.Wait() // how it ended is asked below
			require.NoError(t, ctx.Err(), "it takes for ever")
			require.Equal(t, c.code, bounded.ProcessState.ExitCode(), "%.2000s", out.String())
			require.Less(t, out.Len(), 1<<16)
			require.Less(t, <-peak, most)
			require.Equal(t, before, lab.Print(t, s.at("Notes")))
		})
	}
}

// peakOf gives the most memory that a process has taken, in KiB, once it has ended
// (proc_pid_status(5)): what its parent counts of it begins with the parent's own.
func peakOf(pid int) chan int {
	out := make(chan int, 1)
	go func() {
		peak := 0
		for {
			b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, rest, is := strings.Cut(string(b), "VmHWM:")
			if err != nil || !is { // it has ended, or waits to be asked for
				out <- peak
				return
			}
			if _, err := fmt.Sscan(rest, &peak); err != nil {
				peak = 1 << 30
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	return out
}

// compressed writes four gibibytes of one byte, which take half a mebibyte.
func compressed(t testing.TB, path string, of byte) {
	w, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	frame := w.EncodeAll(bytes.Repeat([]byte{of}, 64<<20), nil)
	require.NoError(t, os.WriteFile(path, bytes.Repeat(frame, 64), 0o644)) // frames follow each other (RFC 8878)
}
