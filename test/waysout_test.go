//go:build linux

package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

// stand is a Nexlin with the stand-in drives of the stories.
type stand struct {
	*lab.Nexlin
	dir string
}

// onStandins makes the drives SKERRY, BASALT and DUNE, with folders on SKERRY.
func onStandins(t *testing.T, program string, tree lab.Tree) *stand {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for _, d := range []string{"skerry/home/ines", "basalt", "dune"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "drives.yaml"), []byte(drivesFile), 0o644))
	s := &stand{lab.New(t, program), dir}
	s.Home = filepath.Join(dir, "skerry/home/ines")
	tree.Make(t, s.Home)
	s.plain()
	return s
}

func (s *stand) plain() {
	s.Env = []string{"NEXLIN_STANDIN_DRIVES=" + filepath.Join(s.dir, "drives.yaml")}
}

// at is a path in the home.
func (s *stand) at(name string) string { return filepath.Join(s.Home, name) }

// stopped runs a command that is killed at a step.
func (s *stand) stopped(step string, args ...string) {
	s.T.Helper()
	s.Env = append(s.Env, "NEXLIN_FAULT=kill:"+step)
	s.Want(-1, args...)
	s.plain()
}

// A stopped run is seen, keeps others from the redirect, and can be ended in
// every way: finished, taken back, forgotten.
func TestStoppedRunIsSeenAndCanBeEnded(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Charts/coast: the coast"})
	kept := lab.Print(t, s.at("Charts"))
	move := []string{"move", s.at("Charts"), "--into", "BASALT:/ines", "--yes", "-q"}
	s.stopped("pass-1", move...)
	require.Contains(t, s.Want(4, "check"), "unfinished  charts")
	found := s.JSON("check")["findings"].([]any)
	require.Len(t, found, 1)
	require.Equal(t, "run-stopped", found[0].(map[string]any)["code"])
	require.Contains(t, s.Want(3, move...), "run-stopped")
	// Before the switch only the copy is to be taken back: neither the link's place
	// nor the folder is needed for that.
	require.NoError(t, os.Rename(s.at("Charts"), s.at("Elsewhere")))
	s.Want(0, "undo", "--yes")
	require.NoDirExists(t, filepath.Join(s.dir, "basalt", "ines"))
	require.NoError(t, os.Rename(s.at("Elsewhere"), s.at("Charts")))
	require.Equal(t, kept, lab.Print(t, s.at("Charts")))

	s.stopped("pass-1", move...)
	out := s.Want(0, "forget", "charts", "--yes")
	require.Contains(t, out, "unfinished copy")
	s.Want(0, "check")
	s.Want(3, "resume")
	require.Equal(t, kept, lab.Print(t, s.at("Charts")))
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "basalt", "ines")))

	// An undo that was killed leaves a run that can be finished either way.
	s.Want(0, move...)
	for _, way := range []string{"resume", "undo"} {
		s.stopped("undo-begun", "undo", s.LastRun(), "--yes")
		s.Want(4, "check")
		// Nothing else begins on it meanwhile.
		for _, other := range [][]string{{"detach", "charts"}, {"discard-original", "charts"},
			{"bring-back", "charts"}, {"mend", "charts"}} {
			require.Contains(t, s.Want(3, append(other, "--yes")...), "was stopped before its end", other)
		}
		s.Want(0, way, "--yes")
	}
	require.Equal(t, kept, lab.Print(t, s.at("Charts")))
	s.Want(0, "check")
}

// An undo that was killed anywhere can be gone on with either way: resume finishes the
// run again, whatever the undo had set aside, given back or removed by then, and the next
// undo takes all of it back.
func TestHalfUndoneRunIsResumed(t *testing.T) {
	for _, c := range []struct {
		name    string
		before  []string // a command before it
		run     []string
		stopped string // where it is killed; empty for one that is done
	}{
		{"move", nil, []string{"move", "Charts", "--into", "BASALT:/ines"}, ""},
		{"stopped move", nil, []string{"move", "Charts", "--into", "BASALT:/ines"}, "sealed"},
		{"bring-back", []string{"move", "Charts", "--into", "BASALT:/ines"}, []string{"bring-back", "charts"}, ""},
		{"bring-back that takes from the held original", []string{"move", "Charts", "--into", "BASALT:/ines"},
			[]string{"bring-back", "charts", "--use-held"}, ""},
		{"stopped bring-back that takes from it", []string{"move", "Charts", "--into", "BASALT:/ines"},
			[]string{"bring-back", "charts", "--use-held"}, "sealed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			for _, step := range []string{"set-aside.act", "give-back.act"} {
				halfUndone(t, program, c.before, c.run, c.stopped, "kill:"+step)
			}
			n := 20
			for halfUndone(t, program, c.before, c.run, c.stopped, fmt.Sprintf("call-kill:%d", n)) {
				n += everyNth(60)
			}
			require.Greater(t, n, 20, "no undo was killed")
		})
	}
}

