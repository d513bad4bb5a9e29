package execute

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// maxPasses bounds how often a run looks for changes before it says that
// the folder does not come to rest.
const maxPasses = 5

// An opener has what a run works on: directories, by handles and locks, and its records.
type opener struct {
	*engine.Engine
	Plan *plan.Plan
	*run.Journal
	Out *plan.Outcome
	Job Job

	From       *handle.Dir // the folder that is copied, by inode
	HeldIn     *handle.Dir // the directory it stands in
	Into       *handle.Dir // the directory the copy goes into
	LinkIn     *handle.Dir // the directory the link stands in
	Locks      []*handle.Dir
	Part       *transfer.Part
	lender     *transfer.Lender // nil where nothing lends
	lenderDone func()           // gives the lender up; nil without one
	Spool      *transfer.Spool
	pass       int
	looksOnly  bool // nothing is locked, since it is only looked how far the run got
	Again      bool // the run was stopped before, or done
	Switched   bool
}

// A describer writes what a run has come to: notes and manifests on the drive, and what
// the ledger has of the redirect.
type describer struct {
	opener
	frozen *frozen // the manifest that was composed from the spool as it is; nil if none was
	noted  *noted  // what of it is on the drive; nil if this process wrote none
}

// A settler changes the settings by which programs are led.
type settler struct{ describer }

// A switcher has link and folder change places, and tries that programs get there.
type switcher struct{ settler }

// A copier copies the folder, pass by pass, until nothing changes, and verifies the copy.
type copier struct {
	switcher
	reread   bool      // what was read back by an earlier process is read again
	doubt    bool      // what the records say of directories of the copy is not so any more
	lent     bool      // directories of the copy were taken from the held original as they are
	steps    steps     // of the file systems' times; found before the copy
	looked   time.Time // when the last pass over the folder began
	sealed   time.Time // when the copy got its last metadata
	patience patience
}

// An undoer takes a run back.
type undoer struct {
	copier
	wasDone bool // the run had been done
	copied  bool // it has never begun to switch
}

// An Execution carries out one plan. Every step looks at the disks first, so that
// it may be called again after a stop at any moment (I3).
type Execution struct{ undoer }

func New(e *engine.Engine, p *plan.Plan) *Execution {
	m := &Execution{}
	m.Engine, m.Plan, m.Journal = e, p, run.NewJournal(e.Ledger, p.Run, e.Progress)
	m.Out = &plan.Outcome{Run: p.Run, Kind: p.Kind, Plan: p, Final: p.Final, Findings: p.Findings,
		Contents: plan.Count{Files: p.Files, Bytes: p.Bytes}}
	m.Job = unknown{Basics{m}}
	if make := makers[p.Kind]; make != nil {
		m.Job = make(m)
	}
	return m
}

// Enlist takes the run into the ledger, if what the ledger says of the redirect
// is still what the plan was made from.
func (m *Execution) Enlist() (err error) {
	if m.Plan.Traits().Spare {
		if err := m.Ledger.UseSpare(); err != nil {
			return err
		}
	}
	m.Run, err = m.Ledger.Begin(m.Plan.Run, m.Plan.Kind, m.Plan.Name, m.Plan.Saved(), m.Plan.StillHolds)
	return err
}

// StoppedRun is the finding about a run that was stopped; path is what it is about,
// empty where that is not known. What has to be done before the run can go on or back is
// its remedy: a drive plugged in, something set aside.
func StoppedRun(e *engine.Engine, row ledger.RunRow, path string) finding.Finding {
	f := plan.RunStopped(row, path)
	if first := whatItWaitsFor(e, row); first != nil {
		f.Message += "; " + first.Message
		f = f.Instead(first.Remedy)
		if first.Code != finding.OldPlaceTaken { // whose remedy says so itself
			f = f.Instead(fmt.Sprintf("%s; then `nexlin resume %s` finishes it, `nexlin undo %[2]s` takes it back",
				strings.TrimSuffix(first.Remedy, againThere), row.ID))
		}
	}
	return f
}

// whatItWaitsFor is the finding about what a stopped run waits for; nil if that is nothing, or
// not known.
func whatItWaitsFor(e *engine.Engine, row ledger.RunRow) *finding.Finding {
	if told, err := e.Ledger.Run(row.ID); err == nil {
		row = told // one of several is told under the id of the whole
	}
	var plans []*plan.Plan
	if p, err := plan.Of(row); err == nil {
		plans = p.Folders()
	}
	for _, p := range plans {
		var refused *plan.RefusedError
		if errors.As(whatHoldsUp(e, p), &refused) && refused.Only(finding.OldPlaceTaken, finding.DriveElsewhere,
			finding.DriveAway, finding.DriveSwapped, finding.Covered) {
			return &refused.Findings[0]
		}
	}
	return nil
}

