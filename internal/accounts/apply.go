package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/ahead"
	"nexlin/internal/discard"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/group"
	"nexlin/internal/jobs"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/record"
	"nexlin/internal/redirect"
	"nexlin/internal/transfer"
)

// An End is what became of an item.
type End string

// The ends.
const (
	Unchanged End = "unchanged" // it was as declared
	Done      End = "done"
	Waits     End = "waits"   // for a drive or for room, as the file allows
	Refused   End = "refused" // nothing of it was changed
	Stopped   End = "stopped" // in the middle: the next apply goes on
)

// A Result is what became of an item.
type Result struct {
	*Item // as it was found
	End   End
	Err   error // why it was refused or stopped, or waits; nil of the others

	Withdrawn bool // it was to be brought back
}

// Options says how a file is carried out.
type Options struct {
	// Progress hears of the copying of all accounts together; may be nil.
	Progress transfer.Progress
	Only     []string // the accounts that it is about; empty: all
	// Told hears of each account's results once they are there, one call at a time; may be nil.
	Told func([]*Result)
	// Waiting is called once if another apply or withdrawal is at work, which is waited for
	// then; nil: it is not waited for, and the error is [ledger.ErrBusy].
	Waiting func()
}

// alone is what the lock of applies and withdrawals is called.
const alone = "accounts"

// perDrive is how many runs may use one drive at once, if its heads need not move.
const perDrive = 3

// A task is what one plan does: one folder of a want, or all of a card.
type task struct {
	*Want
	link string // empty for a card
}

func taskOf(i *Item) task {
	if i.use != nil {
		return task{i.Want, ""}
	}
	return task{i.Want, i.Link()}
}

// A runner carries out what is missing for many accounts.
type runner struct {
	e     *engine.Engine
	f     *File
	o     Options
	mu    sync.Mutex // around what follows, and telling
	slots map[string]chan struct{}
	tags  map[string]*sync.Mutex
	plans map[task]*plan.Plan
	short map[task]error // those that have no room beside the others

	each func(ctx context.Context, e *engine.Engine, i *Item) *Result
}

// Apply makes what is there as the file declares it, as far as that can be done, for each
// account by itself: what stops one stops no other. Room on drives is shared out over all
// accounts before the first begins. The results are in the order of [Look]; the error is that
// of the ledger, or an *[InterruptedError].
func Apply(ctx context.Context, e *engine.Engine, f *File, o Options) ([]*Result, error) {
	release, err := e.Ledger.Alone(ctx, alone, o.Waiting)
	if err != nil {
		return nil, err
	}
	defer release()
	items, err := Look(ctx, e, f, o.Only...)
	if err != nil {
		return nil, err
	}
	r := newRunner(e, f, o)
	r.each = r.applied
	if err := r.planAll(ctx, items); err != nil {
		return nil, err
	}
	r.shareOut(items)
	return r.all(ctx, r.ordered(items))
}

// Withdraw brings back all that the file declares and that is redirected. What was made
// ahead and is still empty goes; what holds data becomes a real folder again.
func Withdraw(ctx context.Context, e *engine.Engine, f *File, o Options) ([]*Result, error) {
	release, err := e.Ledger.Alone(ctx, alone, o.Waiting)
	if err != nil {
		return nil, err
	}
	defer release()
	items, err := Look(ctx, e, f, o.Only...)
	if err != nil {
		return nil, err
	}
	r := newRunner(e, f, o)
	r.each = r.withdrawn
	return r.all(ctx, byAccount(items))
}

func newRunner(e *engine.Engine, f *File, o Options) *runner {
	return &runner{e: e, f: f, o: o, slots: map[string]chan struct{}{}, tags: map[string]*sync.Mutex{},
		plans: map[task]*plan.Plan{}, short: map[task]error{}}
}

// byAccount puts the items of each account together.
func byAccount(items []*Item) (out [][]*Item) {
	for k, i := range items {
		if k == 0 || items[k-1].Account.Name != i.Account.Name {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], i)
	}
	return out
}