// halfUndone kills an undo at a step or call and goes on from there; false if it ended
// before.
func halfUndone(t *testing.T, program string, before, run []string, stopped, fault string) bool {
	s := onStandins(t, program, lab.Tree{"Charts/coast: the coast", "Charts/deep/er: the deep", "Charts/deep/link => er",
		"Charts/deep/far/off: far off"})
	command := func(words []string) []string {
		words = append(slices.Clone(words), "--yes", "-q")
		if words[1] == "Charts" {
			words[1] = s.at("Charts")
		}
		return words
	}
	if before != nil {
		s.Want(0, command(before)...)
	}
	was := lab.Print(t, s.at("Charts")+"/")
	if stopped != "" {
		s.stopped(stopped, command(run)...)
	} else {
		s.Want(0, command(run)...)
	}
	id := s.LastRun()
	s.Env = append(s.Env, "NEXLIN_FAULT="+fault)
	_, killed := s.Exit("undo", id, "--yes", "-q")
	s.plain()
	if killed == 0 {
		return false
	}
	require.Equal(t, -1, killed)
	if out, code := s.Exit("resume", id, "--yes", "-q"); code != 0 {
		require.Equal(t, 3, code, "%s: %s", fault, out)
		require.Contains(t, out, "nothing to resume", fault) // it had not begun
	}
	require.Equal(t, was, lab.Print(t, s.at("Charts")+"/"), "resumed after %s", fault)
	s.Want(0, "undo", id, "--yes", "-q")
	require.Equal(t, was, lab.Print(t, s.at("Charts")+"/"), "taken back after %s", fault)
	s.Want(0, "check")
	return true
}

// A stopped run of several is about all its folders, also those that it has not come to.
func TestStoppedRunOfSeveralHoldsAllItsFolders(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Documents/letter: the letter", "Music/song: the song",
		`.config/user-dirs.dirs: XDG_DOCUMENTS_DIR="$HOME/Documents"` + "\n" + `XDG_MUSIC_DIR="$HOME/Music"`})
	var run string
	for n := 10; run == ""; n += 10 { // killed before it has come to the second of them
		s.Env = append(s.Env, fmt.Sprintf("NEXLIN_FAULT=call-kill:%d", n))
		s.Want(-1, "move", "--profile", "documents,music", "--into", "BASALT:/ines", "--yes", "-q")
		s.plain()
		rows := s.JSON("history")["runs"].([]any)
		require.LessOrEqual(t, len(rows), 2, "it has come to both")
		for _, r := range rows {
			if row := r.(map[string]any); row["kind"] == "move-together" {
				run = row["id"].(string)
			}
		}
	}
	for _, folder := range []string{"Documents", "Music"} {
		out := s.Want(3, "move", s.at(folder), "--into", "BASALT:/else", "--yes", "-q")
		require.Contains(t, out, "nexlin resume "+run, folder)
	}
	s.Want(0, "resume", "--yes", "-q")
	s.Want(0, "check")
	s.Want(0, "undo", run, "--yes", "-q")
	for file, is := range map[string]string{"Documents/letter": "the letter", "Music/song": "the song"} {
		b, err := os.ReadFile(s.at(file))
		require.NoError(t, err)
		require.Equal(t, is, string(b))
	}
}

// A discard that was stopped can be ended without the drive that held the
// original: what it deleted stays deleted, and nothing else stays blocked.
func TestStoppedDiscardIsEnded(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Charts/coast: the coast", "Charts/deep/er: the deep"})
	s.Want(0, "move", s.at("Charts"), "--into", "BASALT:/ines", "--yes", "-q")
	s.Want(0, "move", "charts", "--into", "DUNE:/ines", "--yes", "-q")
	s.stopped("erase.intent", "discard-original", "charts", "--yes", "-q")
	require.NoError(t, os.Rename(filepath.Join(s.dir, "basalt"), filepath.Join(s.dir, "thrown away")))
	require.Contains(t, s.Want(3, "bring-back", "charts", "--yes"), "was stopped before its end")
	s.Exit("resume", "--yes")
	require.Contains(t, s.Want(0, "undo", "--yes"), "what it had deleted stays deleted")
	s.Want(0, "bring-back", "charts", "--yes", "-q")
	b, err := os.ReadFile(s.at("Charts/deep/er"))
	require.NoError(t, err)
	require.Equal(t, "the deep", string(b))
}

