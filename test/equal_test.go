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

// What is not equal in content, kind, mode, owner, attributes, lists of rights
// and hard links is not proven: it is told before the held original goes, and
// needs a consent.
func TestProvenMeansEqual(t *testing.T) {
	t.Parallel()
	released := plain(t)
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	n := lab.New(t, released)
	for name, c := range map[string]struct{ change, code string }{
		"link became a file":       {`rm link; echo own >link`, "changed-since"},
		"link became an empty one": {`rm link; : >link`, "changed-since"},
		"link became a directory":  {`rm link; mkdir link`, "changed-since"},
		"mode":                     {`chmod 600 file`, "metadata-differs"},
		"mode of a directory":      {`chmod 700 dir`, "metadata-differs"},
		"mode of the folder":       {`chmod 700 .`, "metadata-differs"},
		"owner":                    {`chown 12345 file`, "metadata-differs"},
		"owner of a link":          {`chown -h 12345 link`, "metadata-differs"},
		"attribute":                {`setfattr -x user.species file`, "metadata-differs"},
		"list of rights":           {`setfacl -m u:12345:r file`, "metadata-differs"},
		"default list":             {`setfacl -d -m u:12345:r dir`, "metadata-differs"},
		"two names became two":     {`cp -a one x; rm one; mv x one`, "metadata-differs"},
		"two files became one":     {`ln -f file same`, "metadata-differs"},
		"only times":               {`touch file dir`, ""},
		"nothing":                  {`:`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			n := *n
			n.T = t
			folder := filepath.Join(skerry, strings.ReplaceAll(name, " ", "-"))
			require.NoError(t, os.MkdirAll(filepath.Join(folder, "dir"), 0o755))
			in := func(dir, script string) {
				lab.Run(t, "sh", "-c", `cd "$1" && `+script, "sh", dir)
			}
			in(folder,
				`echo a >file; cp -p file same; echo two >one; ln one two; ln -s file link; setfattr -n user.species -v redshank file`)
			n.Want(0, "move", folder, "--into", basalt, "--yes", "--name", "it")
			in(filepath.Join(basalt, filepath.Base(folder)), c.change)
			if c.code != "" {
				require.Contains(t, n.Want(3, "discard-original", "it", "--yes"), "["+c.code+"]")
				n.Want(0, "discard-original", "it", "--yes", "--only-equal")
				require.Contains(t, n.Want(3, "discard-original", "it", "--yes"), "["+c.code+"]")
				n.Want(0, "discard-original", "it", "--yes", "--accept", c.code)
			} else {
				n.Want(0, "discard-original", "it", "--yes")
			}
			n.Want(0, "bring-back", "it", "--yes")
			n.Want(0, "discard-original", "it", "--yes")
		})
	}
}

// A merge leaves what the target has already with the target's own metadata;
// what the half had otherwise is told before it goes.
func TestProvenAfterAMerge(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	n := lab.New(t, program)
	folder, target := filepath.Join(skerry, "Backups"), filepath.Join(basalt, "Backups")
	for _, dir := range []string{folder, target} {
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "set"), []byte("set"), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(folder, "set"), 0o600))
	n.Want(0, "move", folder, "--into", basalt, "--merge", "--yes")
	require.Contains(t, n.Want(3, "discard-original", "backups", "--yes"), "[metadata-differs]")
	n.Want(0, "discard-original", "backups", "--yes", "--accept", "metadata-differs")
}

// A copy made by hand is held against the original in hard links and device
// numbers, too.
func TestRecordWantsTheSame(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, "ext4", "BASALT", 64)
	for name, c := range map[string]struct{ original, copy, code string }{
		"split":     {`echo a >one; ln one two`, `cp -a one x; mv x one`, "metadata-differs"},
		"joined":    {`echo a >one; cp -p one two`, `ln -f one two`, "metadata-differs"},
		"leads-out": {`echo a >one; ln one ../outside`, `:`, "hard-links-lead-out"},
		"device": {`mknod null c 1 3`,
			`rm null; mknod null c 1 5; touch -r "$2/null" null; chmod --reference="$2/null" null`, "copy-differs"},
		"same": {`echo a >one; ln one two; mknod null c 1 3`, `:`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			n := lab.New(t, program)
			folder, target := filepath.Join(skerry, name), filepath.Join(basalt, name)
			require.NoError(t, os.Mkdir(folder, 0o755))
			lab.Run(t, "sh", "-c", `cd "$1" && `+c.original, "sh", folder)
			lab.Run(t, "cp", "-a", folder, target)
			lab.Run(t, "sh", "-c", `cd "$1" && `+c.copy+` && touch -r "$2" .`, "sh", target, folder)
			if c.code != "" {
				require.Contains(t, n.Want(3, "record", folder, "--copy", target, "--yes"), "["+c.code+"]")
				return
			}
			n.Want(0, "record", folder, "--copy", target, "--yes")
			n.Want(0, "discard-original", name, "--yes")
		})
	}
}
