//go:build linux

package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

// A thousand redirects are checked at once, with the trial through each of them:
// in about half a second on a machine that does nothing else. The limit is for
// what hangs, or has become slower by far.
func TestCheckThousand(t *testing.T) {
	const many = 1000
	released := plain(t)
	basalt := lab.Drive(t, "ext4", "BASALT", 64)
	home := t.TempDir()
	n := lab.New(t, released)
	lab.Tree{"first/a: a"}.Make(t, home)
	n.Want(0, "move", filepath.Join(home, "first"), "--into", basalt+"/ines", "--yes", "-q")
	l, err := ledger.Open(n.State)
	require.NoError(t, err)
	first, err := l.Redirect("first")
	require.NoError(t, err)
	note, err := os.ReadFile(filepath.Join(basalt, "ines", drive.RecordDir, "first.json"))
	require.NoError(t, err)
	require.NoError(t, l.Do(func(tx *ledger.Tx) error {
		for i := range many - 1 {
			r := first
			r.Name = fmt.Sprintf("r%d", i)
			r.Link, r.Target = filepath.Join(home, r.Name), filepath.Join(basalt, "ines", r.Name)
			require.NoError(t, os.Mkdir(r.Target, 0o755))
			require.NoError(t, os.Symlink(r.Target, r.Link))
			var one map[string]any
			require.NoError(t, json.Unmarshal(note, &one))
			one["name"], one["link"], one["target"] = r.Name, r.Link, r.Name
			b, err := json.Marshal(one)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(basalt, "ines", drive.RecordDir, r.Name+".json"), b, 0o644))
			if err := tx.SaveRedirect(r); err != nil {
				return err
			}
		}
		return nil
	}))
	require.NoError(t, l.Close())
	quick := func(command string) (out map[string]any) {
		const limit = 5 * time.Second
		took := time.Hour
		for tries := 0; tries < 3 && took >= limit; tries++ { // the machine has other things to do, too
			began := time.Now()
			out = n.JSON(command)
			took = min(took, time.Since(began))
			require.Len(t, out["redirects"], many)
		}
		t.Logf("%s of %d redirects: %v", command, many, took)
		require.Less(t, took, limit)
		return out
	}
	for _, f := range quick("check")["findings"].([]any) {
		require.Equal(t, "info", f.(map[string]any)["severity"], "%v", f)
	}
	// With their drive away they are listed as soon.
	tag := filepath.Join(basalt, drive.RecordDir, drive.TagFile)
	require.NoError(t, os.WriteFile(tag, []byte(`{"nexlin": 1, "id": "`+drive.NewID()+`", "made": `+
		`"2026-05-03T04:00:00Z", "counter": 1}`), 0o644))
	require.Equal(t, "away", quick("list")["redirects"].([]any)[0].(map[string]any)["state"])
}