// A discard that was stopped and needs a further consent by now can't be finished: resume
// ends it, so that it can be asked for anew and nothing stays blocked.
func TestStoppedDiscardWantsAnotherConsent(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Charts/coast: the coast", "Charts/deep/er: the deep"})
	s.Want(0, "move", s.at("Charts"), "--into", "BASALT:/ines", "--yes", "-q")
	s.stopped("erase.intent", "discard-original", "charts", "--yes", "-q")
	require.NoError(t, os.Remove(s.at("Charts/coast")))
	out := s.Want(3, "resume", "--yes")
	for _, says := range []string{"is ended", "--accept gone-at-target", "the rest is held as before",
		"nexlin discard-original charts   asks anew"} {
		require.Contains(t, out, says)
	}
	s.Want(0, "check")
	s.Want(3, "discard-original", "charts", "--yes")
	s.Want(0, "discard-original", "charts", "--yes", "--accept", "gone-at-target")
	s.Want(0, "check")
}

// A detach whose undo was stopped, and a program that made a folder of its own in
// the link's place meanwhile: undo refuses, resume leaves what is there.
func TestDetachEndsBesideSomethingNew(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Notes/monday: wind"})
	s.Want(0, "move", s.at("Notes"), "--into", s.dir+"/basalt/ines", "--yes", "-q")
	s.Want(0, "detach", "notes", "--yes", "-q")
	s.stopped("undo-begun", "undo", s.LastRun(), "--yes", "-q")
	lab.Tree{"Notes/own: own"}.Make(t, s.Home)
	before := lab.Print(t, s.at("Notes"))
	s.Want(3, "undo", "--yes", "-q")
	s.Want(0, "resume", "--yes", "-q")
	require.Equal(t, before, lab.Print(t, s.at("Notes")))
	require.Contains(t, s.Want(0, "check"), "detached  notes")
}

// Something else came to stand in the link's place while a run was stopped behind its
// switch, or the link was taken away: what check says leads on, and back.
func TestStoppedBesideSomethingNew(t *testing.T) {
	for _, way := range []string{"resume", "undo"} {
		for what, meanwhile := range map[string]func(s *stand){
			"a folder": func(s *stand) { lab.Tree{"Notes/own: own"}.Make(t, s.Home) },
			"a file":   func(s *stand) { lab.Tree{"Notes: own"}.Make(t, s.Home) },
			"nothing":  func(*stand) {},
		} {
			t.Run(way+" beside "+what, func(t *testing.T) {
				t.Parallel()
				s := onStandins(t, program, lab.Tree{"Notes/monday: wind"})
				before := lab.Print(t, s.at("Notes"))
				s.stopped("switch.act", "move", s.at("Notes"), "--into", s.dir+"/basalt/ines", "--yes", "-q")
				require.NoError(t, os.Remove(s.at("Notes")))
				meanwhile(s)
				if what != "nothing" {
					out := s.Want(3, way, "--yes", "-q")
					require.Contains(t, out, "something else stands at")
					said := s.JSON("check")["findings"].([]any)[0].(map[string]any)
					require.Equal(t, "run-stopped", said["code"])
					_, command := toType(said["remedy"].(string))
					require.Contains(t, out, command)
					lab.Run(t, "sh", "-c", command)
				}
				s.Want(0, way, "--yes", "-q")
				at := s.at("Notes")
				if way == "resume" {
					at = filepath.Join(s.dir, "basalt/ines/Notes")
				}
				require.Equal(t, before, lab.Print(t, at))
				lab.Run(t, "cmp", s.at("Notes/monday"), filepath.Join(at, "monday"))
			})
		}
	}
}