// ordered puts accounts into the order that the file wants.
func (r *runner) ordered(items []*Item) [][]*Item {
	out := byAccount(items)
	sizes := map[string]int64{} // by account
	for t, p := range r.plans {
		for _, f := range p.Folders() {
			sizes[t.Account.Name] += f.Bytes
		}
	}
	size := func(items []*Item) int64 { return sizes[items[0].Account.Name] }
	switch r.f.Order {
	case SmallestFirst:
		slices.SortStableFunc(out, func(a, b []*Item) int { return cmp.Compare(size(a), size(b)) })
	case LargestFirst:
		slices.SortStableFunc(out, func(a, b []*Item) int { return cmp.Compare(size(b), size(a)) })
	}
	return out
}

// planAll plans what needs room on a drive, so that it is known how much.
func (r *runner) planAll(ctx context.Context, items []*Item) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	begun := map[task]bool{}
	for _, i := range items {
		if !i.moves() || begun[taskOf(i)] {
			continue
		}
		begun[taskOf(i)] = true
		g.Go(func() error {
			p, err := r.planned(ctx, r.e, i)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err == nil { // an error is met again when it is its turn
				r.mu.Lock()
				r.plans[taskOf(i)] = p
				r.mu.Unlock()
			}
			return nil
		})
	}
	return g.Wait()
}

// shareOut gives the room on each drive to the items in their order, and refuses those for
// which none is left.
func (r *runner) shareOut(items []*Item) {
	left := map[string]int64{}
	seen := map[task]bool{}
	for _, i := range items {
		t := taskOf(i)
		p := r.plans[t]
		if p == nil || seen[t] || p.Blocked() != nil {
			continue
		}
		seen[t] = true
		for _, f := range p.Folders() {
			d := &f.IntoNow
			room, known := left[d.Mount]
			if !known {
				room = d.Free - d.Reserve()
			}
			if f.Need > room {
				r.short[t] = plan.Refused(finding.New(finding.SpaceShort, i.Link(), "%s has too little room for all "+
					"accounts together: needed here %s, left %s", d.Name(), pathtext.Size(f.Need),
					pathtext.Size(max(room, 0))).OnDrive(d.Name()).As(finding.Blocker))
				continue
			}
			left[d.Mount] = room - f.Need
		}
	}
}

// all carries out each account's items, several accounts at once.
func (r *runner) all(ctx context.Context, accounts [][]*Item) ([]*Result, error) {
	if r.o.Progress != nil {
		var files, bytes int64
		for t, p := range r.plans {
			for _, f := range p.Folders() {
				if r.short[t] == nil && p.Blocked() == nil {
					files, bytes = files+f.Files, bytes+f.Bytes
				}
			}
		}
		if files > 0 {
			r.o.Progress.Phase("copy", files, bytes)
		}
	}
	results := make([][]*Result, len(accounts))
	var g errgroup.Group
	g.SetLimit(4 * runtime.GOMAXPROCS(0))
	for k, items := range accounts {
		g.Go(func() error {
			e := *r.e
			e.Progress = nil
			for _, i := range items {
				if ctx.Err() != nil {
					return nil
				}
				if r.o.Progress != nil {
					e.Progress = &copied{to: r.o.Progress, mu: &r.mu}
				}
				results[k] = append(results[k], r.each(ctx, &e, i))
			}
			if r.o.Told != nil {
				r.mu.Lock()
				defer r.mu.Unlock()
				r.o.Told(results[k])
			}
			return nil
		})
	}
	_ = g.Wait() // none of them gives an error
	out, all := slices.Concat(results...), 0
	for _, items := range accounts {
		all += len(items)
	}
	if ctx.Err() != nil {
		return out, &InterruptedError{Begun: len(out), Left: all - len(out)}
	}
	return out, nil
}

// An InterruptedError reports that the accounts were not served to their end: what was
// stopped in the middle, and what was not begun, is the next one's business.
type InterruptedError struct{ Begun, Left int }

func (e *InterruptedError) Error() string {
	return fmt.Sprintf("it was interrupted: %d folders were looked after, and %d not yet", e.Begun, e.Left)
}

