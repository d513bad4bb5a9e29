package redirect

import (
	"context"
	"errors"
	"path/filepath"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
)

// Kinds of run, as the ledger has them.
const (
	KindMove      = "move"
	KindMoveOn    = "move-on"
	KindBringBack = "bring-back"
	KindDetach    = "detach"
	KindDiscard   = "discard-original"
	KindMend      = "mend"
	KindMerge     = "merge-halves"
	KindRecord    = "record"
	KindRestore   = "restore-links"
	KindRenew     = "update-manifest"
	KindFuture    = "future-only"
	KindPack      = "pack"
	KindUnpack    = "unpack"
	KindHandover  = "handover"

	// Several in one.
	KindMoveTogether = "move-together"
	KindBackTogether = "bring-back-together"
)

// A kind is one kind of run: what it is for, and how it is opened, carried out and
// taken back. What differs from kind to kind is asked here: no other file compares
// the names.
//
// Each function looks at the disks first and may be called again after a stop
// anywhere in it (I3).
type kind struct {
	// What becomes of folder and link.
	first  bool // a folder without a redirect gets one
	on     bool // a redirect goes on to another place
	back   bool // the real folder comes back in the link's place
	merges bool // the folder in the link's place is merged into the target

	copies  bool // a folder is copied, or compared, as a whole
	archive bool // an archive is made or read, and nothing about a redirect changes
	unpacks bool // it is read
	holdsIt bool // an archive is held in place of an original
	noLink  bool // no link is touched, so that its drive may be away
	spare   bool // room is freed, so that the ledger's reserve may be used for it
	final   bool // what is done stays done: undo only ends it
	several bool // it is one of several folders

	// open takes handles and locks, and refuses without a trace.
	open func(m *execution) error
	// begin is what else can refuse without a trace, the first time; may be nil.
	begin func(m *execution, ctx context.Context) error
	// forward carries the run from wherever it stands to its end.
	forward func(m *execution, ctx context.Context) error
	// undo takes it back from wherever it stands.
	undo func(m *execution, ctx context.Context) error
	// ended says in the ledger what the error of forward makes of the run; nil has
	// any error stop it.
	ended func(m *execution, err error) error
	// where judges by the disks how far it got; nil where that is never asked.
	where func(m *execution) (position, error)
}

var kinds map[string]*kind

func init() {
	kinds = map[string]*kind{
		KindMove:      copying(kind{first: true, where: (*execution).whereMove}),
		KindMoveOn:    copying(kind{on: true, where: (*execution).whereMoveOn}),
		KindBringBack: copying(kind{back: true, where: (*execution).whereBringBack}),
		KindMerge: copying(kind{merges: true, where: (*execution).whereMove,
			undo: (*execution).mergeBackward}),

		KindDetach: {spare: true, open: opensAsItGoes,
			forward: (*execution).detach,
			undo:    (*execution).attach},
		KindDiscard: {spare: true, noLink: true, final: true, open: opensAsItGoes,
			forward: (*execution).discardAgain,
			undo:    (*execution).endDiscard},
		KindMend: {open: func(m *execution) error { return m.openMend(!m.p.StaysDetached()) },
			forward: (*execution).mend,
			undo:    (*execution).unmend},
		KindRecord: {copies: true, open: (*execution).openRecord, begin: beginRecord, ended: endRecord,
			forward: (*execution).record,
			undo:    (*execution).unrecord,
			where:   (*execution).whereLinked},
		KindRestore: {open: (*execution).openRestore,
			forward: (*execution).restore,
			undo:    func(m *execution, _ context.Context) error { return m.unrestore() }},
		KindRenew: {noLink: true, open: func(m *execution) error { return m.openMend(false) },
			forward: (*execution).renewManifest,
			undo:    (*execution).unrenew},
		KindFuture: {open: func(m *execution) error { return m.checkDrive(m.p.Into, m.p.IntoDrive) },
			forward: (*execution).future,
			undo:    (*execution).notFuture},
		KindPack: {archive: true, noLink: true, open: (*execution).openPack, ended: endArchive,
			forward: (*execution).packOn,
			undo:    func(m *execution, _ context.Context) error { return m.packBack() }},
		KindUnpack: {archive: true, unpacks: true, open: (*execution).openPack, ended: endArchive,
			forward: (*execution).unpackOn,
			undo:    func(m *execution, _ context.Context) error { return m.packBack() }},
		KindHandover: {holdsIt: true, open: (*execution).openHandover, ended: endHandover,
			forward: (*execution).handover,
			undo:    (*execution).unhandover},

		KindMoveTogether: {several: true},
		KindBackTogether: {several: true, back: true},
	}
}

// kindOf finds a kind by its name; one that is not known does and is nothing.
func kindOf(name string) *kind {
	if k := kinds[name]; k != nil {
		return k
	}
	return &kind{}
}

func (p *Plan) kind() *kind { return kindOf(p.Kind) }

// ComesBack says that the folder comes back in the link's place.
func (p *Plan) ComesBack() bool { return p.kind().back }