// What a stopped run left half done is told before what the link looks like, since
// nothing else can be done before: a bring-back that was killed behind its switch.
func TestStoppedRunComesFirst(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Notes/monday: wind"})
	s.Want(0, "move", s.at("Notes"), "--into", s.dir+"/basalt/ines", "--yes", "-q")
	s.stopped("place.act", "bring-back", "notes", "--yes", "-q")
	said := s.JSON("check")["findings"].([]any)
	require.Equal(t, "run-stopped", said[0].(map[string]any)["code"])
	_, command := toType(said[0].(map[string]any)["remedy"].(string))
	require.Contains(t, command, "nexlin resume")
	s.Want(0, "resume", "--yes", "-q")
	s.Want(0, "check")
}

// A stopped run whose drive is away says first that the drive is to be plugged in: one
// run, and several as one.
func TestStoppedOnADriveThatIsAway(t *testing.T) {
	for _, words := range []string{"NOTES", "--profile documents,music"} {
		s := onStandins(t, program, lab.Tree{"Notes/monday: wind", "Calls/owl: owl",
			".config/user-dirs.dirs: XDG_DOCUMENTS_DIR=\"$HOME/Notes\"\nXDG_MUSIC_DIR=\"$HOME/Calls\"\n"})
		// One that was moved before is in the list already, and tells of it there.
		s.Want(0, "move", s.at("Calls"), "--into", s.dir+"/dune/ines", "--yes", "-q")
		s.Want(0, "bring-back", "calls", "--yes", "-q")
		what := strings.Fields(strings.Replace(words, "NOTES", s.at("Notes"), 1))
		s.stopped("part.act", append(append([]string{"move"}, what...), "--into", s.dir+"/basalt/ines", "--yes", "-q")...)
		require.NoError(t, os.Rename(filepath.Join(s.dir, "basalt"), filepath.Join(s.dir, "away")))
		out := s.Want(4, "check")
		require.Regexp(t, `was stopped before its end; BASALT is not here`, out)
		require.NotRegexp(t, `was stopped before its end  \[`, out)
		require.Regexp(t, "→ plug in and mount BASALT.*; then .nexlin resume", out)
		s.Want(7, "resume", "--yes", "-q")
		require.NoError(t, os.Rename(filepath.Join(s.dir, "away"), filepath.Join(s.dir, "basalt")))
		require.NotContains(t, s.Want(4, "check"), "is not here")
		s.Want(0, "resume", "--yes", "-q")
	}
}

// Every kind of run that says it can be taken back can.
func TestEveryAdvertisedUndoWorks(t *testing.T) {
	t.Parallel()
	s := onStandins(t, program,
		lab.Tree{"Charts/coast: the coast", "Notes/monday: wind", "Videos/v: 1", "Pictures/p: 2",
			".config/user-dirs.dirs: XDG_VIDEOS_DIR=\"$HOME/Videos\"\nXDG_PICTURES_DIR=\"$HOME/Pictures\"\n"})
	world := func() (out string) {
		t.Helper()
		for _, d := range []string{"Charts", "Notes", "Videos", "Pictures"} {
			out += lab.Print(t, s.at(d))
		}
		settings, err := os.ReadFile(s.at(".config/user-dirs.dirs"))
		require.NoError(t, err)
		return out + string(settings)
	}
	start := world()
	undo := func() { t.Helper(); s.Want(0, "undo", s.LastRun(), "--yes", "-q") }
	for _, c := range []struct {
		name   string
		before [][]string
		args   []string
	}{
		{"move", nil, []string{"move", s.at("Charts"), "--into", "BASALT:/a"}},
		{"move that begins empty", nil, []string{"move", s.at("Charts"), "--into", "BASALT:/b", "--start-empty"}},
		{"several as one", nil, []string{"move", "--profile", "videos,pictures", "--into", "BASALT:/c"}},
		{"a location setting alone", nil, []string{"move", s.at("Videos"), "--into", "BASALT:/d", "--future-only"}},
		{"move on", [][]string{{"move", s.at("Charts"), "--into", "BASALT:/e"}},
			[]string{"move", s.at("Charts"), "--into", "DUNE:/e"}},
		{"bring-back", [][]string{{"move", s.at("Charts"), "--into", "BASALT:/f"}}, []string{"bring-back", "charts"}},
		{"detach", [][]string{{"move", s.at("Charts"), "--into", "BASALT:/g"}}, []string{"detach", "charts"}},
		{"mend", [][]string{{"move", s.at("Charts"), "--into", "BASALT:/h"}, {"detach", "charts"}},
			[]string{"mend", "charts", "--attach"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s.T = t
			for _, b := range c.before {
				s.Want(0, append(b, "--yes", "-q")...)
			}
			s.Want(0, append(c.args, "--yes", "-q")...)
			for more := true; more; {
				more = false
				for _, r := range s.JSON("history")["runs"].([]any) {
					if run := r.(map[string]any); run["state"] == "done" && run["kind"] != "discard-original" {
						s.Want(0, "undo", run["id"].(string), "--yes", "-q")
						more = true
						break
					}
				}
			}
			require.Equal(t, start, world())
			for _, n := range []string{"charts", "videos", "pictures"} {
				s.Exit("discard-original", n, "--yes", "-q", "--accept", "never-copied")
			}
		})
	}
	// A card whose steps run before and after it.
	s.T = t
	exe := program
	require.NoError(t, os.MkdirAll(s.at(".config/nexlin/cards"), 0o755))
	require.NoError(t, os.WriteFile(s.at(".config/nexlin/cards/gull.yaml"), []byte(fmt.Sprintf(`card: gull
about: a made-up program
family: application-data
folders:
  - linux: "{home}/Notes"
before:
  - run: [%q, list]
after:
  - run: [%q, list]
`, exe, exe)), 0o644))
	if out, code := s.Exit("card", "test", "gull"); code != 0 {
		t.Log(out)
	}
	s.Want(0, "move", "card:gull", "--into", "BASALT:/i", "--yes", "-q")
	undo()
	require.DirExists(t, s.at("Notes"))
	b, err := os.ReadFile(s.at("Notes/monday"))
	require.NoError(t, err)
	require.Equal(t, "wind", string(b))
}