// whatHoldsUp is what keeps a run that was stopped, or has not begun, from going on.
func whatHoldsUp(e *engine.Engine, p *plan.Plan) error {
	row, err := e.Ledger.Run(p.Run)
	begun := err == nil
	if begun && row.State != ledger.Stopped {
		return nil // at its end, or taken back
	}
	if p.Into != "" {
		if err := New(e, p).CheckDrive(p.Into, p.IntoDrive); err != nil {
			return err
		}
	}
	if !begun {
		return nil
	}
	_, err = Recoverable(e, row)
	return err
}

// placeTaken reports that something else came to stand at the link path.
func placeTaken(err error) bool {
	var refused *plan.RefusedError
	return errors.As(err, &refused) && refused.Only(finding.OldPlaceTaken)
}

// StoppedRunsOf finds the runs of a redirect that were stopped, as blockers.
func StoppedRunsOf(e *engine.Engine, r *ledger.Redirect) (out []finding.Finding, err error) {
	rows, err := plan.Unfinished(e.Ledger)
	for _, row := range rows {
		is := row.Redirect == r.Name && !plan.OfArchive(row.Kind)
		if plan.TraitsOf(row.Kind).Several {
			var plans []*plan.Plan
			if plans, err = plan.AllOf(e.Ledger, row); err != nil {
				return nil, err
			}
			is = slices.ContainsFunc(plans, func(p *plan.Plan) bool { return p.Name == r.Name })
		}
		if is {
			out = append(out, StoppedRun(e, row, r.Link).As(finding.Blocker))
		}
	}
	return out, err
}

// SetStopped records that a run ended before its end, and why.
func (m *Execution) SetStopped(err error) error {
	if err == nil {
		m.Out.State = ledger.Done
		return nil
	}
	m.Out.State = ledger.Stopped
	s := &plan.StoppedError{Run: m.Plan.Run, Kind: m.Plan.Kind, Phase: m.Phase(), Link: m.Plan.Link,
		Switched: m.Switched,
		Err:      err}
	if errors.Is(err, plan.ErrStillChanging) {
		s.Writers = m.writers()
	}
	if m.LinkIn != nil && m.HeldIn != nil && !m.Plan.MovesOn() {
		at, e := m.StandsAt()
		if s.Taken = placeTaken(e); s.Taken || e == nil && at == plan.Between {
			s.Aside = m.Plan.FolderAway()
		}
	}
	s.At = errorPath(err)
	s.Drive = m.driveOf(err, s.At)
	// A full drive of the ledger's has room again for the word that it stopped.
	err = errors.Join(err, m.Run.Unreserve())
	// That the ledger can't take the word is one more thing to say; the run
	// counts as stopped all the same, since nobody holds its lock.
	return errors.Join(s, m.Run.Set(ledger.Stopped, plan.WhyStopped(err), nil))
}

// errorPath is the path that an error names; empty if it names none.
func errorPath(err error) string {
	var pe *fs.PathError
	var le *os.LinkError
	var spool *transfer.SpoolError
	switch {
	case errors.As(err, &spool):
		return spool.File
	case errors.As(err, &le):
		return le.New
	case errors.As(err, &pe):
		return pe.Path
	}
	return ""
}

// driveOf names the drive that an error is about, by the path in it: the
// ledger's own, or one of the plan's.
func (m *opener) driveOf(err error, path string) string {
	if path == "" && ledger.IsDrive(err) || path != "" && pathtext.Within(path, places.ResolvedDir(m.Ledger.Dir())) {
		return "the drive with Nexlin's records, at " + m.Ledger.Dir()
	}
	var name, mount string
	for _, d := range []ledger.DriveRef{m.Plan.FromDrive, m.Plan.IntoDrive} {
		if at := d.Mount; at != "" && pathtext.Within(path, at) && len(at) > len(mount) {
			name, mount = d.Label, at
		}
	}
	return name
}

func (m *Execution) writers() []string {
	holders, err := inuse.WritersBelow(context.Background(), m.Plan.From)
	if err != nil {
		return nil
	}
	var out []string
	for _, h := range holders {
		out = append(out, h.String()+": "+pathtext.Show(h.Path))
	}
	return out
}

