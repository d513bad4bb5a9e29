// Package discard deletes held originals, once they are proven to be there a second time.
package discard

import (
	"context"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/judge"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
)

// A Plan says of every held original of a redirect whether it may go.
type Plan struct {
	Redirect ledger.Redirect
	Live     string // where the data is in use now
	Verdicts []*judge.Verdict
	Findings []finding.Finding
	Options  Options
	accepted map[finding.Code]bool
}

// Options says what of the held originals may go.
type Options struct {
	Accept    []finding.Code
	OnlyEqual bool   // only what is proven equal
	Run       string // only what this run holds; empty: all
}

// Frees is how many bytes the discard gives back, as far as it may go.
func (d *Plan) Frees() (n int64) {
	for _, v := range d.Verdicts {
		frees := v.Frees
		for code, l := range v.Cases {
			if d.accepted[code] {
				frees += l.Frees
			}
		}
		n += min(frees, v.Held.Bytes) // sizes count holes, the drive does not
	}
	return n
}

// MakePlan holds every held original of a redirect and the live folder
// against the manifest frozen at the switch, reading all of the live side.
// It changes nothing.
func MakePlan(ctx context.Context, e *engine.Engine, r ledger.Redirect, o Options) (*Plan, error) {
	d := &Plan{Redirect: r, Options: o, accepted: map[finding.Code]bool{}}
	for _, c := range o.Accept {
		if finding.Acceptable(c) {
			d.accepted[c] = true
		}
	}
	d.accepted[finding.ChangedQuiet] = d.accepted[finding.ChangedQuiet] || d.accepted[finding.ChangedSince]
	held, err := e.Ledger.HeldOf(r.Name)
	if err != nil {
		return nil, err
	}
	held = slices.DeleteFunc(held, func(h ledger.Held) bool { return o.Run != "" && h.Run != o.Run })
	d.Live, _ = r.Live()
	if d.Findings, err = execute.StoppedRunsOf(e, &r); err != nil || len(d.Findings) > 0 {
		return d, err
	}
	if len(held) == 0 {
		f := finding.New(finding.HeldMissing, d.Live, "nothing is held of %s", r.Name).Named(r.Name)
		f.Remedy = "nothing needs doing"
		d.Findings = append(d.Findings, f.As(finding.Blocker))
		return d, nil
	}
	if away, err := isLiveAway(e, d); away || err != nil {
		return d, err
	}
	live, err := handle.OpenReal(d.Live)
	if err != nil {
		f := finding.New(finding.TargetMissing, d.Live, "the folder in use, %s, can't be opened: %v", d.Live,
			handle.Cause(err)).Named(r.Name)
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
		if err := judgeHeld(ctx, e, d, h, live); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func isLiveAway(e *engine.Engine, d *Plan) (bool, error) {
	r := &d.Redirect
	if r.State == ledger.Ended {
		return false, nil
	}
	p := plan.Plan{Header: plan.Header{Name: r.Name}}
	err := planning.CheckPresent(e, &p, r.Drive, r.Target)
	d.Findings = append(d.Findings, p.Findings...)
	return len(p.Findings) > 0, err
}

func judgeHeld(ctx context.Context, e *engine.Engine, d *Plan, h ledger.Held, live *handle.Dir) error {
	v := &judge.Verdict{Held: h}
	d.Verdicts = append(d.Verdicts, v)
	about := finding.Subject{Name: d.Redirect.Name, Drive: h.Drive.Label}
	p := plan.Plan{Header: plan.Header{Name: d.Redirect.Name}}
	if err := planning.CheckPresent(e, &p, h.Drive, h.Path); err != nil || len(p.Findings) > 0 {
		d.Findings = append(d.Findings, p.Findings...)
		return err
	}
	if st, err := handle.Lstat(h.Path); err == nil && st.IsRegular() {
		return judgeArchive(ctx, e, d, v)
	}
	held, err := handle.OpenReal(h.Path)
	if handle.Missing(err) {
		f := finding.New(finding.HeldMissing, h.Path, "%s is not there any more", h.Path).About(about)
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
	} else if !plan.IsFolder(&st, h.Ino) {
		d.Findings = append(d.Findings, finding.New(finding.DriveDoubtful, h.Path,
			"%s is another folder than the one that was held", h.Path).About(about))
		return nil
	}
	if used, err := inuse.Below(ctx, h.Path); err != nil {
		return err
	} else if len(used.Holders) > 0 {
		d.Findings = append(d.Findings,
			finding.New(finding.HeldInUse, h.Path, "%s is in use: %s", h.Path,
				inuse.Programs(used.Holders)).About(about))
	}
	planned, err := plan.OfRun(e.Ledger, h.Run)
	if err != nil {
		return err
	}
	v.Live = d.Live
	if planned.Bare && !h.Copy {
		return judgeNeverCopied(ctx, e, d, v, held)
	}
	if half := planned.HalfOf(h); half != nil {
		defer half.Release()
		live, v.Live = half, half.Path()
	}
	v.Plan, v.Meta = planned, true
	err = holdAgainst(ctx, e, v, held, live)
	v.Late.LetGo()
	if engine.RecordBroken(err) {
		d.Findings = append(d.Findings, finding.New(finding.LedgerBroken, h.Path, "%s", err).About(about))
		return nil
	}
	if err != nil {
		return err
	}
	d.Findings = append(d.Findings, v.Late.Findings(d.Redirect.Name, h.Path, false)...)
	d.cases(v)
	return nil
}

// holdAgainst looks for late writes to what is held, and holds the live folder against what
// was recorded of it; both at once, since they lie on different drives. Where late writes
// are to be brought over first, the live folder is judged once more with that in mind.
func holdAgainst(ctx context.Context, e *engine.Engine, v *judge.Verdict, held, live *handle.Dir) error {
	h := v.Held
	spool, err := e.SpoolOf(h.Run)
	if err != nil {
		return err
	}
	defer spool.Close()
	l := &late.Writes{Held: held, Live: live, LivePath: v.Live, Spool: spool, Side: engine.SideOf(h),
		LookOnly: true,
		Unstable: h.Ino == 0}
	if l.Erasing, err = isErasing(e, h); err != nil {
		return err
	}
	if l.Job, err = execute.LateJob(e, v.Plan, engine.SideOf(h)); err != nil {
		return err
	}
	all := func(ctx context.Context) error {
		return v.JudgeAll(ctx, live, e.Ledger.RunDir(h.Run), spool, e.Progress, judge.Judging{})
	}
	before := *v
	group, both := errgroup.WithContext(ctx)
	group.Go(func() error { return l.Walk(both) })
	group.Go(func() error { return all(both) })
	if err := group.Wait(); err != nil {
		return err
	}
	if len(l.Brought) > 0 {
		*v = before
		v.Late = l
		if err := all(ctx); err != nil {
			return err
		}
	}
	v.Late = l
	if len(l.Gone) > 0 {
		v.LeaveOut(spool)
	}
	return nil
}

// judgeArchive is the verdict on a held archive: it may go once it was carried
// in and still reads to its end.
func judgeArchive(ctx context.Context, e *engine.Engine, d *Plan, v *judge.Verdict) error {
	h := v.Held
	acts, err := e.Ledger.Acts(h.Run)
	if err != nil {
		return err
	}
	carried := slices.ContainsFunc(acts, func(a ledger.Act) bool {
		return !a.Done.IsZero() && (strings.HasPrefix(a.Name, "carry-in") || strings.HasPrefix(a.Name, "carry-back"))
	})
	if !carried {
		d.Findings = append(d.Findings,
			finding.New(finding.LedgerBroken, h.Path, "the archive was never carried in").Named(d.Redirect.Name))
	} else if err := checkArchived(ctx, e, d, v, acts); err != nil {
		return err
	}
	v.File, v.Frees, v.Proven = true, h.Bytes, 1
	return nil
}

// Cases turns what is not proven into findings: blockers until a person
// accepts them, or asks that only what is equal goes.
func (d *Plan) cases(v *judge.Verdict) {
	says := []struct {
		code finding.Code
		text string
	}{
		{finding.Rot,
			"at %s: other content than was verified, or unreadable, and nothing says that anybody wrote there"},
		{finding.ChangedSince, "changed since the switch at %s; the held original has the old content"},
		{finding.ChangedQuiet, "changed at %s under the same modification time"},
		{finding.GoneAtTarget, "no longer at %s; the held original is the last copy"},
		{finding.NeverCopied, "never copied: %s began empty, and the held original is the only copy"},
		{finding.MetaDiffers,
			"at %s with other permissions, owners, attributes or hard links than in the held original"},
	}
	for _, s := range says {
		f, told := v.Told(s.code, s.text, v.Live, finding.Subject{Name: d.Redirect.Name})
		if !told {
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

// Consents lists the codes whose acceptance would let the discard go on, if
// nothing else stands in the way; nil otherwise.
func (d *Plan) Consents() []finding.Code {
	var out []finding.Code
	for _, f := range finding.Blockers(d.Findings) {
		if !finding.Acceptable(f.Code) {
			return nil
		}
		out = append(out, f.Code)
	}
	return out
}