// copied passes on what one run copies, and nothing else of what it does.
type copied struct {
	to      transfer.Progress
	mu      *sync.Mutex
	copying bool
}

func (c *copied) Phase(name string, _, _ int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.copying = name == "copy"
}

func (c *copied) Advance(files, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.copying {
		c.to.Advance(files, bytes)
	}
}

// ended makes a result of an error.
func ended(i *Item, err error) *Result {
	var refused *plan.RefusedError
	var stopped *plan.StoppedError
	var kept *discard.KeptError
	out := &Result{Item: i, Err: err, End: Refused}
	switch {
	case err == nil:
		out.End = Done
	case errors.As(err, &stopped):
		out.End = Stopped
	case errors.As(err, &kept):
		out.End = Stopped
	case errors.As(err, &refused):
		if refused.OnlyAway() && i.Wish.DriveAway == Wait ||
			refused.Only(finding.SpaceShort, finding.InodesShort) && i.Wish.SpaceShort == Wait {
			out.End = Waits
		}
	}
	return out
}

// turns bounds how often one item is looked at again after something was done about it.
const turns = 4

// applied makes one item as it is declared.
func (r *runner) applied(ctx context.Context, e *engine.Engine, found *Item) *Result {
	i, err := found, error(nil)
	if found.use != nil { // another folder of the card has taken this one along, perhaps
		if i, err = r.now(ctx, e, found); err != nil {
			return ended(found, err)
		}
	}
	for turn := 0; ; turn++ {
		if i.State == AsDeclared || i.State == NotThere {
			if i.State == found.State && turn == 0 {
				return &Result{Item: found, End: Unchanged}
			}
			return &Result{Item: found, End: Done}
		}
		if !i.Able() || turn == turns {
			return ended(found, refusal(i))
		}
		if err := r.act(ctx, e, i); err != nil {
			return ended(found, err)
		}
		if i, err = r.now(ctx, e, found); err != nil {
			return ended(found, err)
		}
	}
}

// now is how an item stands by now.
func (r *runner) now(ctx context.Context, e *engine.Engine, found *Item) (*Item, error) {
	again, err := lookAgain(ctx, e, r.f, found.Want)
	if err != nil {
		return nil, err
	}
	return again[slices.IndexFunc(again, func(a *Item) bool { return a.Link() == found.Link() })], nil
}

// planOf is what was planned for an item beforehand; nil if nothing was. It is carried out once.
func (r *runner) planOf(i *Item) *plan.Plan {
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.plans[taskOf(i)]
	delete(r.plans, taskOf(i))
	return p
}

// refusal is the error about what an apply can't do.
func refusal(i *Item) error {
	if blockers := finding.Blockers(i.Findings); len(blockers) > 0 {
		return &plan.RefusedError{Findings: blockers}
	}
	if len(i.Findings) > 0 {
		return &plan.RefusedError{Findings: blocking(i.Findings)}
	}
	return plan.Refused(finding.New(finding.Unseen, i.Link(), "%s", i.Says).As(finding.Blocker))
}

// act does the one thing that an item needs next.
func (r *runner) act(ctx context.Context, e *engine.Engine, i *Item) error {
	if i.State == ToFinish {
		return r.finished(ctx, e, i)
	}
	var p *plan.Plan
	if i.moves() {
		if err := r.short[taskOf(i)]; err != nil {
			return err
		}
		p = r.planOf(i)
	}
	if p == nil {
		var err error
		if p, err = r.planned(ctx, e, i); err != nil {
			return err
		}
	}
	if p == nil {
		return nil // there is nothing to mend any more
	}
	return r.do(ctx, e, i, p)
}

// do carries a plan out, once the drives that it uses have time for it.
func (r *runner) do(ctx context.Context, e *engine.Engine, i *Item, p *plan.Plan) error {
	free, err := r.take(ctx, p)
	if err != nil {
		return err
	}
	defer free()
	if first := r.tagOf(p); first != nil {
		// The first run on a drive makes its tag; those that were planned with it look again.
		first.Lock()
		defer first.Unlock()
		if p, err = r.planned(ctx, e, i); err != nil || p == nil {
			return err
		}
	}
	if err := r.own(i, p); err != nil {
		return err
	}
	_, err = jobs.Do(ctx, e, p)
	return err
}

