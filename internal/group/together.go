// Package group carries out several runs as one, all or none, with the steps and facts of the
// card that they were planned by; and plans such runs.
package group

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/inuse"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/run"
)

// groupExecution carries out a run of several.
type groupExecution struct {
	*engine.Engine
	t *plan.Group
	*run.Journal
	executions []*execute.Execution // one for each plan; nil for one that is done already
	out        *plan.GroupOutcome
	again      bool // the run was stopped before
}

// Do carries out a plan that nothing blocks. The error is a
// *RefusedError before anything has changed, a *TakenBackError if one folder
// failed and everything was taken back, a *StoppedError if the run can be
// finished or taken back.
func Do(ctx context.Context, e *engine.Engine, t *plan.Group) (*plan.GroupOutcome, error) {
	if err := t.Blocked(); err != nil {
		return nil, err
	}
	begun, err := e.Ledger.Begin(t.Run, t.Kind, t.Name, t, nil)
	if err != nil {
		return nil, err
	}
	c := newGroup(e, t, begun)
	defer c.close()
	return c.out, c.ended(ctx, c.forward(ctx))
}

func newGroup(e *engine.Engine, t *plan.Group, taken *ledger.Run) *groupExecution {
	j := run.NewJournal(e.Ledger, t.Run, e.Progress)
	j.Run = taken
	return &groupExecution{Engine: e, t: t, Journal: j, executions: make([]*execute.Execution, len(t.Plans)),
		out: &plan.GroupOutcome{Run: t.Run, Kind: t.Kind, Plan: t, Members: make([]*plan.Outcome, len(t.Plans))}}
}

func (c *groupExecution) close() {
	c.release()
	c.Run.Release()
}

