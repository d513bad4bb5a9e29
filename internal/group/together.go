// Package group carries out several runs as one, all or none, with the steps and facts of the
// card that they were planned by; and plans such runs.
package group

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/inuse"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/run"
)

// A together has the runs of several folders go as one.
type together struct {
	execute.Basics
	t          *plan.Group
	executions []*execute.Execution // one for each folder; nil for one that is done already
}

// Together is the job of a run of several folders. Its errors are a *[plan.TakenBackError]
// if one folder failed and everything was taken back, and those of every job.
func Together(m *execute.Execution) execute.Job {
	n := len(m.Plan.Group.Plans)
	m.Out.Members, m.Out.Findings = make([]*plan.Outcome, n), nil // those of the plan were told
	return &together{execute.Basics{Execution: m}, m.Plan.Group, make([]*execute.Execution, n)}
}

// release closes what the folders' runs hold and gives them up.
func (c *together) release() {
	for i, m := range c.executions {
		if m == nil {
			continue
		}
		m.Close()
		if m.Run != nil {
			m.Run.Release()
		}
		c.executions[i] = nil
	}
}

// failedAt says at which folder a run of several failed, and whether it had
// come to the switch.
type failedAt struct {
	path     string
	switched bool
	err      error
}

func (e *failedAt) Error() string { return e.err.Error() }
func (e *failedAt) Unwrap() error { return e.err }

// Forward copies every folder, and leads programs to the copies once all are whole; it says
// in the ledger how that ended.
func (c *together) Forward(ctx context.Context) error { return c.ended(ctx, c.forward(ctx)) }

// Ended lets the folders' runs go.
func (c *together) Ended(err error) error {
	c.release()
	return err
}

func (c *together) forward(ctx context.Context) error {
	if err := c.steps(ctx, "before", c.t.Before); err != nil {
		return err
	}
	if err := c.rest(ctx); err != nil {
		return err
	}
	facts, err := c.FactsOnce(ctx, c.Commands(), c.t.For, c.t.Facts)
	if err != nil {
		return err
	}
	for i, p := range c.t.Plans {
		if err := c.gather(ctx, i, p); err != nil {
			return &failedAt{p.Link, false, err}
		}
	}
	for i, m := range c.executions {
		if m == nil {
			continue
		}
		if err := m.UntilSwitch(ctx); err != nil {
			return &failedAt{c.t.Plans[i].Link, false, m.SetStopped(err)}
		}
	}
	if err := run.Point(ctx, "all-ready"); err != nil {
		return err
	}
	for i, m := range c.executions {
		if m == nil {
			continue
		}
		if err := m.SetStopped(m.FromSwitch(ctx)); err != nil {
			return &failedAt{c.t.Plans[i].Link, true, err}
		}
	}
	if err := c.steps(ctx, "after", c.t.After); err != nil {
		return err
	}
	if c.Out.Facts, err = c.Commands().SameFacts(ctx, c.t.For, c.t.Facts, facts); err != nil {
		return err
	}
	return c.Run.Set(ledger.Done, "", nil)
}

// rest wants the program to be at rest: whether a stop step has worked is
// looked at, not believed. Once all folders lead to their new places it may be
// at work again.
func (c *together) rest(ctx context.Context) error {
	if allDone, err := c.allDone(); allDone || err != nil {
		return err
	}
	fs, err := c.Commands().AtRest(ctx, c.t.For, c.t.InUse)
	if err != nil {
		return err
	}
	if len(fs) == 0 {
		fs, err = c.stillWritten(ctx)
	}
	if err == nil && len(fs) > 0 && c.Again {
		// It was started again since: what is done first is done once more.
		for _, s := range c.t.Before {
			if err := c.Commands().Do(ctx, c.t.For, s); err != nil {
				return err
			}
		}
		if fs, err = c.Commands().AtRest(ctx, c.t.For, c.t.InUse); err == nil && len(fs) == 0 {
			fs, err = c.stillWritten(ctx)
		}
	}
	if err != nil {
		return err
	}
	if len(fs) > 0 {
		return &plan.RefusedError{Findings: fs}
	}
	return nil
}

// allDone reports whether the runs of all folders are done.
func (c *together) allDone() (bool, error) {
	for _, p := range c.t.Plans {
		row, err := c.Ledger.Run(p.Run)
		if errors.Is(err, ledger.ErrNotFound) || err == nil && row.State != ledger.Done {
			return false, nil
		}
		if err != nil {
			return false, err
		}
	}
	return true, nil
}

