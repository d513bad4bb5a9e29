//go:build linux

package test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A selftestFound is what a test reads of a self-test's document.
type selftestFound struct {
	Selftest struct {
		Accepted []string
		Steps    []struct{ Name, Outcome, Said string }
	}
}

// selftestDrives makes a home and a directory on two drives; clean wants nothing to be in them.
func selftestDrives(t *testing.T, home, target string) (n *lab.Nexlin, into string, clean func()) {
	t.Helper()
	drive := func(kind, label string) string {
		if kind == "ntfs" || kind == "exfat" {
			at, _ := lab.FuseDrive(t, kind, label, 200)
			return at
		}
		return lab.Drive(t, kind, label, 330)
	}
	h, b := drive(home, "SKERRY"), drive(target, "BASALT")
	n = lab.New(t, program)
	n.Home, into = filepath.Join(h, "ines"), filepath.Join(b, "ines")
	require.NoError(t, os.Mkdir(n.Home, 0o700))
	require.NoError(t, os.Mkdir(into, 0o700))
	return n, into, func() {
		t.Helper()
		for _, at := range []string{n.Home, into} {
			require.Empty(t, names(t, at), at)
		}
		require.NoDirExists(t, filepath.Join(b, ".nexlin"))
		require.NoDirExists(t, n.State, "the person's own records")
	}
}

// A self-test plays its whole story between drives of every kind, accepts what a person would
// be asked to, names nobody, and leaves nothing.
func TestSelftest(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		home, target string
		accepted     []string
	}{
		{"ext4", "btrfs", nil},
		{"ext4", "exfat", []string{"private-exposed", "modes-not-kept", "times-rounded"}},
		{"ntfs", "xfs", []string{"unseen-by-windows", "modes-not-kept", "times-rounded"}},
	} {
		t.Run(c.home+" to "+c.target, func(t *testing.T) {
			n, into, clean := selftestDrives(t, c.home, c.target)
			into = filepath.Join(into, "not/yet")
			report := filepath.Join(t.TempDir(), "report.json")
			out := n.Want(0, "selftest", "--into", into, "--report", report, "-q")
			require.Contains(t, out, "All well:")
			clean()
			b, err := os.ReadFile(report)
			require.NoError(t, err)
			require.NotContains(t, string(b), "ines")
			require.NotContains(t, string(b), "BASALT")
			s, err := schemas(t).Compile("schema/selftest.json")
			require.NoError(t, err)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
			require.NoError(t, err)
			require.NoError(t, s.Validate(doc))
			var found selftestFound
			require.NoError(t, json.Unmarshal(b, &found))
			require.ElementsMatch(t, c.accepted, found.Selftest.Accepted)
			require.Len(t, found.Selftest.Steps, 14)
		})
	}
}

// Killed at any moment it leaves its two directories at most, and the next one takes them away;
// one that is at work keeps others off.
func TestSelftestKilledAnywhere(t *testing.T) {
	t.Parallel()
	n, into, clean := selftestDrives(t, "ext4", "ext4")
	for i := range 5 {
		cmd := n.Cmd("selftest", "--into", into, "-q")
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(30+i*i*120) * time.Millisecond)
		if i == 2 {
			require.Contains(t, n.Want(6, "selftest", "--into", into), "another self-test")
		}
		require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
		_ = cmd.Wait()
		for _, at := range []string{n.Home, into} {
			for _, name := range names(t, at) {
				require.Equal(t, "nexlin-selftest", name)
			}
		}
	}
	n.Want(0, "selftest", "--into", into, "-q")
	clean()
}

// What can't be a test, or what is somebody else's, is refused, and stays as it is.
func TestSelftestRefuses(t *testing.T) {
	t.Parallel()
	n, into, clean := selftestDrives(t, "ext4", "ext4")
	for what, c := range map[string]struct {
		words []string
		exit  int
		says  string
	}{
		"nowhere":        {nil, 2, "--into says where"},
		"the same drive": {[]string{"--into", n.Home}, 3, "same drive as the home"},
		"a report":       {[]string{"--into", into, "--report", "/etc/hostname"}, 2, "is there already"},
	} {
		require.Contains(t, n.Want(c.exit, append([]string{"selftest"}, c.words...)...), c.says, what)
		clean()
	}
	// A directory that another account could exchange under an administrator's hands.
	require.NoError(t, os.Chown(into, 12345, 12345))
	require.Contains(t, n.Want(3, "selftest", "--into", into), "belongs to another account")
	require.NoError(t, os.Chown(into, 0, 0))
	clean()
	// Directories of that name that no self-test has made.
	theirs := filepath.Join(into, "nexlin-selftest")
	lab.Tree{"nexlin-selftest/keep: mine"}.Make(t, into)
	n.Want(3, "selftest", "--into", into)
	require.FileExists(t, filepath.Join(theirs, "keep"))
	require.Empty(t, names(t, n.Home))
	require.NoError(t, os.RemoveAll(theirs))
	lab.Tree{"nexlin-selftest/record.json: " + strings.Repeat("[", 9000)}.Make(t, n.Home)
	n.Want(3, "selftest", "--into", into)
	require.FileExists(t, filepath.Join(n.Home, "nexlin-selftest/record.json"))
}
