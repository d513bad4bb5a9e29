package redirect

import (
	"context"
	"fmt"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
)

// A job is how one kind of run is done. Each method looks at the disks first and may be
// called again after a stop anywhere in it (I3).
type job interface {
	// Open takes handles and locks, and refuses without a trace.
	Open() error
	// Try is what else can refuse without a trace, the first time.
	Try(ctx context.Context) error
	// Forward carries the run from wherever it stands to its end.
	Forward(ctx context.Context) error
	// Back takes it back from wherever it stands.
	Back(ctx context.Context) error
	// Ended says in the ledger what the error of Forward makes of the run.
	Ended(err error) error
	// Where judges by the disks how far it got, for kinds that lead programs to another
	// place; the journal only tells which inode the part had. A state that no step leaves
	// behind is a *[swap.BrokenError].
	Where() (plan.Position, error)
}

// makers have the function that makes the job of a run, by the name of its kind.
var makers = map[string]func(*execution) job{}

// register says who carries runs of a kind out. It is called before any run is.
func register(kind string, make func(*execution) job) { makers[kind] = make }

// A copyJob is the job of a run that copies a folder, where such runs differ.
type copyJob interface {
	job
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

// basics is what a job does that opens as it goes, tries nothing, and is stopped by any
// error.
type basics struct{ *execution }

func (b basics) Open() error                   { return nil }
func (b basics) Try(context.Context) error     { return nil }
func (b basics) Ended(err error) error         { return b.setStopped(err) }
func (b basics) Where() (plan.Position, error) { return plan.AsBefore, nil }

// unknown is the job of a kind that this build does not know.
type unknown struct{ basics }

func (u unknown) Open() error {
	return fmt.Errorf("run %s is of a kind that this Nexlin does not know: %q", u.plan.Run, u.plan.Kind)
}
func (u unknown) Forward(context.Context) error { return u.Open() }
func (u unknown) Back(context.Context) error    { return u.Open() }

// A copying copies a folder, verifies it, and switches.
type copying struct{ basics }

func copyingOf(m *execution) copying { return copying{basics{m}} }

func (c copying) Open() error { return c.openFolders() }

func (c copying) Try(ctx context.Context) error {
	return handle.InOrder(func() error { return c.waitQuiet(ctx) }, c.trySwitch)
}

func (c copying) Forward(ctx context.Context) error { return c.forward(ctx) }

func (c copying) Ended(err error) error {
	if refused, err := c.refusedEarly(err); refused {
		return err
	}
	return c.setStopped(err)
}

func (c copying) Back(ctx context.Context) error {
	if c.copied {
		return c.uncopied(ctx)
	}
	return c.backward(ctx)
}

func (c copying) FindPart() (bool, error)                         { return false, nil }
func (c copying) StartOver(context.Context) error                 { return nil }
func (c copying) Settle(context.Context) error                    { return nil }
func (c copying) Describe(context.Context) error                  { return c.describePlace() }
func (c copying) Place(ctx context.Context, data Placement) error { return c.placeCopy(ctx, data) }
func (c copying) TryLink(ctx context.Context, target *handle.Dir) error {
	return c.tryPlace(ctx, target)
}
func (c copying) Save(ctx context.Context) (func(*ledger.Tx) error, error) {
	return c.saveRedirect(ctx)
}

// carryOn has the job carry the run on, and says in the ledger how that ended.
func (m *execution) carryOn(ctx context.Context) error { return m.job.Ended(m.job.Forward(ctx)) }

// standsAt is how far the run got.
func (m *opener) standsAt() (plan.Position, error) { return m.job.Where() }

// openAny opens what a run of its kind works on.
func (m *opener) openAny() error { return handle.InOrder(m.wantLinkDrive, m.job.Open) }
