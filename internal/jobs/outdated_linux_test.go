package jobs

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/discard"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/test/lab"
)

// What another command has changed between a plan and its run is seen behind the
// lock, and nothing is done by the old plan.
func TestPlanIsLookedAtAgainBehindTheLock(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	lab.Tree{"skerry/Charts/coast: the coast", "basalt/", "drives.yaml: drives: [{label: SKERRY, id: " +
		"5ce771b0-1a5d-4c1e-8e0f-0b0a57a1e001, path: skerry, capacity: 9 MiB}, {label: BASALT, id: " +
		"ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002, path: basalt, capacity: 9 MiB}]"}.Make(t, dir)
	drives, err := drive.WithStandins(filepath.Join(dir, "drives.yaml"))
	require.NoError(t, err)
	l, err := ledger.Open(filepath.Join(dir, "state"))
	require.NoError(t, err)
	defer l.Close()
	e := engine.New(l, drives)
	ctx := context.Background()
	move := func() *plan.Plan {
		p, err := redirect.PlanMove(ctx, e,
			planning.MoveOptions{Folder: filepath.Join(dir, "skerry/Charts"), Into: filepath.Join(dir, "basalt")})
		require.NoError(t, err)
		return p
	}
	first, second := move(), move()
	_, err = Do(ctx, e, first)
	require.NoError(t, err)
	outdated := func(err error) {
		t.Helper()
		var refused *plan.RefusedError
		require.ErrorAs(t, err, &refused)
		require.True(t, finding.Has(refused.Findings, finding.PlanOld), refused.Findings)
	}
	_, err = Do(ctx, e, second)
	require.Error(t, err)
	r, err := l.Redirect("charts")
	require.NoError(t, err)
	detach, err := redirect.PlanDetach(e, r)
	require.NoError(t, err)
	planned, err := discard.MakePlan(ctx, e, r, discard.Options{})
	require.NoError(t, err)
	back, err := redirect.PlanBringBack(ctx, e, r, planning.BackOptions{})
	require.NoError(t, err)
	_, err = Do(ctx, e, detach.ToRun())
	require.NoError(t, err)
	before := lab.Print(t, dir+"/skerry")
	_, err = Do(ctx, e, detach.ToRun())
	outdated(err)
	_, err = Do(ctx, e, planned.ToRun())
	outdated(err)
	_, err = Do(ctx, e, back)
	require.Error(t, err)
	require.Equal(t, before, lab.Print(t, dir+"/skerry"))
	runs, err := os.ReadDir(filepath.Join(dir, "state", "runs"))
	require.NoError(t, err)
	require.Len(t, runs, 2, "a refused run leaves no records")
}
