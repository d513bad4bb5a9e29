//go:build linux

package test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// led gives a command and does what each refusal says, word for word, until the
// command is done: what stands in backticks is a command, or an option of the one
// that was refused. It gives the codes it met, and as stuck what can't be followed,
// or comes a second time.
func led(n *lab.Nexlin, args ...string) (met []string, stuck string) {
	n.T.Helper()
	for range 10 {
		doc, code := n.Document(append(slices.Clone(args), "--yes")...)
		if code == 0 {
			return met, ""
		}
		said := map[string]string{}
		blockers(doc, said)
		if failed, _ := doc["error"].(map[string]any); len(said) == 0 {
			said[failed["code"].(string)] = failed["next"].(string)
		}
		for code, remedy := range said {
			if slices.Contains(met, code) {
				return met, code
			}
			met = append(met, code)
			before, way := toType(remedy)
			option, value, _ := strings.Cut(way, " ")
			switch {
			case way == "":
				return met, code
			case strings.HasSuffix(before, "without "):
				args = slices.DeleteFunc(args, func(s string) bool { return s == way })
			case strings.HasPrefix(way, "nexlin "):
				if out, code := n.Exit(append(strings.Fields(way)[1:], "--yes", "-q")...); code != 0 {
					return met, way + ": " + out
				}
			case option == "--as" || option == "--name":
				args = append(args, option, "another")
			case strings.HasPrefix(option, "--") && value == "":
				args = append(args, option)
			case strings.HasPrefix(option, "--"):
				args = append(args, option, value)
			default:
				out, err := exec.Command("sh", "-c", way).CombinedOutput()
				require.NoError(n.T, err, "%s: %s", way, out)
			}
		}
	}
	return met, "it has no end"
}

// toType is what a remedy says to type, and what stands before it.
func toType(remedy string) (before, way string) {
	before, rest, _ := strings.Cut(remedy, "`")
	way, _, _ = strings.Cut(rest, "`")
	return before, way
}

// blockers gathers what the findings in a document say that is to be done, by code.
func blockers(in any, said map[string]string) {
	switch x := in.(type) {
	case map[string]any:
		if x["severity"] == "blocker" {
			said[x["code"].(string)] = x["remedy"].(string)
		}
		for _, v := range x {
			blockers(v, said)
		}
	case []any:
		for _, v := range x {
			blockers(v, said)
		}
	}
}

// Whoever does what a refusal says gets to what he wanted.
func TestRefusalsSayTheWay(t *testing.T) {
	t.Parallel()
	moved := func(s *stand, options ...string) {
		s.Want(0, append([]string{"move", s.at("Notes"), "--into", s.dir + "/basalt/ines", "--yes", "-q"},
			options...)...)
	}
	move := []string{"move", "HOME/Notes", "--into", "BASALT/ines"}
	for name, c := range map[string]struct {
		set  func(*stand)
		args []string
		met  []string
	}{
		"another folder stands at the target": {func(s *stand) {
			lab.Tree{"basalt/ines/Notes/x: x"}.Make(s.T,
				s.dir)
		}, move, []string{"target-taken"}},
		"another redirect has the name": {func(s *stand) { moved(s) },
			[]string{"move", "HOME/Calls", "--into", "BASALT/ines", "--name", "notes"}, []string{"name-taken"}},
		"hard links lead out, and the target is taken": {func(s *stand) {
			require.NoError(s.T, os.Link(s.at("Notes/a"), s.at("another name")))
			lab.Tree{"basalt/ines/Notes/x: x"}.Make(s.T, s.dir)
		}, move, []string{"hard-links-lead-out", "target-taken"}},
		"both have it": {func(s *stand) { lab.Tree{"basalt/ines/Notes/a: theirs"}.Make(s.T, s.dir) },
			append(slices.Clone(move), "--merge"), []string{"both-have-it"}},
		"memory": {func(*stand) {}, []string{"move", "HOME/Notes", "--into", "MEMORY/ines"},
			[]string{"target-in-memory"}},
		"no setting": {func(*stand) {}, append(slices.Clone(move), "--by", "setting"),
			[]string{"no-location-setting"}},
		"a stopped run": {func(s *stand) {
			moved(s)
			s.stopped("erase.intent", "discard-original", "notes",
				"--yes")
		}, []string{"bring-back", "notes"}, []string{"run-stopped"}},
		"never copied": {func(s *stand) { moved(s, "--start-empty") }, []string{"discard-original", "notes"},
			[]string{"never-copied"}},
		"nothing is held": {func(s *stand) { moved(s); s.Want(0, "discard-original", "notes", "--yes") },
			[]string{"bring-back", "notes", "--use-held"}, []string{"held-not-usable"}},
		"people's changes": {func(s *stand) {
			moved(s)
			require.NoError(s.T, errors.Join(os.WriteFile(s.at("Notes/a"), []byte("new"), 0o644),
				os.Remove(s.at("Notes/b"))))
		}, []string{"discard-original", "notes"}, []string{"changed-since", "gone-at-target"}},
		"other rights": {func(s *stand) {
			require.NoError(s.T, os.MkdirAll(s.dir+"/basalt/ines", 0o755))
			lab.Run(s.T, "cp", "-a", s.at("Notes"), s.dir+"/basalt/ines/Notes")
			require.NoError(s.T, os.Chmod(s.dir+"/basalt/ines/Notes/a", 0o600))
			require.NoError(s.T, os.Rename(s.at("Notes"), s.at("Notes.old")))
			require.NoError(s.T, os.Symlink(s.dir+"/basalt/ines/Notes", s.at("Notes")))
		}, []string{"record", "HOME/Notes", "--original", "HOME/Notes.old"}, []string{"metadata-differs"}},
		"outside the home": {func(s *stand) {
			lab.Tree{"skerry/shared/Charts/a: a"}.Make(s.T, s.dir)
			s.Want(0, "move", s.dir+"/skerry/shared/Charts", "--into", s.dir+"/basalt/ines", "--yes", "-q")
			s.Want(0, "forget", "charts", "--yes")
			require.NoError(s.T, os.Remove(s.dir+"/skerry/shared/Charts"))
		}, []string{"restore-links", "BASALT/ines"}, []string{"outside-home"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := onStandins(t, program, lab.Tree{"Notes/a: a", "Notes/b: b", "Calls/a: calls"})
			c.set(s)
			met, stuck := led(s.Nexlin, s.fill(c.args)...)
			require.Empty(t, stuck)
			require.ElementsMatch(t, c.met, met)
			s.Want(0, "check")
		})
	}
}

// fill puts the places of this machine into a command.
func (s *stand) fill(args []string) (out []string) {
	memory := ""
	for _, a := range args {
		if strings.HasPrefix(a, "MEMORY") && memory == "" {
			memory = lab.MemoryDrive(s.T, "TERN", 8)
		}
		out = append(out, strings.NewReplacer("HOME", s.Home, "BASALT", filepath.Join(s.dir, "basalt"), "MEMORY",
			memory).Replace(a))
	}
	return out
}
