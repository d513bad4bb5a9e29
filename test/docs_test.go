//go:build linux

package test

import (
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
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir = filepath.Join(dir, "bay")
	n := lab.New(t, plain(t))
	exports := n.Want(0, "standin", "scene", dir, "--no-color")
	return func(t *testing.T, line, status string) {
		t.Helper()
		script := "set -e\n" + exports + "\ncd ~\n" + strings.ReplaceAll(line, "/mnt/", dir+"/")
		cmd := exec.Command("bash", "-c", "("+script+"\n); echo \"status $?\"")
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(n.Program)+":"+os.Getenv("PATH"), "MTREE=")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err)
		require.True(t, strings.HasSuffix(strings.TrimSpace(string(out)), "status "+status), "%s\n%s", line, out)
	}
}

// On a terminal of 80 columns nothing is wider, so that no word is cut, whatever is printed of
// the demo's scene: what is found, done, refused, explained.
func TestNothingIsWiderThanTheTerminal(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "bay")
	n := lab.New(t, plain(t))
	env := os.Environ()
	for line := range strings.SplitSeq(n.Want(0, "standin", "scene", dir, "--no-color"), "\n") {
		env = append(env, strings.ReplaceAll(strings.TrimPrefix(line, "export "), "'", ""))
	}
	home := filepath.Join(dir, "skerry/home/ines")
	rows := 0
	styles := regexp.MustCompile(`\x1b\[[0-9;?]*[a-zA-Z]`)
	for _, line := range strings.Split(`survey|survey --make-room 3MiB|survey --need ~/Music|drives|drives BASALT|inspect ~/Pictures
card list|card show mudflat|card test mudflat|move ~/Pictures --into BASALT:/ines --yes|move ~/Nothing --into BASALT
move ~/Brooder --into BASALT|list|list --held|show pictures|check|history|try pictures|discard-original pictures --yes
pack ~/Documents --output DUNE:/d.tar.zst --yes|move --profile documents,downloads --into BASALT:/ines --yes
bring-back documents --preview|detach documents --preview|forget documents --preview|report|standin drive pull BASALT
check|mend documents --yes|restore-links BASALT --preview|undo nothing|mvoe|help|help move|help words|accounts --help`,
		"\n") {
		for command := range strings.SplitSeq(line, "|") {
			cmd := n.Cmd()
			cmd.Args = append(cmd.Args[:1], strings.Fields(strings.ReplaceAll(command, "~", home))...)
			cmd.Env, cmd.Dir = append(env, "NO_COLOR=1"), home
			term := lab.OnTerminalOf(t, cmd, 80, 24)
			term.Wait()
			text := styles.ReplaceAllString(term.Screen(), "")
			for row := range strings.SplitSeq(text, "\r\n") {
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