// What is no file where the ledger, a lock or a settings file is, ends a command
// with a word, and does not keep it waiting.
func TestNothingHangsOnAFIFO(t *testing.T) {
	for name, harm := range map[string]func(t *testing.T, s *stand){
		"the ledger is a FIFO": func(t *testing.T, s *stand) { fifo(t, filepath.Join(s.State, "ledger.db")) },
		"the ledger is a directory": func(t *testing.T, s *stand) {
			require.NoError(t, os.Remove(filepath.Join(s.State, "ledger.db")))
			require.NoError(t, os.Mkdir(filepath.Join(s.State, "ledger.db"), 0o700))
		},
		"its journal is a FIFO": func(t *testing.T, s *stand) { fifo(t, filepath.Join(s.State, "ledger.db-journal")) },
		"a lock is a FIFO": func(t *testing.T,
			s *stand) {
			fifo(t, filepath.Join(s.State, "runs", s.LastRun(), "lock"))
		},
		"the settings are a FIFO": func(t *testing.T, s *stand) {
			fifo(t, s.at(".config/user-dirs.dirs"))
		},
		"a card is a FIFO": func(t *testing.T, s *stand) { fifo(t, s.at(".config/nexlin/cards/x.yaml")) },
		"a manifest is a FIFO": func(t *testing.T, s *stand) {
			fifo(t, filepath.Join(s.State, "runs", s.LastRun(), "frozen.mtree"))
		},
		"the held original is a FIFO": func(t *testing.T, s *stand) {
			held, err := filepath.Glob(s.at(".Charts.held-*"))
			require.NoError(t, err)
			require.Len(t, held, 1)
			require.NoError(t, os.Rename(held[0], s.at("away")))
			fifo(t, held[0])
		},
		"the target is a FIFO": func(t *testing.T, s *stand) {
			target := filepath.Join(s.dir, "basalt/ines/Charts")
			require.NoError(t, os.Rename(target, target+"-away"))
			fifo(t, target)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := onStandins(t, program, lab.Tree{"Charts/coast: the coast", "Notes/a: 1"})
			s.Want(0, "move", s.at("Charts"), "--into", "BASALT:/ines", "--yes", "-q")
			harm(t, s)
			for _, args := range [][]string{
				{"check"}, {"check", "--json"}, {"list"}, {"history"}, {"check", "--deep"},
				{"move", s.at("Notes"), "--into", "BASALT:/ines", "-n"}, {"card", "list"},
				{"discard-original", "charts", "--yes"}, {"undo", "none", "--yes"}, {"mend", "charts", "-n"},
				{"bring-back", "charts", "-n"},
			} {
				cmd := s.Cmd(args...)
				require.NoError(t, cmd.Start())
				hang := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Signal(syscall.SIGKILL) })
				err := cmd.Wait()
				require.True(t, hang.Stop(), "%v hangs: %v", args, err)
			}
			b, err := os.ReadFile(s.at("Notes/a"))
			require.NoError(t, err)
			require.Equal(t, "1", string(b))
		})
	}
}

