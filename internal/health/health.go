// Package health looks after redirects: whether each is good, and if not,
// what the true cause is and the one thing that mends it.
//
// Looking changes no byte of a person's: a trial makes and removes a probe
// file and puts the folder's times back.
package health

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"nexlin/internal/discard"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/group"
	"nexlin/internal/handle"
	"nexlin/internal/handover"
	"nexlin/internal/judge"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/shell"
)

// lowSpace is the share of a drive below which little room is left.
const lowSpace = 20 // one part in twenty

// A Report is what was found about one redirect.
type Report struct {
	Redirect ledger.Redirect
	State    State
	Present  bool        // its drive is here
	Drive    drive.Drive // as it is mounted; empty if it is away
	Start    drive.Start // what mounts it when the machine starts
	Held     []ledger.Held
	Findings []finding.Finding
	Deep     *judge.Deep // what CheckDeep read; nil otherwise
}

// add reports a finding and keeps the state true.
func (r *Report) add(fs ...finding.Finding) {
	r.Findings = append(r.Findings, fs...)
	r.State = stateOf(r.Redirect, r.Findings)
}

func (r *Report) find(code finding.Code, path, format string, args ...any) finding.Finding {
	return finding.New(code, path, format,
		args...).About(finding.Subject{Name: r.Redirect.Name, Drive: r.Redirect.Drive.Label})
}

// warn reports a finding that stops nothing here: check only tells.
func (r *Report) warn(code finding.Code, path, format string, args ...any) {
	r.add(r.find(code, path, format, args...).As(finding.Warning))
}

// unseen reports an error about what lies on a drive as a finding. Others stay errors.
func (r *Report) unseen(err error) error {
	if err == nil {
		return nil
	}
	f, err := r.cantSee(err)
	if err == nil {
		r.add(*f)
	}
	return err
}

// cantSee makes an error about what lies on a drive a finding: one redirect that
// can't be looked at keeps nobody from the others. Others stay errors.
func (r *Report) cantSee(err error) (*finding.Finding, error) {
	var pe *fs.PathError
	if !errors.As(err, &pe) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return nil, err
	}
	f := r.find(finding.Unseen, pe.Path, "%s can't be looked at: %v", pe.Path, pe.Err)
	return &f, nil
}

// Look finds out the state of a redirect without touching its folder: for
// lists. Check looks closer. What can't be looked at is a finding; errors are
// those of the ledger, and of ctx.
func Look(e *engine.Engine, r ledger.Redirect) (*Report, error) {
	out := &Report{Redirect: r}
	return out, out.unseen(out.look(e))
}

func (out *Report) look(e *engine.Engine) error {
	r := out.Redirect
	out.add()
	// What was left half done comes first: it keeps other commands from the redirect, and
	// what the link looks like may be its doing.
	if err := out.stopped(e); err != nil {
		return err
	}
	var err error
	if out.Held, err = e.Held(r.Name); err != nil {
		return err
	}
	if r.State == ledger.Ended {
		out.Present = true
		return nil
	}
	if err := out.drive(e); err != nil {
		return err
	}
	return out.link(e)
}

// LookAll is [Look] at every redirect, with those that have ended if wanted: by an engine that
// looks at the drives once ([engine.Engine.AtOnce]).
func LookAll(ctx context.Context, e *engine.Engine, ended bool) (out []*Report, err error) {
	rows, err := e.Ledger.Redirects(ended)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		rep, err := Look(e, r)
		if err != nil {
			return nil, err
		}
		out = append(out, rep)
	}
	return out, nil
}

// Check looks at link, drive, target, room and held originals of a
// redirect, and does the trial through both paths.
func Check(ctx context.Context, e *engine.Engine, r ledger.Redirect) (*Report, error) {
	return check(ctx, e, r, func(context.Context, *Report) error { return nil })
}

// CheckDeep is [Check] that also reads every byte at the target, if its
// drive is here and it is in use.
func CheckDeep(ctx context.Context, e *engine.Engine, r ledger.Redirect, o judge.DeepOptions) (*Report, error) {
	out, err := check(ctx, e, r, func(ctx context.Context, out *Report) (err error) {
		if out.inPlace() && r.State != ledger.Ended && !plan.Owned(r) {
			out.Deep, err = judge.CheckDeep(ctx, e, r, o)
		}
		return err
	})
	if err == nil && out.Deep != nil {
		out.add(out.Deep.Findings...)
	}
	return out, err
}

