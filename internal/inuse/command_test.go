package inuse

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestCommand(t *testing.T) {
	run := func(within time.Duration, args ...string) (string, error) {
		return Command{Args: args, Within: within,
			Env: []string{"PATH=/usr/bin:/bin", "HOME=/nowhere"}}.Run(context.Background())
	}
	out, err := run(time.Minute, "sh", "-c", "echo \"$HOME\"; pwd")
	require.NoError(t, err)
	require.Equal(t, "/nowhere\n/", out)
	var failed *CommandError
	_, err = run(time.Minute, "sh", "-c", "echo because >&2; exit 3")
	require.ErrorAs(t, err, &failed)
	require.Equal(t, "because", failed.Output)
	_, err = run(time.Minute, "no-such-command-here")
	require.ErrorAs(t, err, &failed)
	began := time.Now()
	_, err = run(100*time.Millisecond, "sh", "-c", "sleep 30 & sleep 30")
	require.ErrorIs(t, err, ErrTooLong)
	require.Less(t, time.Since(began), 10*time.Second, "what it started is ended, too")
	out, err = run(time.Minute, "sh", "-c", "head -c 3000000 /dev/zero | tr '\\0' x")
	require.NoError(t, err)
	require.Len(t, out, outputLimit)
	out, err = run(time.Minute, "sh", "-c",
		"cut -d' ' -f6 /proc/$$/stat; echo $$; (exec 3<>/dev/tty) 2>/dev/null && echo a terminal || :")
	require.NoError(t, err)
	require.Regexp(t, `^\d+\n\d+$`, out)
	require.Equal(t, strings.Fields(out)[0], strings.Fields(out)[1], "it leads a session of its own")
	require.NotContains(t, out, "a terminal")
	out, err = run(time.Minute, "printf", "%s", "; rm -rf $HOME `id`")
	require.NoError(t, err)
	require.Equal(t, "; rm -rf $HOME `id`", out, "there is no shell")
}

func TestCalled(t *testing.T) {
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "callroost-with-a-long-name")
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, b, 0o755))
	c := exec.Command(name, "60")
	require.NoError(t, c.Start())
	defer func() { _ = c.Wait() }()
	defer c.Process.Kill()
	hs, err := Called(context.Background(), []string{"callroost-with-a-long-name"}, uint32(os.Getuid()), false)
	require.NoError(t, err)
	require.Len(t, hs, 1)
	require.Equal(t, c.Process.Pid, hs[0].PID)
	hs, err = Called(context.Background(), []string{"callroost"}, uint32(os.Getuid()), false)
	require.NoError(t, err)
	require.Empty(t, hs)
}
