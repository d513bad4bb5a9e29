package inuse

import (
	"bufio"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A program holds the folder in every way there is, and is seen in each.
func TestBelowSeesEveryHold(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a folder\nwith a newline")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "r"), []byte("r"), 0o644))
	cmd := exec.Command("sh", "-c", `exec 3<r 4>>w 5<sub; echo ready; read x`)
	cmd.Dir = dir
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer func() { in.Close(); _ = cmd.Wait() }() // it ends with its input
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)

	r, err := Below(context.Background(), dir)
	require.NoError(t, err)
	got := map[string]How{}
	for _, h := range r.Holders {
		require.Equal(t, cmd.Process.Pid, h.PID)
		require.Equal(t, "sh", h.Program)
		rel, err := filepath.Rel(dir, h.Path)
		require.NoError(t, err)
		got[rel] = h.How
	}
	require.Equal(t, map[string]How{".": Working, "r": Reading, "w": Writing, "sub": Directory}, got)
	require.Len(t, r.Writers(), 1)

	// A neighbour with the same beginning is another folder.
	r, err = Below(context.Background(), dir[:len(dir)-1])
	require.NoError(t, err)
	require.Empty(t, r.Holders)
	_, err = io.WriteString(in, "\n")
	require.NoError(t, err)
}

func TestServiceOf(t *testing.T) {
	for groups, want := range map[string]string{
		"0::/system.slice/callroost.service\n":                                                 "callroost.service",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/mudflat.service":           "mudflat.service",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-gnome-viewer-12.scope": "",
		"0::/user.slice/user-1000.slice/session-3.scope\n":                                     "",
		"12:cpu:/x\n0::/": "",
		"":                "",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-org.example.Viewer@3f2a.service": "",
	} {
		require.Equal(t, want, serviceOf(groups), groups)
	}
}
