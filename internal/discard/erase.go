package discard

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/archive"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/judge"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// ToRun is the plan of the run that deletes what of the held originals may go: first what was
// written to them late is brought over, then both sides are judged again if it was.
func (d *Plan) ToRun() *plan.Plan {
	r := d.Redirect
	now := time.Now()
	return &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindDiscard, Made: now, Name: r.Name,
			Before: &r, Accepted: d.Options.Accept},
		Route:      plan.Route{Link: r.Link, Target: r.Target},
		Discarding: plan.Discarding{OnlyEqual: d.Options.OnlyEqual, HeldOf: d.Options.Run},
		Seen:       plan.Seen{Findings: d.Findings, Judged: d},
	}
}

// A KeptError ends a move that is done, but whose original could not be
// discarded as was asked for.
type KeptError struct {
	Name string
	Link string
	Err  error // why: a *RefusedError as a rule
}

func (e *KeptError) Error() string { return "the original was not discarded: " + e.Err.Error() }
func (e *KeptError) Unwrap() error { return e.Err }

// A discarding deletes what is held.
type discarding struct {
	execute.Basics
	broughtOver bool // late writes were
	room        []room
}

// room is a drive and what was free on it before the run.
type room struct {
	drive  drive.Drive
	before int64
}

// An EndedError reports a discard that was to be finished and could not be: what is there
// by now wants consents that it was not given. It has ended: what it had deleted stays
// deleted, and the rest is held as before.
type EndedError struct {
	Run  string
	Name string // of the redirect
	Err  error  // a *RefusedError with what stands in the way
}

func (e *EndedError) Error() string {
	return "run " + e.Run + " is ended, since by now something stands in its way: " + e.Err.Error()
}
func (e *EndedError) Unwrap() error { return e.Err }

// Forward deletes what was judged. It finishes a discard that was stopped, or ends it where
// that wants to be asked anew; the error is an *EndedError then.
func (m *discarding) Forward(ctx context.Context) error {
	if d, ok := m.Plan.Judged.(*Plan); ok {
		return m.discard(ctx, d)
	}
	err := m.goOn(ctx)
	var refused *plan.RefusedError
	if !errors.As(err, &refused) || refused.OnlyAway() || refused.OnlyBusy() {
		return err
	}
	if berr := m.Back(ctx); berr != nil {
		return errors.Join(err, berr)
	}
	return &EndedError{m.Plan.Run, m.Plan.Name, refused}
}

// Ended leaves a run that has ended as it is. Once late writes were brought over, or the run
// was stopped before, it is no refusal without a trace.
func (m *discarding) Ended(err error) error {
	if ended := (*EndedError)(nil); errors.As(err, &ended) {
		m.Out.State = ledger.Undone
		return err
	}
	if refused := (*plan.RefusedError)(nil); errors.As(err, &refused) && !m.broughtOver && !m.Again {
		m.Out.State = ledger.Refused
		return errors.Join(err, m.Run.Set(ledger.Refused, err.Error(), nil))
	}
	return m.SetStopped(err)
}

// goOn judges anew what is still there, with the consents that were given.
func (m *discarding) goOn(ctx context.Context) error {
	r, err := m.Ledger.Redirect(m.Plan.Name)
	if errors.Is(err, ledger.ErrNotFound) {
		return m.Run.Set(ledger.Done, "", nil)
	}
	if err != nil {
		return err
	}
	d, err := MakePlan(ctx, m.Engine, r, Options{m.Plan.Accepted, m.Plan.OnlyEqual, m.Plan.HeldOf})
	if err != nil {
		return err
	}
	if len(d.Verdicts) == 0 && len(d.Findings) == 1 && d.Findings[0].Code == finding.HeldMissing {
		return m.Run.Set(ledger.Done, "", nil)
	}
	if len(finding.Blockers(d.Findings)) > 0 {
		return &plan.RefusedError{Findings: d.Findings}
	}
	return m.discard(ctx, d)
}

