package redirect

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// A DiscardPlan says of every held original of a redirect whether it may go.
type DiscardPlan struct {
	Redirect ledger.Redirect
	Live     string // where the data is in use now
	Verdicts []*Verdict
	Findings []finding.Finding
	Options  DiscardOptions
	accepted map[finding.Code]bool
}

// DiscardOptions says what of the held originals may go.
type DiscardOptions struct {
	Accept    []finding.Code
	OnlyEqual bool   // only what is proven equal
	Run       string // only what this run holds; empty: all
}

// Frees is how many bytes the discard gives back, as far as it may go.
func (d *DiscardPlan) Frees() (n int64) {
	for _, v := range d.Verdicts {
		frees := v.Frees
		for code, l := range v.cases {
			if d.accepted[code] {
				frees += l.frees
			}
		}
		n += min(frees, v.Held.Bytes) // sizes count holes, the drive does not
	}
	return n
}

// PlanDiscard holds every held original of a redirect and the live folder
// against the manifest frozen at the switch, reading all of the live side.
// It changes nothing.
func (e *Engine) PlanDiscard(ctx context.Context, r ledger.Redirect, o DiscardOptions) (*DiscardPlan, error) {
	d := &DiscardPlan{Redirect: r, Options: o, accepted: map[finding.Code]bool{}}
	for _, c := range o.Accept {
		if finding.Acceptable(c) {
			d.accepted[c] = true
		}
	}
	d.accepted[finding.ChangedQuiet] = d.accepted[finding.ChangedSince]
	held, err := e.Ledger.HeldOf(r.Name)
	if err != nil {
		return nil, err
	}
	held = slices.DeleteFunc(held, func(h ledger.Held) bool { return o.Run != "" && h.Run != o.Run })
	d.Live = r.Target
	if r.State == ledger.Ended {
		d.Live = r.Link
	}
	if len(held) == 0 {
		f := finding.New(finding.HeldMissing, d.Live, "nothing is held of "+r.Name, subject(r.Name, "", ""))
		f.Remedy = "nothing needs doing"
		d.Findings = append(d.Findings, f.As(finding.Blocker))
		return d, nil
	}
	if away, err := e.liveAway(d); away || err != nil {
		return d, err
	}
	live, err := handle.OpenReal(d.Live)
	if err != nil {
		f := finding.New(finding.TargetMissing, d.Live, fmt.Sprintf("the folder in use, %s, can't be opened: %v", pathtext.Show(d.Live), cause(err)), subject(r.Name, "", ""))
		d.Findings = append(d.Findings, f.As(finding.Blocker))
		return d, nil
	}
	defer live.Release()
	// What is proven has to be on the device, and is read from there (I2).
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	if e.Progress != nil {
		e.Progress.Phase("compare", r.Files*int64(len(held)), r.Bytes*int64(len(held)))
	}
	for _, h := range held {
		if err := e.judgeHeld(ctx, d, h, live); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func (e *Engine) liveAway(d *DiscardPlan) (bool, error) {
	r := &d.Redirect
	if r.State == ledger.Ended {
		return false, nil
	}
	p := Plan{Name: r.Name}
	err := e.present(&p, r.Drive, r.Target)
	d.Findings = append(d.Findings, p.Findings...)
	return len(p.Findings) > 0, err
}

func (e *Engine) judgeHeld(ctx context.Context, d *DiscardPlan, h ledger.Held, live *handle.Dir) error {
	v := &Verdict{Held: h}
	d.Verdicts = append(d.Verdicts, v)
	about := subject(d.Redirect.Name, h.Drive.Label, "")
	if _, found, err := e.Locate(h.Drive, h.Path); err != nil {
		return err
	} else if !found {
		d.Findings = append(d.Findings, finding.New(finding.DriveAway, h.Path, fmt.Sprintf("%s is not here, and %s lies on it", h.Drive.Label, pathtext.Show(h.Path)), about))
		return nil
	}
	held, err := handle.OpenReal(h.Path)
	if missing(err) {
		f := finding.New(finding.HeldMissing, h.Path, pathtext.Show(h.Path)+" is not there any more", about)
		f.Severity, f.Remedy = finding.Info, "the record of it is closed"
		d.Findings = append(d.Findings, f)
		return nil
	}
	if err != nil {
		return err
	}
	defer held.Release()
	if st, err := held.Self(); err != nil {
		return err
	} else if !isDir(&st, h.Ino) {
		d.Findings = append(d.Findings, finding.New(finding.DriveDoubtful, h.Path, pathtext.Show(h.Path)+" is another folder than the one that was held", about))
		return nil
	}
	if used, err := inuse.Below(ctx, h.Path); err != nil {
		return err
	} else if len(used.Holders) > 0 {
		d.Findings = append(d.Findings, finding.New(finding.HeldInUse, h.Path, fmt.Sprintf("%s is in use: %s", pathtext.Show(h.Path), programs(used.Holders)), about))
	}
	spool, err := e.spoolOf(h.Run)
	if err == nil {
		defer spool.Close()
		v.late = &lateWrites{held: held, live: live, livePath: d.Live, spool: spool, side: sideOf(h), lookOnly: true, fuse: h.Ino == 0}
		if v.late.erasing, err = e.erasing(h); err != nil {
			return err
		}
		plan, planErr := e.planOfRun(h.Run)
		if planErr != nil {
			return planErr
		}
		v.late.job = plan.lateJob(sideOf(h))
		if err = v.late.walk(ctx); err == nil {
			err = v.judgeAll(ctx, live, d.Live, e.Ledger.RunDir(h.Run), spool, e.Progress)
		}
	}
	v.late.forget()
	if recordBroken(err) {
		d.Findings = append(d.Findings, finding.New(finding.LedgerBroken, h.Path, err.Error(), about))
		return nil
	}
	if err != nil {
		return err
	}
	d.Findings = append(d.Findings, v.late.findings(d.Redirect.Name, h.Path, false)...)
	d.cases(v)
	return nil
}

// cases turns what is not proven into findings: blockers until a person
// accepts them, or asks that only what is equal goes.
func (d *DiscardPlan) cases(v *Verdict) {
	says := []struct {
		code finding.Code
		text string
	}{
		{finding.Rot, "at %s: other content than was verified, or unreadable, and nothing says that anybody wrote there"},
		{finding.ChangedSince, "changed since the switch at %s; the held original has the old content"},
		{finding.ChangedQuiet, "changed at %s under the same modification time"},
		{finding.GoneAtTarget, "no longer at %s; the held original is the last copy"},
	}
	for _, s := range says {
		f, any := v.told(s.code, s.text, d.Live, subject(d.Redirect.Name, "", ""))
		if !any {
			continue
		}
		switch {
		case s.code == finding.Rot:
			f.Severity = finding.Blocker
		case d.accepted[s.code]:
			f.Severity = finding.Info
		case d.Options.OnlyEqual:
			f.Severity, f.Remedy = finding.Info, "they stay held"
		default:
			f.Severity = finding.Blocker
		}
		d.Findings = append(d.Findings, f)
	}
}

func entryCount(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// Consents lists the codes whose acceptance would let the discard go on, if
// nothing else stands in the way; nil otherwise.
func (d *DiscardPlan) Consents() []finding.Code {
	var out []finding.Code
	for _, f := range finding.Blockers(d.Findings) {
		if !finding.Acceptable(f.Code) {
			return nil
		}
		out = append(out, f.Code)
	}
	return out
}

// spoolOf opens the spool that describes what a run made. There are two only
// while one takes the other's place: then it is the one that the frozen
// manifest agrees with.
func (e *Engine) spoolOf(run string) (*transfer.Spool, error) {
	dir := e.Ledger.RunDir(run)
	all := transfer.Spools(dir)
	if len(all) == 0 {
		return nil, &transfer.SpoolError{File: dir, Err: errors.New("there is none")}
	}
	for _, n := range slices.Backward(all[1:]) {
		s, err := transfer.OpenSpool(dir, n)
		if err != nil {
			return nil, err
		}
		if agree(dir, s, func() {}) == nil {
			return s, nil
		}
		_ = s.Close() // only read
	}
	return transfer.OpenSpool(dir, all[0])
}

// Discard deletes what of the held originals may go: first what was written
// to them late is brought over, then both sides are judged again if it was.
func (e *Engine) Discard(ctx context.Context, d *DiscardPlan) (*Outcome, error) {
	if len(finding.Blockers(d.Findings)) > 0 {
		return nil, &RefusedError{d.Findings}
	}
	r := d.Redirect
	now := time.Now()
	p := &Plan{
		Run: ledger.NewRunID(now), Kind: KindDiscard, Made: now, Name: r.Name, Before: &r,
		Link: pathtext.Path(r.Link), Target: pathtext.Path(r.Target), Accepted: d.Options.Accept, OnlyEqual: d.Options.OnlyEqual, HeldOf: d.Options.Run,
	}
	run, err := e.Ledger.Begin(p.Run, p.Kind, p.Name, p)
	if err != nil {
		return nil, err
	}
	defer run.Release()
	m := &mover{Engine: e, p: p, run: run, out: &Outcome{Run: p.Run, Kind: p.Kind, Plan: p, Findings: d.Findings}}
	defer m.close()
	err = m.discard(ctx, d)
	// Once late writes were brought over it is no refusal without a trace.
	if refused := (*RefusedError)(nil); errors.As(err, &refused) && !m.broughtOver {
		return nil, errors.Join(err, run.Set(ledger.Refused, err.Error(), nil))
	}
	return m.out, m.stopped(err)
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

// discardAfter discards the original of a move that is done.
func (e *Engine) discardAfter(ctx context.Context, out *Outcome) error {
	p := out.Plan
	r, err := e.Ledger.Redirect(p.Name)
	if err == nil {
		var d *DiscardPlan
		if d, err = e.PlanDiscard(ctx, r, DiscardOptions{Run: p.Run}); err == nil {
			out.Discarded, err = e.Discard(ctx, d)
		}
	}
	if out.Discarded != nil {
		for _, now := range out.Discarded.Space {
			for i := range out.Space {
				if out.Space[i].Drive == now.Drive {
					out.Space[i].FreeAfter = now.FreeAfter
				}
			}
		}
	}
	var stopped *StoppedError
	if err != nil && !errors.As(err, &stopped) {
		err = &KeptError{p.Name, string(p.Link), err}
	}
	return err
}

// discardAgain finishes a discard that was stopped: it judges anew what is
// still there, with the consents that were given.
func (m *mover) discardAgain(ctx context.Context) error {
	r, err := m.Ledger.Redirect(m.p.Name)
	if errors.Is(err, ledger.ErrNotFound) {
		return m.run.Set(ledger.Done, "", nil)
	}
	if err != nil {
		return err
	}
	d, err := m.PlanDiscard(ctx, r, DiscardOptions{m.p.Accepted, m.p.OnlyEqual, m.p.HeldOf})
	if err != nil {
		return err
	}
	if len(d.Verdicts) == 0 && len(d.Findings) == 1 && d.Findings[0].Code == finding.HeldMissing {
		return m.run.Set(ledger.Done, "", nil)
	}
	if len(finding.Blockers(d.Findings)) > 0 {
		return &RefusedError{d.Findings}
	}
	return m.discard(ctx, d)
}

func (m *mover) discard(ctx context.Context, d *DiscardPlan) error {
	m.phase = "discard"
	if err := m.lockHeld(d); err != nil {
		return err
	}
	m.spaceOf(d)
	late := false
	for _, v := range d.Verdicts {
		if v.late != nil && (len(v.late.brought) > 0 || v.late.touched > 0) {
			late, m.broughtOver = true, true
			if err := m.bringOver(ctx, d, v); err != nil {
				return err
			}
		}
	}
	if late {
		again, err := m.PlanDiscard(ctx, d.Redirect, d.Options)
		if err != nil {
			return err
		}
		if len(finding.Blockers(again.Findings)) > 0 {
			return &RefusedError{again.Findings}
		}
		d = again
	}
	for _, v := range d.Verdicts {
		if err := m.erase(ctx, d, v); err != nil {
			return err
		}
	}
	m.spaceAfter()
	return m.run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		// A redirect that was brought back is kept for its held originals only.
		if d.Redirect.State != ledger.Ended || m.anythingHeld(d) {
			return nil
		}
		return t.RemoveRedirect(d.Redirect.Name)
	})
}

// lockHeld locks what is about to be deleted, and the folder in use that it is
// held against (I7).
func (m *mover) lockHeld(d *DiscardPlan) error {
	all := []string{d.Live}
	for _, v := range d.Verdicts {
		all = append(all, v.Held.Path)
	}
	for _, path := range all {
		dir, err := m.openReal(path)
		if missing(err) {
			continue
		}
		if err != nil {
			return err
		}
		m.locks = append(m.locks, dir)
		if err := dir.Lock(true); isBusy(err) {
			return m.busy(path)
		} else if err != nil {
			return err
		}
	}
	return nil
}

func (m *mover) anythingHeld(d *DiscardPlan) bool {
	return slices.ContainsFunc(d.Verdicts, func(v *Verdict) bool { return v.left })
}

// bringOver brings late writes to the live folder and takes them into the
// records of the run that holds them.
func (m *mover) bringOver(ctx context.Context, d *DiscardPlan, v *Verdict) error {
	return m.act(ctx, "late-writes", pathtext.Path(v.Held.Path), func() error {
		held, err := m.openReal(v.Held.Path)
		if err != nil {
			return err
		}
		defer held.Release()
		live, err := m.openReal(d.Live)
		if err != nil {
			return err
		}
		defer live.Release()
		spool, err := m.spoolOf(v.Held.Run)
		if err != nil {
			return err
		}
		defer spool.Close()
		plan, err := m.planOfRun(v.Held.Run)
		if err != nil {
			return err
		}
		l := &lateWrites{held: held, live: live, livePath: d.Live, spool: spool, side: sideOf(v.Held), job: plan.lateJob(sideOf(v.Held)), tmp: lateName(m.p.Run), fuse: v.Held.Ino == 0}
		if l.erasing, err = m.erasing(v.Held); err != nil {
			return err
		}
		if err := l.walk(ctx); err != nil {
			return err
		}
		m.out.Findings = append(m.out.Findings, l.findings(d.Redirect.Name, v.Held.Path, true)...)
		next, err := m.amend(ctx, v.Held.Run, plan.Digest, live, spool, l.changes)
		if err != nil {
			return err
		}
		return next.Close()
	}, nil)
}

// amend takes changes into the spool and the frozen manifest of a run and
// returns the new spool. The old one goes last: it is the one that agrees with
// the frozen manifest until that is composed anew.
func (m *mover) amend(ctx context.Context, run string, digest transfer.Digest, live *handle.Dir, spool *transfer.Spool, changes []transfer.Record) (*transfer.Spool, error) {
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	dir := m.Ledger.RunDir(run)
	all := transfer.Spools(dir)
	next, err := transfer.Amend(spool, dir, all[len(all)-1]+1, changes)
	if err != nil {
		return nil, err
	}
	err = step(ctx, "amended")
	if err == nil {
		err = composeFrozen(dir, next, digest)
	}
	if err == nil {
		err = step(ctx, "frozen")
	}
	for _, n := range all {
		if err == nil {
			err = transfer.RemoveSpool(dir, n)
		}
	}
	if err != nil {
		return nil, errors.Join(err, next.Close())
	}
	return next, nil
}

// erasing reports whether a discard has begun to delete this held original.
func (e *Engine) erasing(h ledger.Held) (bool, error) {
	acts, err := e.Ledger.ActsOn("erase", pathtext.Path(h.Path))
	return len(acts) > 0, err
}

func (m *mover) erase(ctx context.Context, d *DiscardPlan, v *Verdict) error {
	h := v.Held
	parent, err := m.openReal(filepath.Dir(h.Path))
	if err != nil {
		return err
	}
	defer parent.Release()
	gone := func(t *ledger.Tx) error {
		if v.left {
			return nil
		}
		return t.HeldGone(h.Run, h.Path)
	}
	return m.act(ctx, "erase", pathtext.Path(h.Path), func() error {
		if v.codes == nil { // it was gone before we came
			return nil
		}
		spool, err := m.spoolOf(h.Run)
		if err != nil {
			return err
		}
		defer spool.Close()
		v.left, err = transfer.Erase(parent, filepath.Base(h.Path), sideOf(h), spool, func(r *transfer.Record) bool {
			return ctx.Err() == nil && v.mayGo(r, d.accepted)
		})
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
		if v.left && !d.Options.OnlyEqual {
			m.out.Findings = append(m.out.Findings, finding.New(finding.LateWrite, h.Path,
				"entries of the held original changed while it was being deleted; they are still there", subject(m.p.Name, "", "")))
		}
		return parent.Sync()
	}, gone)
}

// spaceOf notes the room of the drives that hold something.
func (m *mover) spaceOf(d *DiscardPlan) {
	for _, v := range d.Verdicts {
		now, err := m.Drives.Of(filepath.Dir(v.Held.Path))
		if err != nil || slices.ContainsFunc(m.room, func(o room) bool { return o.drive.Same(&now) }) {
			continue
		}
		m.room = append(m.room, room{now, now.Free})
	}
}

func (m *mover) spaceAfter() {
	for i := range m.room {
		if r := &m.room[i]; m.Drives.Refresh(&r.drive) == nil {
			m.out.Space = append(m.out.Space, Space{r.drive.Name(), r.before, r.drive.Free})
		}
	}
}
