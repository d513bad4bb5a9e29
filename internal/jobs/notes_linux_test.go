//go:build faults && linux

package jobs

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
	"nexlin/internal/restore"
)

// What a drive says of itself is somebody's word: nothing is made of what can't be, and what is
// in the way is told by its code.
func TestNotesOfADrive(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(w *world, note map[string]any)
		codes  string // of the blockers; "none" where the note is of no redirect
		hidden int    // notes that can't be used
	}{
		{"as it was", func(*world, map[string]any) {}, "", 0},
		{"of an account that is not here", func(_ *world, n map[string]any) { n["account"] = "mirela" }, "account-unknown", 0},
		{"with a link path that is none", func(_ *world, n map[string]any) { n["link"] = "Charts" }, "outside-home", 0},
		{"with a link in a protected place", func(_ *world, n map[string]any) { n["link"] = "/etc/Charts" },
			"outside-home", 0},
		{"of a copy that was never whole", func(_ *world, n map[string]any) { n["state"] = "arriving" }, "none", 0},
		{"of what was brought back", func(_ *world, n map[string]any) { n["state"] = "brought-back" }, "none", 0},
		{"of another name", func(_ *world, n map[string]any) { n["name"] = "logs" }, "none", 1},
		{"with a target above", func(_ *world, n map[string]any) { n["target"] = ".." }, "none", 1},
		{"with a target that is a path", func(_ *world, n map[string]any) { n["target"] = "../../skerry/Logs" }, "none", 1},
		{"without a version", func(_ *world, n map[string]any) { delete(n, "nexlin") }, "none", 1},
		{"of what is gone", func(w *world, _ map[string]any) { remove("basalt/ines/Charts")(w) }, "target-missing", 0},
		{"beside a folder, which is merged", func(w *world, _ map[string]any) { tree("skerry/Charts/new: mine")(w) }, "", 0},
		{"beside another link", func(w *world, _ map[string]any) { tree("skerry/Charts => DIR/skerry/Logs")(w) },
			"old-place-taken", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, t.TempDir())
			onBasaltAlone(w)
			file := w.at("basalt/ines/.nexlin/charts.json")
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			note := map[string]any{}
			require.NoError(t, json.Unmarshal(b, &note))
			c.change(w, note)
			b, err = json.Marshal(note)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, b, 0o644))
			before := w.print()
			basalt, err := w.Drives.Of(w.at("basalt"))
			require.NoError(t, err)
			all, hidden, err := restore.MakePlan(ctx, w.Engine, &basalt,
				restore.Options{Accept: []finding.Code{finding.OutsideHome}})
			require.NoError(t, err)
			require.Len(t, hidden, c.hidden)
			require.Equal(t, before, w.print())
			if c.codes == "none" {
				require.Empty(t, all)
				return
			}
			require.Len(t, all, 1)
			var codes []string
			for _, f := range finding.Blockers(all[0].Findings) {
				codes = append(codes, string(f.Code))
			}
			require.Equal(t, c.codes, strings.Join(codes, " "), "%+v", all[0].Findings)
		})
	}
}
