package judge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/time/rate"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// DeepOptions says how a target is read.
type DeepOptions struct {
	Rate      int64 // bytes a second; 0 as fast as the drive can
	FromStart bool  // do not go on where an earlier check was stopped
}

// A Deep is what reading all of a target came to.
type Deep struct {
	Files    int64 // read, and as the manifest has them
	Bytes    int64
	Since    time.Time // when the check was begun that this one went on with; zero if it began itself
	Findings []finding.Finding

	Verdict *Verdict
}

// Whole says that all of the target was read by this check alone.
func (d *Deep) Whole() bool { return d.Verdict != nil && d.Since.IsZero() }

// checkedDir has one file for each redirect that was read deeply: how far a
// check got that was stopped, or what one that ended has found.
const checkedDir = "checked"

// deepAge is how old a check may be that is gone on with.
const deepAge = 14 * 24 * time.Hour

// A LastDeep is what the last deep check of a redirect found, or how far it
// got.
type LastDeep struct {
	Records string    `json:"records"` // which it was held against
	Begun   time.Time `json:"begun"`
	Ended   time.Time `json:"ended"` // zero while it is not done
	Next    int64     `json:"next"`  // ordinal of the first entry that was not read
	Files   int64     `json:"files"`
	Bytes   int64     `json:"bytes"`

	Cases map[finding.Code]*deepCase `json:"cases"`
}

type deepCase struct {
	Count int64    `json:"count"`
	Paths [][]byte `json:"paths"`
}

// Rot is how many entries it found bad.
func (d *LastDeep) Rot() int64 {
	if c := d.Cases[finding.Rot]; c != nil {
		return c.Count
	}
	return 0
}

func checkedFile(e *engine.Engine, name string) string {
	return filepath.Join(e.Ledger.Dir(), checkedDir, name+".json")
}

// LastDeepOf reads what is known of the last deep check of a redirect; nil if
// there was none.
func LastDeepOf(e *engine.Engine, name string) (*LastDeep, error) {
	b, err := handle.ReadRegular(checkedFile(e, name), 1<<20)
	if handle.Missing(err) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var d LastDeep
	if pathtext.Unmarshal(b, &d) != nil {
		return nil, nil // it helps, and is no record of anything
	}
	return &d, nil
}

// keepDeep writes down how far a check got. An account that may not write
// there has to begin anew each time.
func keepDeep(e *engine.Engine, name string, d *LastDeep) error {
	path := checkedFile(e, name)
	b, err := pathtext.Marshal(d)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = handle.WriteFile(path, 0o600, func(w io.Writer) error { _, err := w.Write(b); return err })
	}
	return handle.IgnorePermission(err)
}

// take sets the verdict to what an earlier check had found; keep is the way
// back.
func (v *Verdict) take(d *LastDeep) {
	v.Proven, v.Bytes, v.Cases = d.Files, d.Bytes, map[finding.Code]*Listing{}
	for code, c := range d.Cases {
		l := &Listing{Count: c.Count}
		for _, p := range c.Paths {
			l.Paths = append(l.Paths, string(p))
		}
		v.Cases[code] = l
	}
}

func (v *Verdict) keep(d *LastDeep) {
	d.Files, d.Bytes, d.Cases = v.Proven, v.Bytes, map[finding.Code]*deepCase{}
	for code, l := range v.Cases {
		c := &deepCase{Count: l.Count}
		for _, p := range l.Paths {
			c.Paths = append(c.Paths, []byte(p))
		}
		d.Cases[code] = c
	}
}

// pacer keeps reading, by all readers together, below a rate in bytes a
// second.
func pacer(perSecond int64) func(ctx context.Context, bytes int) error {
	if perSecond <= 0 {
		return nil
	}
	l := rate.NewLimiter(rate.Limit(perSecond), transfer.ReadSize)
	return func(ctx context.Context, bytes int) error { return l.WaitN(ctx, bytes) }
}

