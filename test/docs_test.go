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
