//go:build linux

package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// Each act against what one would do by hand for the same, in the same minute. The bounds are
// wide, since the machine does other things meanwhile: what they catch is a blunder, that a
// walk asks a question for every file, or reads all of it twice. make bench has the figures.
func TestNotFarBehindByHand(t *testing.T) {
	released := plain(t)
	kestrel, dune := lab.Drive(t, "ext4", "KESTREL", 192), lab.Drive(t, "ext4", "DUNE", 384)
	folder, copy := filepath.Join(kestrel, "rec"), filepath.Join(dune, "copy")
	n := lab.New(t, released)
	noise := rand.NewChaCha8([32]byte{1})
	for i := range 3000 {
		dir := filepath.Join(folder, fmt.Sprint(i/50))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		b := make([]byte, i%3000*3)
		_, _ = noise.Read(b)
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("take %d", i)), b, 0o644))
	}
	b := make([]byte, 32<<20)
	_, _ = noise.Read(b)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "large"), b, 0o644))
	nexlin := func(args ...string) func() {
		return func() { n.Want(0, append(args, "--yes", "-q")...) }
	}
	shell := func(script string) func() {
		return func() {
			out, err := exec.Command("sh", "-euc", script, "sh", folder, copy, filepath.Join(dune, "rec")).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	took := func(f func()) time.Duration {
		began := time.Now()
		f()
		return time.Since(began)
	}
	nothing := func() {}
	for _, c := range []struct {
		what         string
		most         float64
		before       func()
		ours, byHand func()
	}{
		{"move", 5, nothing, nexlin("move", folder, "--into", dune), shell(`cp -a "$1/." "$2"; sync -f "$2"`)},
		{"check --deep", 4, nothing, func() { n.Want(0, "check", "--deep", "-q") },
			shell(`cd "$3"; find . -type f -print0 | xargs -0 sha256sum >/dev/null`)},
		{"survey", 12, nothing, func() { n.Want(0, "survey", dune, "-q") }, shell(`du -s "$3" >/dev/null`)},
		{"bring-back", 6, nothing, nexlin("bring-back", "rec"), shell(`rm -r "$2"; cp -a "$1/." "$2"; sync -f "$2"`)},
		{"discard-original", 6, func() {
			n.Want(0, "discard-original", "rec", "--yes", "-q") // what was held of both runs
			nexlin("move", folder, "--into", dune)()
		}, nexlin("discard-original", "rec"), shell(`diff -r "$2" "$3"; rm -r "$2"`)},
	} {
		c.before()
		ours, byHand := took(c.ours), took(c.byHand)
		t.Logf("%s: %v, by hand %v", c.what, ours.Round(time.Millisecond), byHand.Round(time.Millisecond))
		// A command takes a while to begin; that is no matter of the files.
		require.Less(t, ours.Seconds()-0.5, c.most*byHand.Seconds(), "%s took %v, by hand %v", c.what, ours, byHand)
	}
}
