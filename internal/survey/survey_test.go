//go:build linux

package survey

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

func newEngine(t *testing.T, dir string) *engine.Engine {
	t.Helper()
	file := filepath.Join(dir, "drives.yaml")
	require.NoError(t, os.WriteFile(file, []byte("drives:\n"+
		"  - {label: SKERRY, id: 5ce771b0-1a5d-4c1e-8e0f-0b0a57a1e001, path: skerry, capacity: 8 MiB}\n"+
		"  - {label: BASALT, id: ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002, path: basalt, capacity: 64 MiB}\n"+
		"  - {label: DUNE, id: d00de5e0-3b1c-4a86-a7d4-0b0a57a1e003, path: dune, capacity: 32 KiB}\n"), 0o644))
	drives, err := drive.WithStandins(file)
	require.NoError(t, err)
	l, err := ledger.OpenForReading(filepath.Join(dir, "state"))
	require.NoError(t, err)
	return engine.New(l, drives)
}

func TestSurveySortsByWhatMovingFrees(t *testing.T) {
	dir := t.TempDir()
	home := filepath.Join(dir, "skerry", "ines")
	lab.Tree{"Pictures/a: 1", "Music/sub/b: 2", "tools/x: 3", ".local/share/store/y: 4", "file: 5",
		"away => Pictures"}.Make(t, home)
	lab.Tree{"basalt/", "dune/"}.Make(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(home, "tools", "big"), make([]byte, 300<<10), 0o644))
	e := newEngine(t, dir)
	before := lab.Print(t, dir)
	fs, err := Survey(context.Background(), e, Options{Home: home, Dirs: []string{home}})
	require.NoError(t, err)
	require.Equal(t, before, lab.Print(t, dir))
	var names, kinds []string
	for _, f := range fs {
		rel, err := filepath.Rel(home, f.Path)
		require.NoError(t, err)
		names, kinds = append(names, rel), append(kinds, f.Kind)
		require.Equal(t, "SKERRY", f.Drive)
	}
	require.Equal(t, []string{"tools", "Music", ".local/share/store", "Pictures"}, names)
	require.Equal(t, []string{"folder", "music", "folder", "pictures"}, kinds)

	n, err := Needed(context.Background(), e, []string{filepath.Join(home, "tools"), filepath.Join(home, "Music")}, nil)
	require.NoError(t, err)
	require.Equal(t, n.Bytes+n.Reserve, n.Total)
	require.GreaterOrEqual(t, n.Bytes, int64(300<<10))
	require.Len(t, n.Fits, 2)
	require.Zero(t, n.Fits[0].Short, "BASALT has the room")
	require.Positive(t, n.Fits[1].Short, "DUNE has not")
	_, err = Needed(context.Background(), e, []string{filepath.Join(home, "file")}, nil)
	require.Error(t, err)
	// A drive of just the size that was named takes them.
	d := drive.Drive{Size: n.Total, Free: n.Total}
	require.GreaterOrEqual(t, d.Free, n.Bytes+d.Reserve())
}