// stillWritten looks whether somebody writes to the folders although a step
// was to stop that.
func (c *together) stillWritten(ctx context.Context) ([]finding.Finding, error) {
	var out []finding.Finding
	for _, p := range c.t.Plans {
		if !p.Stops || p.WhileInUse {
			continue
		}
		w, err := inuse.WritersBelow(ctx, p.From)
		if err != nil {
			return nil, err
		}
		if len(w) > 0 {
			out = append(out, finding.New(finding.InUse, p.From, "%s still has files open for writing in %s",
				inuse.Programs(w), p.From).Listing(len(w), preflight.Paths(w)))
		}
	}
	return out, nil
}

// begun reports whether the run of a folder is in the ledger already.
func (c *together) begun() (bool, error) {
	for _, p := range c.t.Plans {
		row, err := c.Ledger.Run(p.Run)
		if err == nil && row.State != ledger.Undone {
			return true, nil
		}
		if err != nil && !errors.Is(err, ledger.ErrNotFound) {
			return false, err
		}
	}
	return false, nil
}

// gather opens and locks one folder and records its run; one that was stopped
// is taken up again, one that is done is passed over.
func (c *together) gather(ctx context.Context, i int, p *plan.Plan) error {
	row, err := c.Ledger.Run(p.Run)
	switch {
	case errors.Is(err, ledger.ErrNotFound):
		m := execute.New(c.Engine, p)
		c.executions[i], c.Out.Members[i] = m, m.Out
		if err := m.OpenFolders(); err != nil {
			return err
		}
		if err := m.WaitQuiet(ctx); err != nil {
			return err
		}
		if err := m.TrySwitch(); err != nil {
			return err
		}
		return m.Enlist()
	case err != nil:
		return err
	case row.State == ledger.Undone:
		return fmt.Errorf("the move of %s was taken back already; `nexlin undo %s` takes the others back, too",
			pathtext.Show(p.Link), c.Plan.Run)
	case row.State == ledger.Done:
		c.Out.Members[i] = &plan.Outcome{Run: p.Run, Kind: p.Kind, Plan: p, State: row.State}
		return nil
	}
	m, err := execute.Take(c.Engine, row, (*execute.Execution).OpenAny)
	if err != nil {
		return err
	}
	c.executions[i], c.Out.Members[i] = m, m.Out
	return m.Run.Set(ledger.Going, "", nil)
}

// steps does the steps of one side, each once.
func (c *together) steps(ctx context.Context, when string, steps []run.Step) error {
	for i, s := range steps {
		err := c.Once(ctx, fmt.Sprintf("%s.%d", when, i), s, func() error { return c.Commands().Do(ctx, c.t.For, s) })
		if err != nil {
			return err
		}
	}
	return nil
}

// ended says how a run of several ended. What failed at the switch is taken
// back as a whole; what failed before anything was copied never was.
func (c *together) ended(ctx context.Context, err error) error {
	if err == nil {
		c.Out.State = ledger.Done
		return nil
	}
	var at *failedAt
	failed := errors.As(err, &at)
	var refused *plan.RefusedError
	var answer *run.StepError
	early := !c.Again && errors.As(err, &refused)
	if !early && !c.Again && errors.As(err, &answer) {
		begun, e := c.begun()
		if early = e == nil && !begun; e != nil { // the run can be gone on with once the ledger answers
			err = errors.Join(err, e)
		}
	}
	if ctx.Err() == nil && (early || failed && at.switched) {
		back := c.takenBack(ctx, err, early)
		switch {
		case back == nil && early:
			return err
		case back == nil:
			return &plan.TakenBackError{Run: c.Plan.Run, At: at.path, Err: cleared(err)}
		case c.Out.State != "":
			return errors.Join(err, back)
		case failed || early:
			err = errors.Join(err, back)
		}
	}
	return c.stop(err)
}

// takenBack takes the run back because of err; early, if nothing was copied: then it was
// refused. The outcome has a state if all is back, and only the ledger does not say so.
func (c *together) takenBack(ctx context.Context, err error, early bool) error {
	c.release()
	back := c.back(ctx)
	stopped, aerr := c.stopsProgram()
	if back = errors.Join(back, aerr); back != nil {
		return back
	}
	if stopped {
		c.startAgain(ctx)
	}
	c.Out.State = ledger.Undone
	if early {
		c.Out.State = ledger.Refused
	}
	return c.Run.Set(c.Out.State, err.Error(), nil)
}

// cleared takes the words about a stopped run out of an error: the run is not
// stopped any more.
func cleared(err error) error {
	var s *plan.StoppedError
	if errors.As(err, &s) {
		return s.Err
	}
	return err
}

