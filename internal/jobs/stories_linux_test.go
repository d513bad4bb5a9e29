//go:build faults && linux

package jobs

import (
	"context"
	"errors"
	"os"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/ahead"
	"nexlin/internal/discard"
	"nexlin/internal/finding"
	"nexlin/internal/handover"
	"nexlin/internal/mend"
	"nexlin/internal/pack"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/record"
	"nexlin/internal/redirect"
	"nexlin/internal/restore"
	"nexlin/internal/run"
	"nexlin/internal/setting"
	"nexlin/internal/transfer"
	"nexlin/test/lab"
)

// callsOf is the number of system calls of a story at which it is stopped, evenly apart.
func callsOf() int {
	if os.Getenv("NEXLIN_MATRIX") == "all" {
		return 1 << 20
	}
	return 6
}

// A story is a run of one kind, and what comes before it.
type story struct {
	name   string
	before func(w *world)
	begin  func(w *world) func() error // plans it
	final  bool                        // undo only ends it
	lends  bool                        // it takes what is held instead of copying it
}

func onBasalt(w *world) { w.Helper(); w.did(w.move("skerry/Charts", "basalt/ines")) }

// onBasaltAlone leaves nothing of the redirect but what BASALT has: link and ledger are lost.
func onBasaltAlone(w *world) {
	w.Helper()
	onBasalt(w)
	w.did(discarding(w))
	require.NoError(w, os.Remove(w.at("skerry/Charts")))
	require.NoError(w, w.Ledger.Close())
	require.NoError(w, os.RemoveAll(w.at("state")))
	w.open()
}

var ctx = context.Background()