// Merges says that the folder in the link's place is merged into the target.
func (p *Plan) Merges() bool { return p.kind().merges }

// IsFirst says that a folder without a redirect gets one.
func (p *Plan) IsFirst() bool { return p.kind().first }

// MovesOn says that a redirect goes on to another place.
func (p *Plan) MovesOn() bool { return p.kind().on }

// Unpacks says that an archive is read.
func (p *Plan) Unpacks() bool { return p.kind().unpacks }

// ComesBack says that the folders come back in the links' places.
func (t *Together) ComesBack() bool { return kindOf(t.Kind).back }

// exchanges says that link and folder change places, so that what was copied is held
// beside the link.
func (p *Plan) exchanges() bool { return p.kind().first || p.kind().merges }

// Small says that the run copies nothing: it only changes a link or records,
// or deletes.
func (p *Plan) Small() bool { return !p.kind().copies }

// IsTogether says that a run is one of several folders.
func IsTogether(row ledger.RunRow) bool { return kindOf(row.Kind).several }

// ofArchive says of a kind of run that it makes or reads an archive: nothing about a
// redirect changes by it.
func ofArchive(kind string) bool { return kindOf(kind).archive }

// copying fills in what the kinds that copy a folder and switch have in common.
func copying(k kind) *kind {
	k.copies = true
	k.open = (*execution).open
	k.begin = func(m *execution, ctx context.Context) error {
		return handle.InOrder(func() error { return m.waitQuiet(ctx) }, m.tryLink)
	}
	k.forward = (*execution).forward
	k.ended = func(m *execution, err error) error {
		if refused, err := m.refusedEarly(err); refused {
			return err
		}
		return m.stopped(err)
	}
	if k.undo == nil {
		k.undo = func(m *execution, ctx context.Context) error {
			if m.copied {
				return m.uncopied(ctx)
			}
			return m.backward(ctx)
		}
	}
	return &k
}

func opensAsItGoes(*execution) error { return nil }

func beginRecord(m *execution, _ context.Context) error {
	if m.p.From != m.p.Link {
		return nil
	}
	return m.tryLink()
}

// endRecord ends a run that took nothing in as refused, not as stopped.
func endRecord(m *execution, err error) error {
	if refused := (*RefusedError)(nil); errors.As(err, &refused) {
		return errors.Join(err, m.Run.Set(ledger.Refused, refused.Error(), nil))
	}
	return m.stopped(err)
}

// endArchive leaves nothing of an archive, or of what was read from one, that did not
// become whole.
func endArchive(m *execution, err error) error {
	if err == nil || m.placed {
		return m.stopped(err)
	}
	if gone := m.dropPart(); gone != nil {
		return m.stopped(errors.Join(err, gone))
	}
	m.out.State = ledger.Undone
	return errors.Join(err, m.Run.Set(ledger.Undone, err.Error(), nil))
}

// endHandover knows of a handover that was taken back as a whole.
func endHandover(m *execution, err error) error {
	var back *TakenBackError
	if errors.As(err, &back) {
		m.out.State = ledger.Undone
		return errors.Join(err, m.Run.Set(ledger.Undone, back.Err.Error(), nil))
	}
	return m.stopped(err)
}

// carryOn has the kind carry the run on, and says in the ledger how that ended.
func (m *execution) carryOn(ctx context.Context) error {
	k := m.p.kind()
	err := k.forward(m, ctx)
	if k.ended != nil {
		return k.ended(m, err)
	}
	return m.stopped(err)
}

// where judges by the disks how far the run got; the journal only tells which inode
// the part had. A state that no step leaves behind is a *[swap.BrokenError].
func (m *execution) where() (position, error) {
	if k := m.p.kind(); k.where != nil {
		return k.where(m)
	}
	return before, nil
}

// openAny opens what a run of its kind works on.
func (m *execution) openAny() error {
	if err := m.wantLinkDrive(); err != nil {
		return err
	}
	return m.p.kind().open(m)
}

// Do carries out a plan that nothing blocks. The error is a *[RefusedError] before
// anything has changed, a *[StoppedError] afterwards, a *[KeptError] if all is done
// but discarding the original.
func (e *Engine) Do(ctx context.Context, p *Plan) (*Outcome, error) {
	if err := p.Blocked(); err != nil {
		return nil, err
	}
	out, err := e.execution(p).conduct(ctx)
	if err == nil && p.DiscardOld {
		err = e.discardAfter(ctx, out)
	}
	return out, err
}

// conduct opens what the run needs, records it, and carries it out. What can refuse without
// a trace comes first: the run is not in the ledger yet.
func (m *execution) conduct(ctx context.Context) (*Outcome, error) {
	defer m.close()
	if err := m.openAny(); err != nil {
		return nil, err
	}
	if begin := m.p.kind().begin; begin != nil {
		if err := begin(m, ctx); err != nil {
			return nil, err
		}
	}
	if err := m.enlist(); err != nil {
		return nil, err
	}
	defer m.Run.Release()
	return m.out, m.carryOn(ctx)
}

// base is the last name of the link path.
func (m *execution) base() string { return filepath.Base(m.p.Link) }