func fifo(t *testing.T, path string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	_ = os.Remove(path) // there may be none
	require.NoError(t, unix.Mkfifo(path, 0o600))
}

// Without its ledger Nexlin says the ways out, and they work.
func TestLedgerLost(t *testing.T) {
	t.Parallel()
	for name, harm := range map[string]func(t *testing.T, file string){
		"empty": func(t *testing.T, file string) { require.NoError(t, os.Truncate(file, 0)) },
		"no file": func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, []byte("gone to the birds, all of it, since a byte went astray\n"),
				0o600))
		},
		"corrupt": func(t *testing.T, file string) {
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			for i := 100; i < len(b); i++ {
				b[i] ^= 0x5a
			}
			require.NoError(t, os.WriteFile(file, b, 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := onStandins(t, program, lab.Tree{"Charts/coast: the coast", "Notes/a: 1"})
			s.Want(0, "move", s.at("Charts"), s.at("Notes"), "--into", "BASALT:/ines", "--yes", "-q")
			harm(t, filepath.Join(s.State, "ledger.db"))
			var aside string
			for _, args := range [][]string{{"check"}, {"list"},
				{"move", s.at("Notes"), "--into", "BASALT:/x", "--yes"}} {
				out := s.Want(1, args...)
				require.Contains(t, out, "can't be read")
				for line := range strings.SplitSeq(out, "\n") {
					if cmd, ok := strings.CutPrefix(line, "nexlin: hint: mv "); ok {
						aside, _, _ = strings.Cut(cmd, "   ")
					}
				}
			}
			require.NotEmpty(t, aside)
			require.NoError(t, exec.Command("sh", "-c", "mv "+aside).Run())
			s.Want(0, "restore-links", "BASALT:/ines", "--yes")
			out := s.Want(0, "list", "--held")
			require.Contains(t, out, "charts")
			s.Want(0, "discard-original", "charts", "--yes")
			s.Want(0, "forget", "notes", "--yes")
			s.Want(0, "record", s.at("Notes"), "--yes")
			require.Contains(t, s.Want(0, "list", "--held"), "notes")
			s.Want(0, "bring-back", "notes", "--yes")
			s.Want(0, "check")
		})
	}
}

// The demo is the same whatever it is started in.
func TestDemoAnywhere(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	cmd := exec.Command("sh", "-c", `umask 077; cd / && exec "$0" demo --no-color --dir "$HOME/bay/kestrel"`, plain(t))
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "LC_ALL=tr_TR.UTF-8", "LANG=xx",
		"TMPDIR=" + t.TempDir(), "GORACE=" + os.Getenv("GORACE"), "LANGUAGE=tr"}
	for _, v := range []string{"XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME",
		"XDG_RUNTIME_DIR", "XDG_DOCUMENTS_DIR", "XDG_PICTURES_DIR", "NEXLIN_STATE_DIR", "NEXLIN_CONFIG"} {
		cmd.Env = append(cmd.Env, v+"="+filepath.Join(home, "elsewhere", v))
	}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "the scene is still in")
	left, err := os.ReadDir(filepath.Join(home, "elsewhere"))
	require.True(t, os.IsNotExist(err) || len(left) == 0, "the demo wrote to the person's own places: %v", left)
}