// check is [Check]; while it looks at what is held, which lies on another drive, read reads what
// is in use.
func check(ctx context.Context, e *engine.Engine, r ledger.Redirect,
	read func(context.Context, *Report) error) (*Report, error) {
	out, err := Look(e, r)
	if err != nil {
		return nil, err
	}
	if err := out.unseen(out.closer(ctx, e)); err != nil {
		return nil, err
	}
	var group errgroup.Group
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group.Go(func() error { return read(ctx, out) })
	found, err := out.held(ctx, e)
	if err != nil {
		cancel() // nobody waits for the reading to end
	}
	if err := errors.Join(err, group.Wait()); err != nil {
		return nil, err
	}
	out.add(found...)
	return out, nil
}

// held looks at the held originals.
func (out *Report) held(ctx context.Context, e *engine.Engine) (found []finding.Finding, err error) {
	live, _ := out.Redirect.Live()
	for _, h := range out.Held {
		fs, err := discard.CheckHeld(ctx, e, h, live)
		if err != nil {
			f, err := out.cantSee(err)
			if err != nil {
				return nil, err
			}
			fs = append(fs, *f)
		} else if len(fs) == 0 {
			fs = append(fs, out.find(finding.HeldWaiting, h.Path, "the held original of %s waits to be discarded",
				h.Since.Local().Format("2006-01-02")))
		}
		found = append(found, fs...)
	}
	return found, nil
}

