//go:build linux

package health

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

const basaltID = "ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002"

// One true cause for each way a redirect can be off, and not a byte changed
// by looking.
func TestStates(t *testing.T) {
	for _, c := range []struct {
		name  string
		harm  func(t *testing.T, dir string)
		state State
		codes []finding.Code
	}{
		{"good", func(*testing.T, string) {}, Good, nil},
		{"drive away", func(t *testing.T, dir string) { require.NoError(t, os.Rename(dir+"/basalt", dir+"/gone")) },
			Away, []finding.Code{finding.DriveAway}},
		{"link gone", func(t *testing.T, dir string) { require.NoError(t, os.Remove(dir+"/skerry/docs")) }, Broken,
			[]finding.Code{finding.LinkMissing}},
		{"link elsewhere", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(dir+"/skerry/docs"))
			require.NoError(t, os.Symlink("/", dir+"/skerry/docs"))
		}, Broken, []finding.Code{finding.LinkChanged}},
		{"no link any more", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(dir+"/skerry/docs"))
			require.NoError(t, os.WriteFile(dir+"/skerry/docs", nil, 0o600))
		}, Broken, []finding.Code{finding.LinkChanged}},
		{"two halves", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(dir+"/skerry/docs"))
			require.NoError(t, os.Mkdir(dir+"/skerry/docs", 0o755))
		}, Split, []finding.Code{finding.FolderSplit}},
		{"target gone", func(t *testing.T, dir string) { require.NoError(t, os.RemoveAll(dir+"/basalt/docs")) },
			Broken, []finding.Code{finding.TargetMissing}},
		{"note gone", func(t *testing.T, dir string) {
			require.NoError(t,
				os.Remove(dir+"/basalt/.nexlin/docs.json"))
		}, Good, []finding.Code{finding.NoteMissing}},
		{"drive nearly full", func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(dir+"/basalt/fill", make([]byte, 1<<20-40<<10), 0o600))
		}, Good, []finding.Code{finding.SpaceLow}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			e, r := scene(t, dir)
			c.harm(t, dir)
			before := lab.Print(t, filepath.Join(dir, "skerry"))
			rep, err := Check(context.Background(), e, r)
			require.NoError(t, err)
			require.Equal(t, c.state, rep.State)
			var codes []finding.Code
			for _, f := range rep.Findings {
				codes = append(codes, f.Code)
				require.NotEqual(t, finding.Severity(""), f.Severity)
			}
			require.Equal(t, c.codes, codes)
			require.Equal(t, before, lab.Print(t, filepath.Join(dir, "skerry")))
			trial, err := Try(context.Background(), e, r)
			require.NoError(t, err)
			if c.state == Good {
				require.NoError(t, trial.Err)
			} else if c.name == "target gone" {
				require.Error(t, trial.Err)
			} else {
				require.NotEqual(t, Good, trial.Report.State)
			}
		})
	}
}

// scene is one redirect, as a move leaves it.
func scene(t *testing.T, dir string) (*engine.Engine, ledger.Redirect) {
	t.Helper()
	lab.Tree{"skerry/", "basalt/docs/a: 1", "skerry/docs => " + dir + "/basalt/docs"}.Make(t, dir)
	lab.Tree{`basalt/.nexlin/drive.json: {"nexlin":1,"id":"` + basaltID +
		`","label":"BASALT","made":"2026-01-01T00:00:00Z","counter":1}`,
		`basalt/.nexlin/docs.json: {"nexlin":1,"name":"docs","target":"docs"}`}.Make(t, dir)
	file := filepath.Join(dir, "drives.yaml")
	require.NoError(t, os.WriteFile(file,
		[]byte("drives:\n  - {label: BASALT, id: "+basaltID+", path: basalt, capacity: 1 MiB}\n"), 0o644))
	drives, err := drive.WithStandins(file)
	require.NoError(t, err)
	l, err := ledger.Open(filepath.Join(dir, "state"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	r := ledger.Redirect{
		Name: "docs", State: ledger.Linked, Link: dir + "/skerry/docs", Target: dir + "/basalt/docs",
		Methods: []string{"symlink"},
		Drive: ledger.DriveRef{ID: basaltID, Label: "BASALT", UUID: basaltID, Mount: string(dir + "/basalt"),
			TagPlace: "."},
		Created: time.Now(), Run: "none",
	}
	require.NoError(t, l.Do(func(tx *ledger.Tx) error {
		return errors.Join(tx.SaveRedirect(r),
			tx.AddPack(ledger.Pack{Run: "packed", Redirect: r.Name, Made: time.Now()}))
	}))
	return engine.New(l, drives), r
}