// Close lets go of everything; the outcome has its phases then.
func (m *opener) Close() {
	m.Out.Phases = m.Phases()
	if m.Part != nil {
		m.Part.Close()
	}
	_ = m.Spool.Close() // read again from the start by whoever needs it
	if m.lenderDone != nil {
		m.lenderDone()
	}
	for _, d := range append(m.Locks, m.From, m.HeldIn, m.Into, m.LinkIn) {
		d.Release()
	}
}

// TrySwitch does the switch in small beside the folder, before a byte is
// copied: a right that is missing shows now.
func (m *switcher) TrySwitch() error {
	p := m.Plan
	exchanges, err := m.TryIn(m.LinkIn)
	switch {
	case err == nil:
	case p.Linkless() && p.Gap, p.Traits().Back && p.Unlinked():
		return nil // settings alone lead to the copy, and no link is made
	default:
		return err
	}
	if p.Traits().Onward || p.Traits().Back && p.Unlinked() {
		return nil // nothing is exchanged
	}
	told := finding.Has(p.Findings, finding.SwitchGap)
	if p.Gap = !exchanges; p.Gap && !told {
		// The preview did not say so, since it makes nothing there.
		p.AddGap()
		if !slices.Contains(p.Accepted, finding.SwitchGap) {
			return plan.Refused(p.Findings[len(p.Findings)-1].As(finding.Blocker))
		}
	}
	return nil
}

// TryIn makes, reads and exchanges a link as the run's in a trial directory within dir. What
// can't be done there is a *[plan.RefusedError]; another error is a fault, which says
// nothing about links.
func (m *switcher) TryIn(dir *handle.Dir) (exchanges bool, err error) {
	p := m.Plan
	err = drive.InTrial(dir, func(t *handle.Dir) (err error) {
		exchanges, err = link.TryIn(t, p.LinkText)
		return err
	})
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return false, plan.Refused(finding.New(finding.SpaceShort, dir.Path(),
			"%s is full, or its account may have no "+
				"more there: no link can be made", dir.Path()).Named(p.Name).As(finding.Blocker).
			Instead("free room there; a few names are enough"))
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.EOPNOTSUPP),
		errors.Is(err, syscall.ENOSYS), errors.Is(err, link.ErrNotMade):
		f := finding.New(finding.LinkImpossible, dir.Path(), "a trial link in %s failed: %v", dir.Path(),
			handle.Cause(err)).Named(p.Name)
		if handle.Windows && !slices.Contains(p.Methods, plan.ByJunction) {
			f = f.Instead("`--by junction` needs no right of its own on NTFS; symbolic links need an administrator " +
				"or the developer mode")
		}
		return false, plan.Refused(f)
	}
	return exchanges, err
}

// forward carries the run from wherever it stands to its end.
func (m *Execution) forward(ctx context.Context) error {
	at, err := m.StandsAt()
	if err != nil {
		return err
	}
	if at < plan.Between {
		if err := m.copyWhole(ctx, at); err != nil {
			return err
		}
	}
	return m.FromSwitch(ctx)
}

// UntilSwitch copies and verifies, and stops before the switch; one that is behind
// the switch already stays there.
func (m *Execution) UntilSwitch(ctx context.Context) error {
	at, err := m.StandsAt()
	if err != nil || at >= plan.Between {
		return err
	}
	return m.copyWhole(ctx, at)
}

// copyWhole makes and verifies the copy, up to the switch.
func (m *copier) copyWhole(ctx context.Context, at plan.Position) error {
	if m.From == nil {
		return swap.Broken(m.Plan.From, "the folder that is to be copied is not there")
	}
	if err := m.tryFolder(ctx); err != nil {
		return err
	}
	if err := m.prepare(ctx, at); err != nil {
		return err
	}
	if err := m.copyAll(ctx); err != nil {
		return err
	}
	return m.seal(ctx)
}

// FromSwitch leads programs to the copy, and does what follows.
func (m *Execution) FromSwitch(ctx context.Context) error {
	at, err := m.StandsAt()
	if err != nil {
		return err
	}
	if at != plan.Switched {
		if err := m.stillHere(); err != nil {
			return err
		}
		if at < plan.Between {
			if err := m.catchUp(ctx); err != nil {
				return err
			}
		}
		if err := m.Begin("switch", 0, 0); err != nil {
			return err
		}
		goOver := m.switchOver
		if at >= plan.Between {
			goOver = m.CloseGap
		}
		if err := goOver(ctx); err != nil {
			return err
		}
	}
	m.Switched = true
	return m.after(ctx)
}