// A drive that is lazily unmounted while a run waits gets nothing at its bare
// mount point, and nobody says that what lies on it was deleted.
func TestUnmountedWhileWaiting(t *testing.T) {
	for _, c := range []struct {
		step string
		args func(folder, basalt string) []string
	}{
		{"parents.intent", func(folder,
			basalt string) []string {
			return []string{"move", folder, "--into", basalt + "/ines/deep"}
		}},
		{"tag.intent", func(folder,
			basalt string) []string {
			return []string{"move", folder, "--into", basalt + "/ines"}
		}},
		{"part.intent", func(folder,
			basalt string) []string {
			return []string{"move", folder, "--into", basalt + "/ines"}
		}},
		{"erase.intent", func(string, string) []string { return []string{"discard-original", "docs"} }},
	} {
		t.Run(c.step, func(t *testing.T) {
			t.Parallel()
			skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 16), lab.Drive(t, "ext4", "BASALT", 16)
			folder := filepath.Join(skerry, "docs")
			lab.Tree{"docs/a: 1", "other/b: 2"}.Make(t, skerry)
			before := lab.Print(t, folder)
			n := lab.New(t, program)
			pulled := basalt
			if c.step == "erase.intent" { // what is held lies on BASALT then
				n.Want(0, "move", folder, "--into", basalt, "--yes", "-q")
				n.Want(0, "bring-back", "docs", "--yes", "-q")
				n.Want(0, "discard-original", "docs", "--yes", "-q")
				n.Want(0, "move", folder, "--into", basalt, "--yes", "-q")
				n.Want(0, "bring-back", "docs", "--yes", "-q")
			}
			_, code := midway(t, n, c.step, func(*os.Process) { lab.Run(t, "umount", "-l", pulled) },
				append(c.args(folder, basalt), "--yes", "-q")...)
			require.Equal(t, 5, code)
			names, err := os.ReadDir(pulled)
			require.NoError(t, err)
			require.Empty(t, names, "something was made at the bare mount point")
			lab.Run(t, "mount", "-o", "loop", pulled+".img", pulled)
			n.Want(0, "resume", "--yes", "-q")
			require.NotContains(t, n.Want(0, "check"), "run-stopped")
			if c.step == "erase.intent" {
				held, err := filepath.Glob(filepath.Join(basalt, ".docs.held-*"))
				require.NoError(t, err)
				require.Empty(t, held)
				return
			}
			n.Want(0, "undo", n.LastRun(), "--yes", "-q")
			require.Equal(t, before, lab.Print(t, folder))
		})
	}
}

// A pack that was killed before its archive had its name, and whose resume was
// killed when the old part was gone and the new one not yet made, is not done.
func TestPackResumedTwice(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Charts/coast: the coast"})
	out := filepath.Join(s.dir, "basalt", "charts.tar.zst")
	s.stopped("place.intent", "pack", s.at("Charts"), "--output", out, "--yes", "-q")
	s.stopped("pack.intent", "resume", "--yes", "-q")
	require.NoFileExists(t, out)
	s.Want(0, "resume", "--yes", "-q")
	require.FileExists(t, out)
	s.Want(0, "unpack", out, "--into", filepath.Join(s.dir, "dune"), "--yes", "-q")
	require.NoError(t, os.Remove(out))
	s.stopped("place.act", "pack", s.at("Charts"), "--output", out, "--yes", "-q")
	require.Contains(t, s.Want(0, "resume", "--yes"), "sha256")
	require.NoError(t, os.Remove(out))
	s.stopped("place.act", "pack", s.at("Charts"), "--output", out, "--yes", "-q")
	require.Contains(t, s.Want(0, "undo", "--yes"), "it stays")
	require.FileExists(t, out)
}

// A redirect whose data came to lie on the link's own drive is mended like any other:
// that the two lie on one drive says something of a move alone.
func TestHalvesOnOneDriveAreMerged(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"Notes/a: a"}.Make(t, skerry)
	folder := filepath.Join(skerry, "Notes")
	n := lab.New(t, program)
	n.Want(0, "move", folder, "--into", basalt, "--yes", "-q")
	n.Want(0, "move", "notes", "--into", filepath.Join(skerry, "elsewhere"), "--yes", "-q")
	require.NoError(t, os.Remove(folder))
	lab.Tree{"Notes/b: b"}.Make(t, skerry)
	n.Want(0, "mend", "notes", "--yes", "-q")
	require.FileExists(t, filepath.Join(folder, "a"))
	require.FileExists(t, filepath.Join(folder, "b"))
}

// What a resumed run says of itself is true: it frees what it frees, what was proven before
// the stop counts as proven, and the numbers of before the stop are nobody's.
func TestResumedRunSaysWhatIsSo(t *testing.T) {
	s := onStandins(t, program, lab.Tree{"Charts/coast: " + strings.Repeat("x", 9000)})
	s.stopped("switch.intent", "move", s.at("Charts"), "--into", "BASALT:/ines", "--yes", "-q")
	said := s.Want(0, "resume", "--yes")
	require.Contains(t, said, "every file was read back before the run was stopped")
	require.Contains(t, said, "free before going on")
	require.Regexp(t, `frees 1[0-9] KiB on SKERRY`, said)
	require.NotContains(t, said, "copied    ")
}