// Back ends a discard that was stopped: what it had deleted stays deleted,
// and the rest is held as before. It needs no drive to be here.
func (m *discarding) Back(ctx context.Context) error {
	if done, err := m.Finished("late-writes"); err != nil {
		return err
	} else if !done {
		if err := m.dropLate(ctx); err != nil {
			return err
		}
	}
	return m.Run.Set(ledger.Undone, "", nil)
}

// dropLate removes what bringing a late write over left half made in the folder
// in use, if that can be reached.
func (m *discarding) dropLate(ctx context.Context) error {
	r, err := m.Ledger.Redirect(m.Plan.Name)
	if err != nil {
		return err
	}
	if away, err := isLiveAway(m.Engine, &Plan{Redirect: r}); away || err != nil {
		return err
	}
	path, _ := r.Live()
	live, err := handle.OpenReal(path)
	if handle.Absent(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer live.Release()
	l := &late.Writes{Scratch: naming.Late(m.Plan.Run), Job: &transfer.Job{}}
	return inventory.Walk(ctx, live, inventory.VisitorFunc(func(e *inventory.Entry) error {
		if !e.Stat.IsDir() {
			return nil
		}
		return l.Tidy(e.Self)
	}))
}

func (m *discarding) discard(ctx context.Context, d *Plan) error {
	m.InPhase("discard")
	if err := m.lockHeld(d); err != nil {
		return err
	}
	m.spaceOf(d)
	late := false
	for _, v := range d.Verdicts {
		if v.Late != nil && (len(v.Late.Brought) > 0 || v.Late.Touched > 0) {
			late, m.broughtOver = true, true
			if err := m.bringOver(ctx, d, v); err != nil {
				return err
			}
		}
	}
	if late {
		again, err := MakePlan(ctx, m.Engine, d.Redirect, d.Options)
		if err != nil {
			return err
		}
		if len(finding.Blockers(again.Findings)) > 0 {
			return &plan.RefusedError{Findings: again.Findings}
		}
		d = again
	}
	for _, v := range d.Verdicts {
		if err := m.erase(ctx, d, v); err != nil {
			return err
		}
	}
	m.spaceAfter()
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		// A redirect that was brought back is kept for its held originals only.
		if d.Redirect.State != ledger.Ended || m.anythingHeld(d) {
			return nil
		}
		return t.RemoveRedirect(d.Redirect.Name)
	})
}

// lockHeld locks what is about to be deleted, and the folder in use that it is
// held against (I7).
func (m *discarding) lockHeld(d *Plan) error {
	type place struct {
		path string
		on   ledger.DriveRef
	}
	_, on := d.Redirect.Live()
	all := []place{{d.Live, on}}
	for _, v := range d.Verdicts {
		if !v.File {
			all = append(all, place{v.Held.Path, v.Held.Drive})
		}
	}
	for _, at := range all {
		path := at.path
		dir, err := m.OpenOn(path, at.on)
		if handle.Missing(err) {
			continue
		}
		if err != nil {
			return err
		}
		m.Locks = append(m.Locks, dir)
		if err := dir.Lock(true); handle.IsLocked(err) {
			return execute.RefuseBusy(m.Plan.Name, path)
		} else if err != nil {
			return err
		}
	}
	return nil
}

func (m *discarding) anythingHeld(d *Plan) bool {
	return slices.ContainsFunc(d.Verdicts, func(v *judge.Verdict) bool { return v.Left })
}