// CheckDeep reads every file at a redirect's target from the device and
// holds it against the manifest. What people changed or deleted since is told,
// and is no fault; what differs while no time stamp moved is rot. It changes
// nothing. What is new at the target has nothing to be held against and is
// passed over. If it is stopped, the next one goes on where it was.
func CheckDeep(ctx context.Context, e *engine.Engine, r ledger.Redirect, o DeepOptions) (*Deep, error) {
	d := &Deep{}
	about := finding.Subject{Name: r.Name, Drive: r.Drive.Label}
	live, err := handle.OpenReal(r.Target)
	if err != nil {
		return d, nil // that is a finding already
	}
	defer live.Release()
	// What is read must be what the device has.
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	if e.Progress != nil {
		e.Progress.Phase("compare", r.Files, r.Bytes)
	}
	v := &Verdict{Held: ledger.Held{Redirect: r.Name, Run: r.Run}, Live: r.Target}
	if v.Plan, err = plan.OfRun(e.Ledger, r.Run); err != nil {
		return nil, err
	}
	state, err := deepFrom(e, r, o, v, d)
	if err != nil {
		return nil, err
	}
	spool, err := e.SpoolOf(r.Run)
	if err == nil {
		defer spool.Close()
		err = v.JudgeAll(ctx, live, e.Ledger.RunDir(r.Run), spool, e.Progress, Judging{
			from: state.Next, pace: pacer(o.Rate), mark: func(next int64) error {
				v.keep(state)
				state.Next = next
				if err := keepDeep(e, r.Name, state); err != nil {
					return err
				}
				return run.Point(ctx, "read-on")
			},
		})
	}
	if engine.RecordBroken(err) {
		f := finding.New(finding.LedgerBroken, r.Target, "%s", err).About(about)
		d.Findings = append(d.Findings, f.As(finding.Warning))
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	v.keep(state)
	state.Next, state.Ended = 0, time.Now()
	if err := keepDeep(e, r.Name, state); err != nil {
		return nil, err
	}
	d.Files, d.Bytes, d.Verdict = v.Proven, v.Bytes, v
	d.tell(v, r.Target, about)
	return d, nil
}

// deepFrom finds out where the check begins.
func deepFrom(e *engine.Engine, r ledger.Redirect, o DeepOptions, v *Verdict, d *Deep) (*LastDeep, error) {
	fresh := &LastDeep{Records: fmt.Sprint(r.Run, transfer.Spools(e.Ledger.RunDir(r.Run))), Begun: time.Now()}
	last, err := LastDeepOf(e, r.Name)
	if err != nil || last == nil || o.FromStart || !last.Ended.IsZero() || last.Records != fresh.Records ||
		time.Since(last.Begun) > deepAge {
		return fresh, err
	}
	v.take(last)
	d.Since = last.Begun
	if e.Progress != nil {
		e.Progress.Advance(last.Files, last.Bytes)
	}
	return last, nil
}

func (d *Deep) tell(v *Verdict, target string, about finding.Subject) {
	for _, s := range []struct {
		code   finding.Code
		text   string
		remedy string // empty: the listed one
	}{
		{finding.Rot,
			"at %s: other content than was verified, or unreadable, and nothing says that anybody wrote there", ""},
		{finding.ChangedSince, "changed at %s since it was moved",
			"that is how it is when people work there; `--update-manifest` takes it in"},
		{finding.ChangedQuiet, "changed at %s under the same modification time",
			"programs that map files or keep times do this; if none of yours does, compare with a backup"},
		{finding.GoneAtTarget, "no longer at %s", "if you deleted them, nothing needs doing"},
	} {
		f, told := v.Told(s.code, s.text, target, about)
		if !told {
			continue
		}
		if s.remedy != "" {
			f.Severity, f.Remedy = finding.Info, s.remedy
		}
		d.Findings = append(d.Findings, f)
	}
}