// stop records that the run can be gone on with, or taken back, as a whole.
func (c *together) stop(err error) error {
	c.Out.State = ledger.Stopped
	for _, m := range c.executions {
		if m == nil || m.Run == nil || m.Run.State != ledger.Going {
			continue
		}
		serr := m.Run.Set(ledger.Stopped, "it waits for the others of run "+c.Plan.Run, nil)
		err = errors.Join(err, m.Run.Unreserve(), serr)
	}
	s := &plan.StoppedError{Run: c.Plan.Run, Kind: c.Plan.Kind, Link: c.t.Plans[0].Link, Err: cleared(err)}
	var at *failedAt
	if errors.As(err, &at) {
		s.Link = at.path
	}
	var one *plan.StoppedError
	if errors.As(err, &one) {
		s.Phase, s.Writers, s.At, s.Drive = one.Phase, one.Writers, one.At, one.Drive
	}
	for _, p := range c.t.Plans {
		if row, e := c.Ledger.Run(p.Run); e == nil && row.State == ledger.Done {
			s.Switched = true
		}
	}
	return errors.Join(s, c.Run.Set(ledger.Stopped, plan.WhyStopped(s.Err), nil))
}

// back takes back what was done to any of the folders, the last one first.
func (c *together) back(ctx context.Context) error {
	for i, p := range slices.Backward(c.t.Plans) {
		row, err := c.Ledger.Run(p.Run)
		if errors.Is(err, ledger.ErrNotFound) { // it was tried at most
			if err := execute.New(c.Engine, p).DropTrials(); err != nil {
				return err
			}
			continue
		}
		if err == nil && row.State == ledger.Undone {
			continue
		}
		if err != nil {
			return err
		}
		out, err := execute.UndoRun(ctx, c.Engine, row)
		if err != nil {
			return err
		}
		c.Out.Members[i] = out
		c.Out.Findings = append(c.Out.Findings, out.Findings...)
	}
	return nil
}

// stopsProgram reports whether a step before the run was done.
func (c *together) stopsProgram() (bool, error) {
	acts, err := c.Acts()
	return slices.ContainsFunc(acts,
		func(a ledger.Act) bool { return strings.HasPrefix(a.Name, "before.") && !a.Done.IsZero() }), err
}

// startAgain does the steps that go after a run when it was taken back: the
// folders are whole, and that the program does not start is told.
func (c *together) startAgain(ctx context.Context) {
	for _, s := range c.t.After {
		if err := c.Commands().Do(ctx, c.t.For, s); err != nil {
			c.Out.Findings = append(c.Out.Findings, finding.New(finding.StepFailed, "", "%s", err))
		}
	}
}

// mayAllGoBack wants the program to be at rest, and every folder to be free to
// go back.
func (c *together) mayAllGoBack(ctx context.Context) error {
	fs, err := c.Commands().AtRest(ctx, c.t.For, c.t.InUse)
	if err != nil {
		return err
	}
	if len(fs) > 0 {
		return &plan.RefusedError{Findings: fs}
	}
	for _, p := range c.t.Plans {
		if err := c.mayGoBack(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// TryBack has the program stopped, and looks first whether any of the copies was worked
// in: then none is touched.
func (c *together) TryBack(ctx context.Context) error {
	for _, s := range c.t.Before {
		if err := c.Commands().Do(ctx, c.t.For, s); err != nil {
			return plan.Refused(finding.New(finding.ProgramRuns, "", "%s", err))
		}
	}
	// Only a program at rest leaves the folders as they are while it is looked.
	err := c.mayAllGoBack(ctx)
	if err != nil {
		c.startAgain(ctx)
	}
	return err
}

// Back takes a run of several back as a whole.
func (c *together) Back(ctx context.Context) error {
	if err := c.back(ctx); err != nil {
		return c.stop(err)
	}
	c.startAgain(ctx) // TryBack has stopped it
	return c.Run.Set(ledger.Undone, "", nil)
}

// mayGoBack wants the run of one folder to be the last one of it, and nobody
// to have worked in the copy.
func (c *together) mayGoBack(ctx context.Context, p *plan.Plan) error {
	row, err := c.Ledger.Run(p.Run)
	if errors.Is(err, ledger.ErrNotFound) || err == nil && row.State == ledger.Undone {
		return nil
	}
	if err != nil {
		return err
	}
	if err := execute.Undoable(c.Ledger, row); err != nil {
		return err
	}
	m, err := execute.Take(c.Engine, row, (*execute.Execution).OpenAny)
	if err != nil {
		return err
	}
	defer m.Run.Release()
	defer m.Close()
	if at, err := m.StandsAt(); err != nil || at != plan.Switched {
		return err
	}
	return m.CopyUnchanged(ctx)
}