// bringOver brings late writes to the live folder and takes them into the
// records of the run that holds them.
func (m *discarding) bringOver(ctx context.Context, d *Plan, v *judge.Verdict) error {
	return m.Act(ctx, "late-writes", v.Held.Path, func() error {
		held, err := m.OpenOn(v.Held.Path, v.Held.Drive)
		if err != nil {
			return err
		}
		defer held.Release()
		_, on := d.Redirect.Live()
		if v.Live != d.Live { // a half, beside the link
			on = ledger.DriveRef{}
		}
		live, err := m.OpenOn(v.Live, on)
		if err != nil {
			return err
		}
		defer live.Release()
		spool, err := m.SpoolOf(v.Held.Run)
		if err != nil {
			return err
		}
		defer spool.Close()
		planned, err := plan.OfRun(m.Ledger, v.Held.Run)
		if err != nil {
			return err
		}
		job, err := execute.LateJob(m.Engine, planned, engine.SideOf(v.Held))
		if err != nil {
			return err
		}
		l := &late.Writes{Held: held, Live: live, LivePath: v.Live, Spool: spool, Side: engine.SideOf(v.Held), Job: job,
			Scratch: naming.Late(m.Plan.Run), Unstable: v.Held.Ino == 0}
		if l.Erasing, err = isErasing(m.Engine, v.Held); err != nil {
			return err
		}
		if err := l.Walk(ctx); err != nil {
			return err
		}
		m.Out.Findings = append(m.Out.Findings, l.Findings(d.Redirect.Name, v.Held.Path, true)...)
		next, err := m.AmendRecords(ctx, v.Held.Run, planned.Digest, live, spool, l.Changes)
		if err != nil {
			return err
		}
		return next.Close()
	}, nil)
}

// isErasing reports whether a discard has begun to delete this held original,
// also if it was reached by another path then.
func isErasing(e *engine.Engine, h ledger.Held) (bool, error) {
	acts, err := e.Ledger.ActsOf(h.Redirect, "erase")
	if err != nil {
		return false, err
	}
	for _, a := range acts {
		var path string
		if err := pathtext.Unmarshal(a.Data, &path); err != nil {
			return false, err
		}
		if path == h.Path || filepath.Base(path) == filepath.Base(h.Path) && strings.HasSuffix(h.Path, ".held-"+h.Run) {
			return true, nil
		}
	}
	return false, nil
}

func (m *discarding) erase(ctx context.Context, d *Plan, v *judge.Verdict) error {
	h := v.Held
	parent, err := m.OpenOn(filepath.Dir(h.Path), h.Drive)
	if err != nil {
		return err
	}
	defer parent.Release()
	gone := func(t *ledger.Tx) error {
		if v.Left {
			return t.ResizeHeld(v.Held)
		}
		return t.HeldGone(h.Run, h.Path)
	}
	return m.Act(ctx, "erase", h.Path, func() error {
		if v.File {
			return handle.Flushed(handle.IgnoreMissing(parent.Unlink(filepath.Base(h.Path))), parent)
		}
		if v.Bare {
			return m.eraseWhole(ctx, d, v, parent)
		}
		if v.Codes == nil { // it was gone before we came
			return nil
		}
		spool, err := m.SpoolOf(h.Run)
		if err != nil {
			return err
		}
		defer spool.Close()
		v.Left, err = transfer.Erase(parent, filepath.Base(h.Path), engine.SideOf(h), spool,
			func(r *transfer.Record) bool {
				return ctx.Err() == nil && v.MayGo(r, d.accepted)
			})
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		if v.Left && !d.Options.OnlyEqual {
			m.Out.Findings = append(m.Out.Findings, finding.New(finding.LateWrite, h.Path,
				"entries of the held original changed while it was being deleted; they are still there").Named(
				m.Plan.Name))
		}
		if v.Left {
			if err := m.remains(ctx, v, parent); err != nil {
				return err
			}
		}
		return parent.Sync()
	}, gone)
}

// remains measures what stays held.
func (m *discarding) remains(ctx context.Context, v *judge.Verdict, parent *handle.Dir) error {
	held, err := parent.Beneath(filepath.Base(v.Held.Path))
	if err != nil {
		return err
	}
	defer held.Release()
	if err := execute.MeasureHeld(ctx, m.Run, held, &v.Held); err != nil {
		return err
	}
	m.Out.Remains = append(m.Out.Remains, v.Held)
	return nil
}

