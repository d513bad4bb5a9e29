//go:build faults && linux

package jobs

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/forget"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
)

// Once a folder of several is forgotten the others are taken back one by one: the run of all
// would take the forgotten one for one that it has not come to yet.
func TestForgottenFolderOfSeveral(t *testing.T) {
	moved := func() (w *world, all, charts, logs ledger.RunRow) {
		w = newWorld(t, t.TempDir())
		w.did(w.together(nil))
		for _, row := range w.runs() {
			switch row.Redirect {
			case "charts":
				charts = row
			case "logs":
				logs = row
			default:
				all = row
			}
		}
		return w, all, charts, logs
	}
	w, all, charts, logs := moved()
	f, err := forget.MakePlan(w.Engine, "charts", "/")
	require.NoError(t, err)
	require.NoError(t, forget.Forget(w.Engine, f))
	_, err = w.Ledger.Run(all.ID)
	require.ErrorIs(t, err, ledger.ErrNotFound)
	_, err = Undo(ctx, w.Engine, logs)
	require.NoError(t, err)
	require.DirExists(t, w.at("skerry/Logs"))

	// An older build left the run of all.
	w, all, charts, logs = moved()
	require.NoError(t, w.Ledger.Do(func(tx *ledger.Tx) error { return tx.Forget("charts", []string{charts.ID}) }))
	before := w.print()
	_, err = Undo(ctx, w.Engine, all)
	require.ErrorIs(t, err, plan.ErrNotUndoable)
	require.Equal(t, before, w.print())
	_, err = Undo(ctx, w.Engine, logs)
	require.NoError(t, err)
}
