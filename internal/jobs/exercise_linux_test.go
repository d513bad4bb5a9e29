//go:build faults && linux

package jobs

import (
	"context"
	"path/filepath"
	"time"

	"nexlin/internal/execute"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/swap"
)

// renaming is an exercise: a kind of run that no program has, and that the common matrix
// stops like all others. It gives a target another name on its drive.
var renaming = story{"rename-target", onBasalt, func(w *world) func() error {
	r := w.charts()
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: kindRename, Name: r.Name, Made: now, UID: r.UID,
			Account: r.Account, Before: &r},
		Route: plan.Route{Link: r.Link, From: r.Target, Into: filepath.Dir(r.Target), Final: "Seen from the sea",
			IntoDrive: r.Drive, OldText: r.LinkText()},
	}
	p.Target, p.LinkText = p.Copy(), p.Copy()
	return w.does(p, nil)
}, false, false}

const kindRename = "rename-target"

func init() {
	execute.Register(kindRename, func(m *execute.Execution) execute.Job {
		return &rename{execute.Basics{Execution: m}}
	})
}

type rename struct{ execute.Basics }

func (j *rename) Open() error { return j.OpenMended(true) }

func (j *rename) Forward(ctx context.Context) error {
	return j.lead(ctx, "rename", filepath.Base(j.Plan.From), j.Plan.Final, j.Plan.OldText, j.Plan.LinkText,
		func(t *ledger.Tx) error {
			after := *j.Plan.Before
			after.Target = j.Plan.Target
			return t.SaveRedirect(after)
		}, ledger.Done)
}

func (j *rename) Back(ctx context.Context) error {
	return j.lead(ctx, "rename-back", j.Plan.Final, filepath.Base(j.Plan.From), j.Plan.LinkText, j.Plan.OldText,
		func(t *ledger.Tx) error { return t.SaveRedirect(*j.Plan.Before) }, ledger.Undone)
}

func (j *rename) lead(ctx context.Context, act, from, to, was, says string, save func(*ledger.Tx) error,
	end string) error {
	err := j.Act(ctx, act, to, func() error {
		if err := swap.Rename(j.Into, from, j.Into, to); handle.IgnoreMissing(err) != nil {
			return err // that it is gone from there was done before a stop
		}
		return j.Into.Sync()
	}, nil)
	if err == nil {
		err = j.Act(ctx, act+"-link", says, func() error { return j.LinkPlace().Lead(was, says) }, nil)
	}
	if err != nil {
		return err
	}
	return j.Run.Set(end, "", save)
}