// eraseWhole deletes what was held without being copied, once a person has
// accepted that it is the only copy.
func (m *discarding) eraseWhole(ctx context.Context, d *Plan, v *judge.Verdict, parent *handle.Dir) error {
	if v.Cases != nil && !d.accepted[finding.NeverCopied] {
		v.Left = true // --only-equal: nothing of it is proven
		m.Out.Remains = append(m.Out.Remains, v.Held)
		return nil
	}
	base := filepath.Base(v.Held.Path)
	st, err := parent.Stat(base)
	if err != nil {
		return handle.IgnoreMissing(err)
	}
	if !plan.IsFolder(&st, v.Held.Ino) {
		return swap.Broken(v.Held.Path, "it is another folder than the one that was held")
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return handle.Flushed(archive.Remove(parent, base), parent)
}

// spaceOf notes the room of the drives that hold something.
func (m *discarding) spaceOf(d *Plan) {
	for _, v := range d.Verdicts {
		now, err := m.Drives.Of(filepath.Dir(v.Held.Path))
		if err != nil || slices.ContainsFunc(m.room, func(o room) bool { return o.drive.Same(&now) }) {
			continue
		}
		m.room = append(m.room, room{now, now.Free})
	}
}

func (m *discarding) spaceAfter() {
	for i := range m.room {
		if r := &m.room[i]; m.Drives.Refresh(&r.drive) == nil {
			m.Out.Space = append(m.Out.Space,
				plan.Space{Drive: r.drive.Name(), FreeBefore: r.before, FreeAfter: r.drive.Free,
					Size: r.drive.Size})
		}
	}
}

// checkArchived adds what stands in the way of discarding a held archive: it has
// to be the one that was proven, and to have been held against the store it came
// from and the one that was made from it. What an older build did not compare is
// compared with the store in use now.
func checkArchived(ctx context.Context, e *engine.Engine, d *Plan, v *judge.Verdict, acts []ledger.Act) error {
	about := finding.Subject{Name: d.Redirect.Name}
	h := v.Held
	way := ""
	if planned, err := plan.OfRun(e.Ledger, h.Run); err != nil {
		return err
	} else if h.Path == filepath.Join(planned.Into, planned.Held+"-back") {
		way = "-back"
	}
	has := func(name string) bool {
		return slices.ContainsFunc(acts, func(a ledger.Act) bool { return a.Name == name+way && !a.Done.IsZero() })
	}
	f, err := handle.OpenRegular(h.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	x, known, err := archive.IndexOf(ctx, f, e.Ledger.Dir())
	var damage *archive.DamageError
	if errors.As(err, &damage) {
		d.Findings = append(d.Findings, finding.New(finding.LedgerBroken, h.Path, "%s", damage).About(about))
		return nil
	}
	if err != nil || !known {
		return err
	}
	defer x.Close()
	if has("compared-out") && has("compared-in") {
		return nil
	}
	live, err := handle.OpenReal(d.Live)
	if err != nil {
		return err
	}
	defer live.Release()
	got, err := x.Compare(ctx, live)
	if err != nil {
		return err
	}
	for _, c := range []struct {
		code finding.Code
		n    int64
		text string
	}{
		{finding.GoneAtTarget, got.More, "%s of the archive not in the store at %s; the archive is the last copy"},
		{finding.ChangedSince, got.Changed, "%s of the archive with other content in the store at %s"},
	} {
		if c.n == 0 {
			continue
		}
		f := finding.New(c.code, h.Path, c.text, pathtext.Entries(c.n), d.Live).About(about).As(finding.Blocker)
		if d.accepted[c.code] {
			f = f.As(finding.Info)
		}
		d.Findings = append(d.Findings, f)
	}
	return nil
}

// Discarding is the job of a discard.
func Discarding(m *execute.Execution) execute.Job {
	return &discarding{Basics: execute.Basics{Execution: m}}
}
