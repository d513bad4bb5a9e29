//go:build linux

package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A drive that fails or lies is found out before anything is switched; once
// it behaves, the run is finished, or was taken back.
func TestFaultyDrives(t *testing.T) {
	t.Parallel()
	const bad = "dawn chorus.wav"
	for what, c := range map[string]struct {
		fault func(*lab.Fault)
		says  string // empty: it does no harm
	}{
		"a bit flips on read-back": {func(f *lab.Fault) { f.FlipAt = 70_000 },
			bad + ": the copy differs: content"},
		"the first bit flips":              {func(f *lab.Fault) { f.FlipAt = 0 }, bad + ": the copy differs: content"},
		"a write that lies":                {func(f *lab.Fault) { f.Lie = true }, bad + ": the copy differs: content"},
		"an error at a byte":               {func(f *lab.Fault) { f.WriteErrAt = 100_000 }, "input/output error"},
		"an error on read-back":            {func(f *lab.Fault) { f.ReadErrAt = 100_000 }, "input/output error"},
		"flushing fails":                   {func(f *lab.Fault) { f.SyncErr = true }, "input/output error"},
		"writes that take half and say so": {func(f *lab.Fault) { f.Short = true }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			skerry, drive := lab.Drive(t, "ext4", "SKERRY", 32), lab.Faulty(t)
			folder := filepath.Join(skerry, "Recordings")
			lab.Tree{bad + ": " + strings.Repeat("a call at dawn, ", 10_000), "sub/other: quiet",
				"sub/link => other"}.Make(t, folder)
			before := lab.Print(t, folder)
			n := lab.New(t, program)
			fault := lab.NoFault(bad)
			c.fault(&fault)
			drive.Set(fault)
			args := []string{"move", folder, "--into", drive.At, "--yes"}
			if c.says == "" {
				n.Want(0, args...)
				require.Equal(t, before, lab.Print(t, filepath.Join(drive.At, "Recordings")))
				return
			}
			out := n.Want(5, args...)
			require.Contains(t, out, c.says)
			require.Equal(t, before, lab.Print(t, folder), "nothing is switched")
			require.Contains(t, n.Want(5, "resume", "--yes"), c.says)
			require.Equal(t, before, lab.Print(t, folder))
			drive.Set(lab.NoFault(""))
			if strings.Contains(what, "flips") {
				n.Want(0, "undo", "--yes")
				require.Empty(t, names(t, drive.At), "nothing is left of it")
				require.Equal(t, before, lab.Print(t, folder))
				return
			}
			n.Want(0, "resume", "--yes")
			require.Equal(t, before, lab.Print(t, filepath.Join(drive.At, "Recordings")))
			n.Want(0, "check")
		})
	}
}

// A folder on a drive that can't be read any more stays where it is, and is
// told by the file that fails.
func TestFaultySource(t *testing.T) {
	t.Parallel()
	drive, basalt := lab.Faulty(t), lab.Drive(t, "ext4", "BASALT", 32)
	folder := filepath.Join(drive.At, "Recordings")
	lab.Tree{"a: " + strings.Repeat("a", 50_000), "b: b"}.Make(t, folder)
	before := lab.Print(t, folder)
	fault := lab.NoFault("a")
	fault.ReadErrAt = 20_000
	drive.Set(fault)
	n := lab.New(t, program)
	out := n.Want(5, "move", folder, "--into", basalt, "--yes")
	require.Contains(t, out, "input/output error, at "+filepath.Join(folder, "a"))
	drive.Set(lab.NoFault(""))
	require.Equal(t, before, lab.Print(t, folder))
	n.Want(0, "resume", "--yes")
	require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "Recordings")))
	n.Want(0, "bring-back", "recordings", "--yes")
	require.Equal(t, before, lab.Print(t, folder))
	n.Want(0, "discard-original", "recordings", "--yes")
	left, err := os.ReadDir(drive.At)
	require.NoError(t, err)
	require.Len(t, left, 1)
}
