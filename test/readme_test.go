//go:build linux

package test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// The README's commands are the program's: none is missing, none is made up.
func TestReadmeNamesEveryCommand(t *testing.T) {
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	help, err := exec.Command(program, "help").Output()
	require.NoError(t, err)
	commands, _, _ := strings.Cut(string(help), "\nFlags:")
	inHelp := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z-]+) +[a-z]`).FindAllStringSubmatch(commands, -1) {
		inHelp[m[1]] = true
	}
	delete(inHelp, "help")
	require.Greater(t, len(inHelp), 10)
	block := regexp.MustCompile("(?s)## Commands\n\n```\n(.*?)```").FindStringSubmatch(string(readme))
	require.NotNil(t, block)
	inReadme := map[string]bool{}
	for line := range strings.SplitSeq(strings.TrimSpace(block[1]), "\n") {
		inReadme[strings.Fields(line)[1]] = true
	}
	require.Equal(t, inHelp, inReadme)
	helps := ""
	for c := range inHelp {
		out, err := exec.Command(program, "help", c).Output()
		require.NoError(t, err)
		helps += string(out)
	}
	// Every flag that the README mentions exists.
	for _, m := range regexp.MustCompile("`?(--[a-z][a-z-]+)").FindAllStringSubmatch(string(readme), -1) {
		require.Contains(t, helps, m[1], "the README mentions it")
	}
	for _, m := range regexp.MustCompile(`\]\((docs/[^)#]+)`).FindAllStringSubmatch(string(readme), -1) {
		_, err := os.Stat("../" + m[1])
		require.NoError(t, err)
	}
}

// The demo tells its story, in short and whole, and leaves nothing behind.
func TestDemo(t *testing.T) {
	t.Parallel()
	for args, c := range map[string]struct {
		most int // lines
		says []string
	}{
		"": {79, []string{"~/Pictures ──link──▶ BASALT:/ines/Pictures", "nothing is freed yet", "list --held",
			"25 files read back", "is a real folder again"}},
		"--chapter all": {2000, []string{"away +callroost", "split +callroost", "elsewhere +pictures",
			"set 2026-05-03, 6 parts, complete", "set 2026-05-04, 6 parts, complete", "folder-in-the-way",
			"all of them or none", "files to fetch again: 0", "40 tiles, no gaps", "did you mean kestrel-calls",
			"job limit: 16, set back", "documents.tar.zst"}},
		"--chapter pack": {20, []string{"sha256 +[0-9a-f]{64}"}},
	} {
		cmd := exec.Command(plain(t), append([]string{"demo", "--no-color"}, strings.Fields(args)...)...)
		tmp := t.TempDir()
		cmd.Env = append(os.Environ(), "TMPDIR="+tmp)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.LessOrEqual(t, strings.Count(string(out), "\n"), c.most, args)
		for _, says := range c.says {
			require.Regexp(t, says, string(out))
		}
		require.Equal(t, 1, strings.Count(string(out), "stand-in drives are in force"), args)
		left, err := os.ReadDir(tmp)
		require.NoError(t, err)
		require.Empty(t, left)
	}
	require.ErrorContains(t, exec.Command(plain(t), "demo", "--chapter", "nowhere").Run(), "exit status 2")
}

// On a terminal the demo waits after each chapter, and takes commands.
func TestDemoOnATerminal(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(plain(t), "demo", "--no-color")
	cmd.Env = append(os.Environ(), "TMPDIR="+t.TempDir())
	term := lab.OnTerminal(t, cmd)
	term.Await("1. Kestrel Bay", "nexlin list"+enter)
	term.Await("nothing is redirected yet", "rm -rf /"+enter)
	term.Await("only commands of nexlin are understood", enter)
	term.Await("frees 2.0 MiB on SKERRY", "q"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.NotContains(t, term.Screen(), "3. A program saves")
}
