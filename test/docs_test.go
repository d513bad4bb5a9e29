//go:build linux

package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// Every command in these pages is run, in the order in which it stands there, in the scene of
// the demo. What has to be so before a block is in a comment above it; then the scene is a new
// one. A command that is to fail says with what status.
func TestPagesAreRun(t *testing.T) {
	block := regexp.MustCompile("(?s)(<!-- given: (.*?) -->\n)?```console\n(.*?)```")
	for _, page := range []string{"tour", "recovery", "formats"} {
		t.Run(page, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile("../docs/" + page + ".md")
			require.NoError(t, err)
			blocks := block.FindAllStringSubmatch(string(text), -1)
			require.NotEmpty(t, blocks)
			scene := newScene(t)
			for _, b := range blocks {
				if b[2] != "" {
					scene = newScene(t)
					scene(t, b[2], "0")
				}
				for line := range strings.SplitSeq(strings.TrimSpace(b[3]), "\n") {
					command, ok := strings.CutPrefix(line, "$ ")
					require.True(t, ok, "%q is no command", line)
					command, status, fails := strings.Cut(command, "   # exit ")
					if !fails {
						status = "0"
					}
					scene(t, command, status)
				}
			}
		})
	}
}

// newScene builds the demo's scene and gives what runs a shell's line in it.
func newScene(t *testing.T) func(t *testing.T, line, status string) {
	t.Helper()
	n, _, dir := sceneOf(t)
	return func(t *testing.T, line, status string) {
		t.Helper()
		script := "set -e\ncd ~\n" + strings.ReplaceAll(line, "/mnt/", dir+"/")
		cmd := exec.Command("bash", "-c", "("+script+"\n); echo \"status $?\"")
		cmd.Env = append(n.Cmd().Env, "PATH="+filepath.Dir(n.Program)+":"+os.Getenv("PATH"), "MTREE=")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err)
		require.True(t, strings.HasSuffix(strings.TrimSpace(string(out)), "status "+status), "%s\n%s", line, out)
	}
}

var styled = regexp.MustCompile(`\x1b\[[0-9;?]*[a-zA-Z]`)

// On a terminal of 80 columns nothing is wider, so that no word is cut, whatever is printed of
// the demo's scene: what is found, done, refused, explained.
func TestNothingIsWiderThanTheTerminal(t *testing.T) {
	t.Parallel()
	n, home, dir := sceneOf(t)
	rows := 0
	for _, line := range strings.Split(`survey|survey --make-room 3MiB|survey --need ~/Music|drives|drives BASALT|inspect ~/Pictures
card list|card show mudflat|card test mudflat|move ~/Pictures --into BASALT:/ines --yes|move ~/Nothing --into BASALT
move ~/Brooder --into BASALT|list|list --held|show pictures|check|history|try pictures|discard-original pictures --yes
pack ~/Documents --output DUNE:/d.tar.zst --yes|move --profile documents,downloads --into BASALT:/ines --yes
bring-back documents --preview|detach documents --preview|forget documents --preview|report|standin drive pull BASALT
check|mend documents --yes|restore-links BASALT --preview|undo nothing|mvoe|help|help move|help words|accounts --help`,
		"\n") {
		for command := range strings.SplitSeq(line, "|") {
			term := lab.OnTerminalOf(t, n.Cmd(strings.Fields(strings.ReplaceAll(command, "~", home))...), 80, 24)
			term.Wait()
			for row := range strings.SplitSeq(styled.ReplaceAllString(term.Screen(), ""), "\r\n") {
				last := row[strings.LastIndex(row, "\r")+1:] // a progress line is drawn over
				if rows++; strings.Contains(row, dir) {      // the temporary folder has a long name, which is one word
					continue
				}
				require.LessOrEqual(t, len([]rune(last)), 80, "%s: %q", command, last)
			}
		}
	}
	require.Greater(t, rows, 400)
}

// Whoever is asked has before them what it is about: no more than twenty lines come before a
// question, whatever is asked about in the demo's scene.
func TestQuestionsAreInSight(t *testing.T) {
	t.Parallel()
	n, home, dir := sceneOf(t)
	n.Env = append(n.Env, "NEXLIN_STANDINS_TOLD="+filepath.Join(dir, "drives.yaml"))
	many := ""
	for i := range 14 {
		lab.Tree{fmt.Sprintf("Folder %d/x: 1", i)}.Make(t, home)
		many += fmt.Sprintf(" ~/Folder_%d", i)
	}
	lab.Tree{"Videos/v: 1", "Templates/v: 1", "Public/v: 1"}.Make(t, home)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "basalt", "hand"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(dir, "basalt", "hand"), filepath.Join(home, "Hand")))
	split := func() { // a program has made a folder where the link was, with much in it
		require.NoError(t, os.Remove(filepath.Join(home, "Music")))
		for i := range 50 {
			lab.Tree{fmt.Sprintf("Music/new/%d: 1", i)}.Make(t, home)
		}
	}
	asked := 0
	for i, line := range strings.Split(`n move card:mudflat --into BASALT:
n move card:brooder --store kestrel-calls --into BASALT:
n move --profile all --into BASALT:
n move ~/Documents ~/Survey --into BASALT: --together
n move --together --into DUNE:`+many+`
n record ~/Hand
y move --profile documents,music --into BASALT:
n pack ~/Pictures --output DUNE:/p.tar.zst
n undo
n discard-original documents
y discard-original documents
y discard-original music
n bring-back documents
n detach documents
n forget documents
split
n mend music
y mend music
n undo`, "\n") {
		answer, command, ok := strings.Cut(line, " ")
		if !ok {
			split()
			continue
		}
		var args []string
		for _, word := range strings.Fields(strings.ReplaceAll(command, "~", home)) {
			args = append(args, strings.ReplaceAll(word, "_", " "))
		}
		term := lab.OnTerminalOf(t, n.Cmd(args...), 80, 24)
		term.Await("[y/N", answer+enter)
		term.Wait()
		before, _, _ := strings.Cut(styled.ReplaceAllString(term.Screen(), ""), "[y/N")
		require.LessOrEqual(t, strings.Count(before, "\r\n"), 20, "%d, %s: %s", i, command, before)
		asked++
	}
	require.Equal(t, 18, asked)
}