// release closes the movers and gives their runs up.
func (c *groupExecution) release() {
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

func (c *groupExecution) forward(ctx context.Context) error {
	if err := c.steps(ctx, "before", c.t.Before); err != nil {
		return err
	}
	if err := c.rest(ctx); err != nil {
		return err
	}
	facts, err := c.factsBefore(ctx)
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
	if err := c.factsAfter(ctx, facts); err != nil {
		return err
	}
	return c.Run.Set(ledger.Done, "", nil)
}

// rest wants the program to be at rest: whether a stop step has worked is
// looked at, not believed. Once all folders lead to their new places it may be
// at work again.
func (c *groupExecution) rest(ctx context.Context) error {
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
	if err == nil && len(fs) > 0 && c.again {
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
func (c *groupExecution) allDone() (bool, error) {
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
func (c *groupExecution) stillWritten(ctx context.Context) ([]finding.Finding, error) {
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
func (c *groupExecution) begun() (bool, error) {
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
func (c *groupExecution) gather(ctx context.Context, i int, p *plan.Plan) error {
	row, err := c.Ledger.Run(p.Run)
	switch {
	case errors.Is(err, ledger.ErrNotFound):
		m := execute.New(c.Engine, p)
		c.executions[i], c.out.Members[i] = m, m.Out
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
			pathtext.Show(p.Link), c.t.Run)
	case row.State == ledger.Done:
		c.out.Members[i] = &plan.Outcome{Run: p.Run, Kind: p.Kind, Plan: p, State: row.State}
		return nil
	}
	m, err := execute.Take(c.Engine, row, (*execute.Execution).OpenAny)
	if err != nil {
		return err
	}
	c.executions[i], c.out.Members[i] = m, m.Out
	return m.Run.Set(ledger.Going, "", nil)
}

// steps does the steps of one side, each once.
func (c *groupExecution) steps(ctx context.Context, when string, steps []run.Step) error {
	for i, s := range steps {
		err := c.Once(ctx, fmt.Sprintf("%s.%d", when, i), s, func() error { return c.Commands().Do(ctx, c.t.For, s) })
		if err != nil {
			return err
		}
	}
	return nil
}

// factsBefore reads the facts, or what was read when the run began.
func (c *groupExecution) factsBefore(ctx context.Context) (map[string]string, error) {
	acts, err := c.Acts()
	if err != nil {
		return nil, err
	}
	values := map[string]string{}
	for _, a := range acts {
		if a.Name == "facts" {
			return values, pathtext.Unmarshal(a.Data, &values)
		}
	}
	for _, f := range c.t.Facts {
		v, err := c.Commands().Value(ctx, c.t.For, f)
		if err != nil {
			return nil, &run.FactError{Name: f.Name, CouldNotRead: err}
		}
		values[f.Name] = v
	}
	return values, c.Once(ctx, "facts", values, func() error { return nil })
}

// factsAfter compares the facts, and sets back those that can be.
func (c *groupExecution) factsAfter(ctx context.Context, before map[string]string) error {
	var err error
	c.out.Facts, err = c.Commands().SameFacts(ctx, c.t.For, c.t.Facts, before)
	return err
}

// ended says how a run of several ended. What failed at the switch is taken
// back as a whole; what failed before anything was copied never was.
func (c *groupExecution) ended(ctx context.Context, err error) error {
	if err == nil {
		c.out.State = ledger.Done
		return nil
	}
	var at *failedAt
	failed := errors.As(err, &at)
	var refused *plan.RefusedError
	var answer *run.StepError
	early := !c.again && errors.As(err, &refused)
	if !early && !c.again && errors.As(err, &answer) {
		begun, e := c.begun()
		if early = e == nil && !begun; e != nil { // the run can be gone on with once the ledger answers
			err = errors.Join(err, e)
		}
	}
	if ctx.Err() == nil && (early || failed && at.switched) {
		c.release()
		if back := c.back(ctx); back == nil {
			state := ledger.Undone
			if early {
				state = ledger.Refused
			}
			c.out.State = state
			if serr := c.Run.Set(state, err.Error(), nil); serr != nil {
				return errors.Join(err, serr)
			}
			if early {
				return err
			}
			return &plan.TakenBackError{Run: c.t.Run, At: at.path, Err: cleared(err)}
		} else if failed || early {
			err = errors.Join(err, back)
		}
	}
	return c.stop(err)
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
func (c *groupExecution) stop(err error) error {
	c.out.State = ledger.Stopped
	for _, m := range c.executions {
		if m == nil || m.Run == nil || m.Run.State != ledger.Going {
			continue
		}
		serr := m.Run.Set(ledger.Stopped, "it waits for the others of run "+c.t.Run, nil)
		err = errors.Join(err, m.Run.Unreserve(), serr)
	}
	s := &plan.StoppedError{Run: c.t.Run, Kind: c.t.Kind, Link: c.t.Plans[0].Link, Err: cleared(err)}
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
	return errors.Join(s, c.Run.Set(ledger.Stopped, s.Err.Error(), nil))
}

// Back takes back what was done to any of the folders, the last one first, and
// then does the steps that go after a run, since those before it were done.
func (c *groupExecution) back(ctx context.Context) error {
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
		c.out.Members[i] = out
		c.out.Findings = append(c.out.Findings, out.Findings...)
	}
	acts, err := c.Acts()
	if err != nil || !slices.ContainsFunc(acts,
		func(a ledger.Act) bool { return strings.HasPrefix(a.Name, "before.") && !a.Done.IsZero() }) {
		return err
	}
	c.startAgain(ctx)
	return nil
}

// startAgain does the steps that go after a run when it was taken back: the
// folders are whole, and that the program does not start is told.
func (c *groupExecution) startAgain(ctx context.Context) {
	for _, s := range c.t.After {
		if err := c.Commands().Do(ctx, c.t.For, s); err != nil {
			c.out.Findings = append(c.out.Findings, finding.New(finding.StepFailed, "", "%s", err))
		}
	}
}

// mayAllGoBack wants the program to be at rest, and every folder to be free to
// go back.
func (c *groupExecution) mayAllGoBack(ctx context.Context) error {
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

// takeGroup takes up a run of several that was stopped or is done.
func takeGroup(e *engine.Engine, row ledger.RunRow) (*groupExecution, error) {
	taken, err := e.Ledger.Take(row.ID)
	if err != nil {
		return nil, err
	}
	t, err := plan.GroupOf(taken.RunRow)
	if err != nil {
		taken.Release()
		return nil, err
	}
	return newGroup(e, t, taken), nil
}

// Resume finishes a run of several. Its errors are those of
// [Do].
func Resume(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.GroupOutcome, error) {
	if err := execute.Resumable(row); err != nil {
		return nil, err
	}
	c, err := takeGroup(e, row)
	if err != nil {
		return nil, err
	}
	defer c.close()
	c.again = true
	if err := c.Run.Set(ledger.Going, "", nil); err != nil {
		return nil, err
	}
	return c.out, c.ended(ctx, c.forward(ctx))
}

// Undo takes a run of several back as a whole: it is looked first
// whether any of the copies was worked in, and then none is touched.
func Undo(ctx context.Context, e *engine.Engine, row ledger.RunRow) (*plan.GroupOutcome, error) {
	if err := execute.Undoable(e.Ledger, row); err != nil {
		return nil, err
	}
	c, err := takeGroup(e, row)
	if err != nil {
		return nil, err
	}
	defer c.close()
	wasDone := row.State == ledger.Done
	if wasDone { // a stop from here on leaves a run that can be gone on with
		if err := c.Run.Set(ledger.Going, "", nil); err != nil {
			return nil, err
		}
	}
	refused := func(err error) (*plan.GroupOutcome, error) {
		if wasDone {
			err = errors.Join(err, c.Run.Restore(row))
		}
		return nil, err
	}
	for _, s := range c.t.Before {
		if err := c.Commands().Do(ctx, c.t.For, s); err != nil {
			return refused(plan.Refused(finding.New(finding.ProgramRuns, "", "%s", err)))
		}
	}
	// Only a program at rest leaves the folders as they are while it is looked.
	if err := c.mayAllGoBack(ctx); err != nil {
		c.startAgain(ctx)
		return refused(err)
	}
	if err := c.back(ctx); err != nil {
		return c.out, c.stop(err)
	}
	c.out.State = ledger.Undone
	return c.out, c.Run.Set(ledger.Undone, "", nil)
}

// mayGoBack wants the run of one folder to be the last one of it, and nobody
// to have worked in the copy.
func (c *groupExecution) mayGoBack(ctx context.Context, p *plan.Plan) error {
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
