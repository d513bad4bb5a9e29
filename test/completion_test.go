//go:build linux

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// The shells' own completion completes names, runs' redirects, drives, cards, codes, and leaves
// paths to the shell.
func TestCompletion(t *testing.T) {
	for shell, start := range map[string][]string{
		"bash": {"bash", "--norc", "--noprofile", "-i"}, "zsh": {"zsh", "-f", "-i"},
		"fish": {"fish", "--no-config", "-i"},
	} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			at, err := exec.LookPath(start[0])
			if err != nil {
				lab.Skip(t, "no "+shell)
			}
			n, home := stage(t, lab.Tree{"Music/a: 1", "Field notes/b: 2"})
			n.Want(0, "move", filepath.Join(home, "Music"), "--into", "BASALT:/", "--yes", "-q")
			script := filepath.Join(t.TempDir(), "_nexlin")
			require.NoError(t, os.WriteFile(script, []byte(n.Want(0, "completion", shell)), 0o644))
			cmd := n.Cmd()
			cmd.Path, cmd.Args = at, start
			cmd.Env = append(cmd.Env, "PATH="+filepath.Dir(n.Program)+":"+os.Getenv("PATH"), "PS1=ready> ", "COLUMNS=100")
			term := lab.OnTerminal(t, cmd)
			load := map[string]string{"zsh": "autoload -Uz compinit; compinit -u -D; source " + script +
				"; compdef _nexlin nexlin", "fish": "source " + script,
				"bash": "source /usr/share/bash-completion/bash_completion; source " + script}[shell]
			seen := func(line, shows string) {
				t.Helper()
				before := strings.Count(term.Screen(), shows)
				term.Await("", line+"\t")
				term.AwaitMore(shows, before)
				term.Await("", "\x15") // the line is dropped
			}
			term.Await("", load+"; echo lo''aded"+enter)
			term.AwaitMore("loaded", 0)
			seen("nexlin show mu", "music")
			seen("nexlin drives BAS", "BASALT")
			seen("nexlin bring-back mu", "music")
			seen("nexlin card show thund", "thunderbird")
			seen("nexlin move x --accept older-c", "older-clone")
			seen("nexlin history --prog", "--progress-json")
			term.Await("", "exit"+enter)
			term.Wait()
		})
	}
}

// The action for file managers is a desktop entry, and its command starts the guide.
func TestDesktopEntry(t *testing.T) {
	at, err := exec.LookPath("desktop-file-validate")
	if err != nil {
		lab.Skip(t, "no desktop-file-validate")
	}
	out, err := exec.Command(at, "../contrib/desktop/nexlin-move.desktop").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Empty(t, string(out))
	text, err := os.ReadFile("../contrib/desktop/nexlin-move.desktop")
	require.NoError(t, err)
	_, line, _ := strings.Cut(string(text), `Exec=sh -c "`)
	line, _, _ = strings.Cut(line, "\" %f\n")
	// A value's own escapes, and then those of an argument in quotes (Desktop Entry Specification).
	script := strings.NewReplacer(`\"`, `"`, `\$`, `$`, `\\`, `\`).Replace(strings.ReplaceAll(line, `\\`, `\`))
	n, home := stage(t, lab.Tree{"Field notes/b: 2"})
	cmd := n.Cmd()
	cmd.Path, cmd.Args = "/bin/sh", []string{"sh", "-c", script, filepath.Join(home, "Field notes")}
	cmd.Env = append(cmd.Env, "PATH="+filepath.Dir(n.Program)+":"+os.Getenv("PATH"))
	term := lab.OnTerminal(t, cmd)
	term.Await("✓", "\x1b")
	term.Await("Stopped, as you asked", "")
	term.Await("Enter closes this window", enter)
	require.Zero(t, term.Wait(), term.Screen())
}