// CheckAll has check, such as [Check], look at every redirect, and at each that was brought back
// while something of it is held; stopped are runs that belong to none. Several are looked at side
// by side unless they are to be in turn: by an engine that looks at the drives once
// ([engine.Engine.AtOnce]).
func CheckAll(ctx context.Context, e *engine.Engine, inTurn bool, check func(ledger.Redirect) (*Report, error)) (
	reports, stopped []*Report, err error) {
	rows, err := e.Redirects()
	if err != nil {
		return nil, nil, err
	}
	reports = make([]*Report, len(rows))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	if inTurn {
		group.SetLimit(1)
	}
	for i, r := range rows {
		group.Go(func() (err error) {
			if err = ctx.Err(); err == nil { // nothing more is begun after an error
				reports[i], err = check(r)
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, nil, err
	}
	reports = slices.DeleteFunc(reports, func(r *Report) bool {
		return r.Redirect.State == ledger.Ended && len(r.Held) == 0
	})
	stopped, err = stoppedElsewhere(e, rows)
	return reports, stopped, err
}

// stoppedElsewhere tells of stopped runs that belong to no redirect of rows: those of a first
// move have none yet.
func stoppedElsewhere(e *engine.Engine, rows []ledger.Redirect) (out []*Report, err error) {
	open, err := plan.Open(e.Ledger)
	for _, row := range open {
		if !slices.ContainsFunc(rows, func(r ledger.Redirect) bool { return r.Name == row.Redirect }) {
			rep := &Report{Redirect: ledger.Redirect{Name: strings.TrimPrefix(row.Redirect, "-")}}
			rep.add(execute.StoppedRun(e, row, ""))
			out = append(out, rep)
		}
	}
	return out, err
}

// CheckLead looks at what leads to the data of a redirect, and whether it is there. It
// changes nothing at all: without the trial, and without a look into what is held.
func CheckLead(ctx context.Context, e *engine.Engine, r ledger.Redirect) (*Report, error) {
	out, err := Look(e, r)
	if err != nil || r.State == ledger.Ended {
		return out, err
	}
	fs, err := planning.CheckSettings(r)
	if err == nil && out.inPlace() {
		out.add(fs...)
		err = out.target(e, false)
	}
	if err == nil {
		err = out.halves(ctx)
	}
	return out, out.unseen(err)
}

// closer looks at everything but what is held.
func (out *Report) closer(ctx context.Context, e *engine.Engine) error {
	r := out.Redirect
	if r.State != ledger.Ended {
		fs, err := planning.CheckSettings(r)
		if err != nil {
			return err
		}
		out.add(fs...)
		if fs, err = handover.CheckStore(ctx, e, r); err != nil {
			return err
		}
		out.add(fs...)
		if err := out.mountPoint(e); err != nil {
			return err
		}
		if out.inPlace() {
			if err := out.target(e, true); err != nil {
				return err
			}
		}
	}
	if out.State == Good {
		if err := out.onlyCopy(e); err != nil {
			return err
		}
	}
	return out.halves(ctx)
}

// inPlace reports that the drive is mounted where the redirect expects it.
func (r *Report) inPlace() bool {
	return r.Present && r.Drive.Mount == r.Redirect.Drive.Mount
}

func (r *Report) drive(e *engine.Engine) error {
	want := r.Redirect.Drive
	w, err := e.Whereabouts(want, r.Redirect.Target)
	if err != nil {
		return err
	}
	r.Present, r.Drive, r.Start = w.Found, w.Drive, w.Start
	switch {
	case !w.Found:
		r.add(e.Absence(&w, r.Redirect.Name, want, r.Redirect.Target).As(finding.Warning))
	case w.Drive.Mount != want.Mount && plan.Owned(r.Redirect):
		r.add(r.find(finding.DriveElsewhere, r.Redirect.Target,
			"%s is at %s, not at %s", want.Label, w.Drive.Mount, want.Mount).
			Instead("mount it at " + pathtext.Quote(want.Mount) + " again: the engine looks for its store there"))
	case w.Drive.Mount != want.Mount:
		f := r.find(finding.DriveElsewhere, r.Redirect.Target,
			"%s is at %s, not at %s", want.Label, w.Drive.Mount, want.Mount)
		if r.Redirect.State == ledger.Detached {
			f = f.Instead("`nexlin mend " + pathtext.Quote(r.Redirect.Name) +
				"` takes the drive's new place into the records; it stays detached")
		}
		r.add(f)
	}
	if w.NoTag {
		r.add(r.find(finding.TagMissing, w.Drive.Mount, "the drive tag of %s is gone, or is none", want.Label))
	}
	return nil
}

// link looks at what stands at the link path, if its drive is here.
func (r *Report) link(e *engine.Engine) error {
	if f, err := e.LinkDriveAway(&r.Redirect); f != nil || err != nil {
		if f != nil {
			r.add(f.As(finding.Warning))
		}
		return err
	}
	fs, err := planning.LookAtLink(r.Redirect)
	r.add(fs...)
	return err
}

func (r *Report) stopped(e *engine.Engine) error {
	rows, err := e.Unfinished()
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Redirect == r.Redirect.Name {
			r.add(execute.StoppedRun(e, row, r.Redirect.Link))
		}
	}
	return nil
}

// target looks at the folder with the data, and may try it.
func (r *Report) target(e *engine.Engine, try bool) error {
	red := r.Redirect
	target, err := handle.OpenReal(red.Target)
	switch {
	case err == nil:
	case errors.Is(err, fs.ErrPermission):
		r.warn(finding.TargetNoWrite, red.Target, "this account may not look into %s", red.Target)
		return nil
	case handle.Absent(err):
		return r.lost(e)
	default:
		r.add(r.find(finding.TargetUnread, red.Target, "%s can't be opened: %v", red.Target, plain(err)))
		return nil
	}
	defer target.Release()
	d := r.Drive
	if err := e.Drives.Refresh(&d); err != nil && !errors.Is(err, drive.ErrNoDrive) {
		return err
	}
	r.room(&d)
	if err := r.growth(e, &d); err != nil {
		return err
	}
	switch err := target.Access(".", handle.MayWrite|handle.MayEnter); {
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		if !d.ReadOnly {
			r.warn(finding.TargetNoWrite, red.Target, "this account may not write in %s", red.Target)
		}
	case err != nil:
		r.add(r.find(finding.TargetUnread, red.Target, "%s can't be looked at: %v", red.Target, plain(err)))
	case r.State == Good && try:
		if _, err := execute.Try(red, target); err != nil {
			r.add(r.find(finding.TrialFailed, red.Link, "%s", err.Error()))
		}
	}
	r.note()
	return nil
}

// packedWithin is how old the newest archive of a target may be that counts as
// a copy of it elsewhere.
const packedWithin = 30 * 24 * time.Hour

// onlyCopy tells that the data lies nowhere else any more.
func (r *Report) onlyCopy(e *engine.Engine) error {
	if r.Redirect.State == ledger.Ended || len(r.Held) > 0 {
		return nil
	}
	pack, err := e.LastPack(&r.Redirect)
	if err != nil || pack != nil && time.Since(pack.Made) < cmp.Or(e.CopyWithin, packedWithin) {
		return err
	}
	when := "no archive of it was made"
	if pack != nil {
		when = "the last archive of it was made on " + pack.Made.Local().Format("2006-01-02")
	}
	f := r.find(finding.NoOtherCopy, r.Redirect.Target, "%s holds the only copy of %s: %s", r.Redirect.Drive.Label,
		r.Redirect.Name, when)
	if e.CopyWithin > 0 {
		f = f.As(finding.Warning) // asked for, it is a problem
	}
	r.add(f)
	return nil
}

// lost tells what can be said of a target that is not on its drive.
func (r *Report) lost(e *engine.Engine) error {
	f := r.find(finding.TargetMissing, r.Redirect.Target,
		"%s is here, but the target %s is not", r.Redirect.Drive.Label, r.Redirect.Target)
	switch at, err := planning.RenamedTarget(e, r.Redirect); {
	case err != nil:
		return err
	case at != "":
		f = f.Instead(fmt.Sprintf("it was renamed: `%s`", shell.Here.Rename(at, r.Redirect.Target)))
	default:
		for _, h := range r.Held {
			if st, err := handle.Lstat(h.Path); err == nil && st.IsDir() && !h.Copy {
				f = f.Instead(fmt.Sprintf("look for it on the drive first; if it is really gone, the folder as it "+
					"was on %s is still held: `%s`", h.Since.Local().Format("2006-01-02"),
					shell.Here.Copy(h.Path, r.Redirect.Target)))
			}
		}
	}
	r.add(f)
	return nil
}

func (r *Report) room(d *drive.Drive) {
	if d.ReadOnly {
		f := r.find(finding.DriveReadOnly, r.Redirect.Target, "%s is mounted read-only", d.Name())
		if command := shell.Here.Writable(d.Mount); !d.Standin && command != "" {
			f = f.Instead(fmt.Sprintf("`%s`; a drive that turned read-only by itself had an error, and `dmesg` tells "+
				"which", command))
		}
		r.add(f)
	}
	if d.Free < max(d.Reserve(), d.Size/lowSpace) {
		r.add(r.find(finding.SpaceLow, d.Mount, "%s has %d%% of its room left", d.Name(), d.Free*100/max(d.Size, 1)))
	}
}

// growth looks whether the target can still become what its card says.
func (r *Report) growth(e *engine.Engine, d *drive.Drive) error {
	factor, err := group.Growth(e, r.Redirect)
	if err != nil || factor <= 1 {
		return err
	}
	// It was moved with so many bytes; whatever came since is on the drive already.
	want := int64(float64(r.Redirect.Bytes) * (factor - 1))
	if d.Free-d.Reserve() < want {
		f := r.find(finding.NoRoomToGrow, r.Redirect.Target, "%s has %s free, and %s is expected to need %s more",
			d.Name(), humanize.IBytes(uint64(max(d.Free, 0))), r.Redirect.Name, humanize.IBytes(uint64(want)))
		r.add(f.Instead("free room there, or `nexlin move " + pathtext.Quote(r.Redirect.Name) +
			" --into DIR` on a larger drive"))
	}
	return nil
}

func (r *Report) note() {
	if plan.Owned(r.Redirect) {
		return // the engine keeps its own records
	}
	if err := planning.LookForNote(r.Redirect); err != nil {
		r.add(r.find(finding.NoteMissing, r.Redirect.Target, "the target note of %s can't be read: %v",
			r.Redirect.Name, plain(err)))
	}
}

func plain(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fs.ErrNotExist
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}
