package execute

import (
	"context"
	"fmt"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
)

// A Job is how one kind of run is done. Each method looks at the disks first and may be
// called again after a stop anywhere in it (I3).
type Job interface {
	// Open takes handles and locks, and refuses without a trace.
	Open() error
	// Try is what else can refuse without a trace, the first time.
	Try(ctx context.Context) error
	// Forward carries the run from wherever it stands to its end.
	Forward(ctx context.Context) error
	// TryBack is what can refuse to take it back without a trace.
	TryBack(ctx context.Context) error
	// Back takes it back from wherever it stands. A *[plan.StoppedError] was noted by it.
	Back(ctx context.Context) error
	// Ended says in the ledger what the error of Forward makes of the run.
	Ended(err error) error
	// Where judges by the disks how far it got, for kinds that lead programs to another
	// place; the journal only tells which inode the part had. A state that no step leaves
	// behind is a *[swap.BrokenError].
	Where() (plan.Position, error)
}

// makers have the function that makes the job of a run, by the name of its kind.
var makers = map[string]func(*Execution) Job{}

// Register says who carries runs of a kind out. It is called before any run is.
func Register(kind string, make func(*Execution) Job) { makers[kind] = make }

// A copyJob is the job of a run that copies a folder, where such runs differ.
type copyJob interface {
	Job
	// FindPart looks, before the part is opened, whether it has to start over.
	FindPart() (again bool, err error)
	// StartOver makes a part whole again that FindPart has found.
	StartOver(ctx context.Context) error
	// Place gives the copy its place, and leads programs there.
	Place(ctx context.Context, data Placement) error
	// Settle does what follows once programs are led there, before that is tried.
	Settle(ctx context.Context) error
	// TryLink proves that programs get to target, the copy.
	TryLink(ctx context.Context, target *handle.Dir) error
	// Describe writes beside the target what it is.
	Describe(ctx context.Context) error
	// Save puts into the ledger what the redirect is by now.
	Save(ctx context.Context) (func(*ledger.Tx) error, error)
}

// Basics is what a job does that opens as it goes, tries nothing, and is stopped by any
// error.
type Basics struct{ *Execution }

func (b Basics) Open() error                   { return nil }
func (b Basics) Try(context.Context) error     { return nil }
func (b Basics) TryBack(context.Context) error { return nil }
func (b Basics) Ended(err error) error         { return b.SetStopped(err) }
func (b Basics) Where() (plan.Position, error) { return plan.AsBefore, nil }

// unknown is the job of a kind that this build does not know.
type unknown struct{ Basics }

func (u unknown) Open() error {
	return fmt.Errorf("run %s is of a kind that this Nexlin does not know: %q", u.Plan.Run, u.Plan.Kind)
}
func (u unknown) Forward(context.Context) error { return u.Open() }
func (u unknown) Back(context.Context) error    { return u.Open() }

// A Copying copies a folder, verifies it, and switches.
type Copying struct{ Basics }

func CopyingOf(m *Execution) Copying { return Copying{Basics{m}} }

func (c Copying) Open() error { return c.OpenFolders() }

func (c Copying) Try(ctx context.Context) error {
	return handle.InOrder(func() error { return c.WaitQuiet(ctx) }, c.TrySwitch)
}

func (c Copying) Forward(ctx context.Context) error { return c.forward(ctx) }

func (c Copying) Ended(err error) error {
	if refused, err := c.refusedEarly(err); refused {
		return err
	}
	return c.SetStopped(err)
}

func (c Copying) Back(ctx context.Context) error {
	if c.copied {
		return c.uncopied(ctx)
	}
	return c.backward(ctx)
}

func (c Copying) FindPart() (bool, error)                         { return false, nil }
func (c Copying) StartOver(context.Context) error                 { return nil }
func (c Copying) Settle(context.Context) error                    { return nil }
func (c Copying) Describe(context.Context) error                  { return c.describePlace() }
func (c Copying) Place(ctx context.Context, data Placement) error { return c.placeCopy(ctx, data) }
func (c Copying) TryLink(ctx context.Context, target *handle.Dir) error {
	return c.tryPlace(ctx, target)
}
func (c Copying) Save(ctx context.Context) (func(*ledger.Tx) error, error) {
	return c.saveRedirect(ctx)
}

// carryOn has the job carry the run on, and says in the ledger how that ended.
func (m *Execution) carryOn(ctx context.Context) error { return m.Job.Ended(m.Job.Forward(ctx)) }

// StandsAt is how far the run got.
func (m *opener) StandsAt() (plan.Position, error) { return m.Job.Where() }

// OpenAny opens what a run of its kind works on.
func (m *opener) OpenAny() error { return handle.InOrder(m.wantLinkDrive, m.Job.Open) }
