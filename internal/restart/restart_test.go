package restart

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestContinuation(t *testing.T) {
	home := t.TempDir()
	c := Continuation{Run: "20260503-abcde", Program: "/usr/bin/nexlin", StateDir: "/state/50% \"off\" $x", Home: home}
	file, err := c.Install()
	require.NoError(t, err)
	again, err := c.Install()
	require.NoError(t, err)
	require.Equal(t, file, again)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text),
		`ExecStart="/usr/bin/nexlin" --state-dir "/state/50%% \"off\" $$x" --yes resume 20260503-abcde`)
	to, err := os.Readlink(filepath.Join(home,
		".config/systemd/user/default.target.wants/nexlin-resume-20260503-abcde.service"))
	require.NoError(t, err)
	require.Equal(t, file, to)
	_, err = Continuation{Run: "x\nExecStart=/bin/false", Home: home}.Install()
	require.Error(t, err)
}