// own wants what is about to be changed to be the account's own.
func (r *runner) own(i *Item, p *plan.Plan) error {
	if err := p.Blocked(); err != nil {
		return err
	}
	for _, f := range p.Folders() {
		if f.UID != i.Account.UID {
			return plan.Refused(finding.New(finding.OtherAccount, f.Link, "%s does not belong to %s", f.Link,
				i.Account.Name).As(finding.Blocker).Instead("see whose it is, and how it came there"))
		}
	}
	return nil
}

// tagOf is the lock of a drive that has no tag yet; nil for any other.
func (r *runner) tagOf(p *plan.Plan) *sync.Mutex {
	for _, f := range p.Folders() {
		if !f.NewTag {
			continue
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.tags[f.TagIn] == nil {
			r.tags[f.TagIn] = &sync.Mutex{}
		}
		return r.tags[f.TagIn]
	}
	return nil
}

// take waits until each drive that a plan uses has a place free, in one order for all, and
// gives what frees them again.
func (r *runner) take(ctx context.Context, p *plan.Plan) (free func(), err error) {
	at := map[string]int{}
	for _, f := range p.Folders() {
		if f.IntoNow.Mount != "" {
			at[f.IntoNow.Mount] = perDrive
			if f.IntoNow.Spinning {
				at[f.IntoNow.Mount] = 1
			}
		}
		if f.FromNow.Spinning {
			at[f.FromNow.Mount] = 1
		}
	}
	var taken []chan struct{}
	free = func() {
		for _, c := range taken {
			<-c
		}
	}
	for _, mount := range slices.Sorted(maps.Keys(at)) {
		r.mu.Lock()
		if r.slots[mount] == nil {
			r.slots[mount] = make(chan struct{}, at[mount])
		}
		c := r.slots[mount]
		r.mu.Unlock()
		select {
		case c <- struct{}{}:
			taken = append(taken, c)
		case <-ctx.Done():
			free()
			return nil, ctx.Err()
		}
	}
	return free, nil
}

// planned plans the one thing that an item needs next; nil if that is nothing.
func (r *runner) planned(ctx context.Context, e *engine.Engine, i *Item) (*plan.Plan, error) {
	o := i.options(i.Part)
	if r, err := e.Ledger.Redirect(o.Name); err == nil && r.Link != i.Part.Link {
		o.Name = "" // another account's, whose name is much like this one's
	}
	switch i.State {
	case ToMove:
		if i.use != nil {
			o.Folder, o.As, o.Name = "", "", ""
			return i.ofAccount(group.PlanCard(ctx, e, i.use, o))
		}
		return redirect.PlanMove(ctx, e, o)
	case ToMoveOn:
		o.Folder, o.Name = i.Part.Link, ""
		return redirect.PlanMove(ctx, e, o)
	case ToMake:
		return ahead.MakePlan(ctx, e, o)
	case ToRecord:
		return record.MakePlan(e, record.Options{Path: i.Part.Link, Name: o.Name, Accept: o.Accept})
	case ToMend:
		return mend.MakePlan(ctx, e, *i.Redirect, mend.Options{Attach: true, WaitQuiet: o.WaitQuiet, Accept: o.Accept})
	case ToDiscard:
		d, err := discard.MakePlan(ctx, e, *i.Redirect, discard.Options{Run: i.Redirect.Run, Accept: o.Accept})
		if err != nil {
			return nil, err
		}
		p := d.ToRun()
		p.UID = i.Account.UID
		return p, nil
	}
	return nil, nil
}

// ofAccount gives the run of a card the account's name, too: runs of one name don't go at once.
func (i *Item) ofAccount(p *plan.Plan, err error) (*plan.Plan, error) {
	if err == nil {
		p.Name += " of " + i.Account.Name
	}
	return p, err
}

// finished finishes a run that was stopped. Several folders of a card have one.
func (r *runner) finished(ctx context.Context, e *engine.Engine, i *Item) error {
	row, err := execute.Stopped(e, i.run.ID)
	if err != nil {
		return err
	}
	_, err = jobs.Resume(ctx, e, row)
	if errors.Is(err, plan.ErrFinished) {
		return nil
	}
	return err
}

// withdrawn brings one item back.
func (r *runner) withdrawn(ctx context.Context, e *engine.Engine, i *Item) *Result {
	out := r.withdraw(ctx, e, i)
	out.Withdrawn = true
	return out
}

func (r *runner) withdraw(ctx context.Context, e *engine.Engine, i *Item) *Result {
	if i.State == ToFinish {
		if err := r.taken(ctx, e, i); err != nil {
			return ended(i, err)
		}
		if i.Redirect = r.redirectNow(e, i); i.Redirect == nil {
			return &Result{Item: i, End: Done}
		}
	}
	if i.Redirect == nil {
		return &Result{Item: i, End: Unchanged}
	}
	if i.Redirect.UID != i.Account.UID {
		return ended(i, refusal(i))
	}
	return ended(i, r.back(ctx, e, i))
}

// redirectNow is what the ledger has by now; nil if it is not redirected any more.
func (r *runner) redirectNow(e *engine.Engine, i *Item) *ledger.Redirect {
	now, err := e.ByLink(i.Link())
	if err != nil {
		return nil
	}
	return now
}

// taken takes back a run that was stopped, or finishes it if it brings the folder back.
func (r *runner) taken(ctx context.Context, e *engine.Engine, i *Item) error {
	row, err := execute.Stopped(e, i.run.ID)
	if err != nil {
		return err
	}
	if plan.TraitsOf(row.Kind).Back {
		_, err = jobs.Resume(ctx, e, row)
	} else {
		_, err = jobs.Undo(ctx, e, row)
	}
	if errors.Is(err, plan.ErrFinished) || errors.Is(err, plan.ErrNotUndoable) {
		return nil
	}
	return err
}

// back brings a redirect back: as if it had never been, where nobody has worked in the copy;
// else with what is there now.
func (r *runner) back(ctx context.Context, e *engine.Engine, i *Item) error {
	o := planning.BackOptions{Accept: i.options(i.Part).Accept, WhileInUse: i.Wish.WhileInUse}
	if i.use != nil {
		p, err := i.ofAccount(group.PlanBack(ctx, e, i.Redirect.Card, []ledger.Redirect{*i.Redirect}, o))
		if err != nil {
			return err
		}
		return r.do(ctx, e, i, p)
	}
	err := r.unmade(ctx, e, i)
	var refused *plan.RefusedError
	if !errors.As(err, &refused) && !errors.Is(err, plan.ErrNotUndoable) {
		return err
	}
	p, err := redirect.PlanBringBack(ctx, e, *i.Redirect, o)
	if err != nil {
		return err
	}
	return r.do(ctx, e, i, p)
}

// unmade takes back the run that made the redirect; [plan.ErrNotUndoable] if others came
// after it, or its original is gone.
func (r *runner) unmade(ctx context.Context, e *engine.Engine, i *Item) error {
	row, err := e.Ledger.Run(i.Redirect.Run)
	if errors.Is(err, ledger.ErrNotFound) {
		return plan.ErrNotUndoable
	}
	if err != nil {
		return err
	}
	p, err := plan.Of(row)
	if err != nil {
		return err
	}
	held, err := e.Held(i.Redirect.Name)
	if err != nil {
		return err
	}
	keeps := p.Traits().Ahead || slices.ContainsFunc(held, func(h ledger.Held) bool { return h.Run == row.ID })
	if !keeps || row.State != ledger.Done {
		return plan.ErrNotUndoable
	}
	if err := execute.Undoable(e.Ledger, row); err != nil {
		return err
	}
	_, err = jobs.Undo(ctx, e, row)
	return err
}