var stories = []story{
	{"move", nil, func(w *world) func() error { return w.move("skerry/Charts", "basalt/ines") }, false, false},
	{"move-on", onBasalt, func(w *world) func() error { return w.move("skerry/Charts", "dune/ines") }, false, false},
	{"bring-back", onBasalt, bringBack(planning.BackOptions{}), false, false},
	{"bring-back with what is held", onBasalt, bringBack(planning.BackOptions{UseHeld: true}), false, true},
	{"detach", onBasalt, func(w *world) func() error {
		d, err := redirect.PlanDetach(w.Engine, w.charts())
		return w.planned(err, func() *plan.Plan { return d.ToRun() })
	}, false, false},
	{"discard-original", onBasalt, discarding, true, false},
	{"mend", func(w *world) {
		onBasalt(w)
		require.NoError(w, os.Remove(w.at("skerry/Charts")))
	}, mending, false, false},
	{"merge-halves", func(w *world) {
		onBasalt(w)
		w.did(discarding(w))
		require.NoError(w, os.Remove(w.at("skerry/Charts")))
		require.NoError(w, os.MkdirAll(w.at("skerry/Charts/deep"), 0o755))
		for _, name := range []string{"coast", "new", "deep/reef", "deep/shoal"} {
			require.NoError(w, os.WriteFile(w.at("skerry/Charts/"+name), []byte("by a program"), 0o644))
		}
	}, mending, false, false},
	{"record", func(w *world) {
		require.NoError(w, os.Rename(w.at("skerry/Charts"), w.at("basalt/Charts")))
		require.NoError(w, os.Symlink(w.at("basalt/Charts"), w.at("skerry/Charts")))
	}, func(w *world) func() error {
		return w.does(record.MakePlan(w.Engine, record.Options{Path: w.at("skerry/Charts"),
			Accept: []finding.Code{finding.TargetInMemory}}))
	}, false, false},
	{"restore-links", onBasaltAlone, func(w *world) func() error {
		basalt, err := w.Drives.Of(w.at("basalt"))
		require.NoError(w, err)
		all, _, err := restore.MakePlan(ctx, w.Engine, &basalt,
			restore.Options{Accept: []finding.Code{finding.OutsideHome}})
		if err == nil && len(all) != 1 {
			err = errors.New("the note was not found")
		}
		return w.planned(err, func() *plan.Plan { return all[0].ToRun() })
	}, false, false},
	{"pack", nil, func(w *world) func() error {
		return w.does(pack.PlanPack(ctx, w.Engine, pack.Options{Folder: w.at("skerry/Charts"),
			File: w.at("basalt/charts.tar.zst"), Accept: []finding.Code{finding.TargetInMemory}}))
	}, true, false},
	{"ahead", nil, func(w *world) func() error {
		return w.does(ahead.MakePlan(ctx, w.Engine, planning.MoveOptions{Folder: w.at("skerry/deep/er/Tides"),
			Into: w.at("basalt/ines"), Accept: []finding.Code{finding.TargetInMemory}}))
	}, false, false},
	{"pack of a redirect", onBasalt, func(w *world) func() error {
		return w.does(pack.PlanPack(ctx, w.Engine, pack.Options{Folder: w.at("basalt/ines/Charts"), Name: "charts",
			File: w.at("dune/charts.tar.zst"), Accept: []finding.Code{finding.TargetInMemory}}))
	}, true, false},
	{"unpack", func(w *world) {
		w.did(w.does(pack.PlanPack(ctx, w.Engine, pack.Options{Folder: w.at("skerry/Charts"),
			File: w.at("basalt/charts.tar.zst"), Accept: []finding.Code{finding.TargetInMemory}})))
	}, func(w *world) func() error {
		return w.does(pack.PlanUnpack(w.Engine, pack.Options{File: w.at("basalt/charts.tar.zst"), Into: w.at("dune"),
			Accept: []finding.Code{finding.TargetInMemory}}))
	}, true, false},
	{"move-together", nil, func(w *world) func() error { return w.together(nil) }, false, false},
	{"move-together with steps and a fact", func(w *world) {
		require.NoError(w, os.WriteFile(w.at("dune/service"), []byte("runs"), 0o644))
	}, func(w *world) func() error {
		service := func(does string) run.Step {
			return run.Step{Args: []string{"sh", "-c", "printf " + does + " > " + w.at("dune/service")}, Within: time.Minute}
		}
		return w.together(&plan.Group{Before: []run.Step{service("rests")}, After: []run.Step{service("runs")},
			Facts: []run.Fact{{Name: "weather", Args: []string{"cat", w.at("skerry/Logs/day")}, Within: time.Minute}}})
	}, false, false},
	{"move onto an empty folder", func(w *world) {
		require.NoError(w, os.MkdirAll(w.at("basalt/ines/Charts"), 0o755))
		require.NoError(w, os.Chmod(w.at("basalt/ines/Charts"), 0o750))
	}, movingWith(planning.MoveOptions{}), false, false},
	{"move with a link that leads out", func(w *world) {
		require.NoError(w, os.Symlink("../Logs/day", w.at("skerry/Charts/deep/day")))
	}, movingWith(planning.MoveOptions{InnerLinks: plan.RewriteLinks}), false, false},
	{"move that starts empty", nil, movingWith(planning.MoveOptions{StartEmpty: true}), false, false},
	{"move that merges", func(w *world) {
		lab.Tree{"basalt/ines/Charts/coast: of another machine", "basalt/ines/Charts/deep/shoal: a shoal"}.Make(w, w.dir)
	}, movingWith(planning.MoveOptions{Merge: true, Accept: []finding.Code{finding.MergeConflict}}), false, false},
	{"move by a setting", func(w *world) {
		lab.Tree{"skerry/settings.toml: folder = \"" + w.at("skerry/Charts") + "\""}.Make(w, w.dir)
	}, func(w *world) func() error {
		return movingWith(planning.MoveOptions{By: []string{plan.BySetting}, Places: []setting.Place{{
			File: w.at("skerry/settings.toml"), Format: setting.TOML, At: "/folder"}}})(w)
	}, false, false},
	{"bring-back of what was worked on with what is held", func(w *world) {
		onBasalt(w)
		require.NoError(w, os.WriteFile(w.at("basalt/ines/Charts/coast"), []byte("another coast"), 0o644))
		require.NoError(w, os.WriteFile(w.at("basalt/ines/Charts/deep/shoal"), []byte("a shoal"), 0o644))
	}, bringBack(planning.BackOptions{UseHeld: true}), false, true},
	{"bring-back of what changes meanwhile with what is held", onBasalt, func(w *world) func() error {
		do := bringBack(planning.BackOptions{UseHeld: true})(w)
		require.NoError(w, os.WriteFile(w.at("basalt/ines/Charts/deep/reef"), []byte("the reef, surveyed again"), 0o644))
		return do
	}, false, true},
	{"bring-back with what is held and has gone bad", func(w *world) {
		onBasalt(w)
		spool, err := w.SpoolOf(w.charts().Run)
		require.NoError(w, err)
		for c := transfer.Read(spool); c.Peek() != nil; c.Next() {
			if r := *c.Peek(); r.Path == "deep/reef" {
				r.Fact.Sum[0] ^= 1 // as if the bits on the drive were other ones
				require.NoError(w, spool.Put(r.Ord, &r.Fact))
			}
		}
		require.NoError(w, spool.Close())
	}, bringBack(planning.BackOptions{UseHeld: true}), false, true},
	{"handover", brood, handsOver, false, false},
	{"handover by archives that the engine alone reads", func(w *world) {
		brood(w)
		require.NoError(w, os.WriteFile(w.at("dune/odd"), nil, 0o644))
	}, handsOver, false, false},
	{"handover home", func(w *world) {
		brood(w)
		w.did(handsOver(w))
	}, func(w *world) func() error {
		return w.does(handover.PlanHandoverBack(ctx, w.Engine, w.charts(), planning.BackOptions{
			Accept: []finding.Code{finding.TargetInMemory}}))
	}, false, false},
	renaming,
}

// together moves two folders as one, with what a card says beside them; nil without one.
func (w *world) together(says *plan.Group) func() error {
	w.Helper()
	var plans []*plan.Plan
	for _, folder := range []string{"skerry/Charts", "skerry/Logs"} {
		p, err := onto(folder, "basalt/ines", planning.MoveOptions{})(w)
		if err != nil {
			return w.planned(err, nil)
		}
		plans = append(plans, p)
	}
	t := plan.NewGroup(plan.KindMoveTogether, "both", plans)
	if says != nil {
		t.Group.Before, t.Group.After, t.Group.Facts = says.Before, says.After, says.Facts
	}
	return w.does(t, nil)
}

// movingWith moves the folder with these options.
func movingWith(o planning.MoveOptions) func(w *world) func() error {
	return func(w *world) func() error {
		w.Helper()
		return w.does(onto("skerry/Charts", "basalt/ines", o)(w))
	}
}

func bringBack(o planning.BackOptions) func(w *world) func() error {
	return func(w *world) func() error { return w.does(redirect.PlanBringBack(ctx, w.Engine, w.charts(), o)) }
}

func discarding(w *world) func() error {
	d, err := discard.MakePlan(ctx, w.Engine, w.charts(), discard.Options{})
	return w.planned(err, func() *plan.Plan { return d.ToRun() })
}

func mending(w *world) func() error {
	return w.does(mend.MakePlan(ctx, w.Engine, w.charts(), mend.Options{}))
}
