package plan

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
	KindAhead     = "ahead"

	// Several in one.
	KindMoveTogether = "move-together"
	KindBackTogether = "bring-back-together"
)

// A Traits is one kind of run: what it is for, and the job that does it. What differs from
// kind to kind is asked here: no other file compares the names.
type Traits struct {
	// What becomes of folder and link.
	First  bool // a folder without a redirect gets one
	Onward bool // a redirect goes on to another place
	Back   bool // the real folder comes back in the link's place
	Merges bool // the folder in the link's place is merged into the target
	Ahead  bool // a folder that is not there gets a redirect
	Adds   bool // data lies in the ledger's care afterwards that did not before

	copies       bool // a folder is copied, or compared, as a whole
	archive      bool // an archive is made or read, and nothing about a redirect changes
	unpacks      bool // it is read
	HoldsArchive bool // an archive is held in place of an original
	NoLink       bool // no link is touched, so that its drive may be away
	Spare        bool // room is freed, so that the ledger's reserve may be used for it
	Final        bool // what is done stays done: undo only ends it
	Several      bool // it is one of several folders, each of which has a run of its own
}

var kinds = map[string]*Traits{
	KindMove:      {First: true, Adds: true, copies: true},
	KindMoveOn:    {Onward: true, copies: true},
	KindBringBack: {Back: true, copies: true},
	KindMerge:     {Merges: true, copies: true},

	KindDetach:   {Spare: true},
	KindDiscard:  {Spare: true, NoLink: true, Final: true},
	KindMend:     {},
	KindRecord:   {Adds: true, copies: true},
	KindRestore:  {Adds: true},
	KindRenew:    {NoLink: true},
	KindFuture:   {},
	KindPack:     {archive: true, NoLink: true},
	KindUnpack:   {archive: true, unpacks: true, NoLink: true},
	KindHandover: {Adds: true, HoldsArchive: true},
	KindAhead:    {Ahead: true},

	KindMoveTogether: {Several: true},
	KindBackTogether: {Several: true, Back: true},
}

// TraitsOf finds a kind by its name; one that is not known does and is nothing.
func TraitsOf(name string) *Traits {
	if k := kinds[name]; k != nil {
		return k
	}
	return &Traits{}
}

func (p *Plan) Traits() *Traits { return TraitsOf(p.Kind) }

// ComesBack says that the folder comes back in the link's place.
func (p *Plan) ComesBack() bool { return p.Traits().Back }

// Merges says that the folder in the link's place is merged into the target.
func (p *Plan) Merges() bool { return p.Traits().Merges }

// IsFirst says that a folder without a redirect gets one.
func (p *Plan) IsFirst() bool { return p.Traits().First }

// MovesOn says that a redirect goes on to another place.
func (p *Plan) MovesOn() bool { return p.Traits().Onward }

// Unpacks says that an archive is read.
func (p *Plan) Unpacks() bool { return p.Traits().unpacks }

// Exchanges says that link and folder change places, so that what was copied is held
// beside the link.
func (p *Plan) Exchanges() bool { return p.Traits().First || p.Traits().Merges }

// Small says that the run copies nothing: it only changes a link or records,
// or deletes.
func (p *Plan) Small() bool { return !p.Traits().copies }

// OfArchive says of a kind of run that it makes or reads an archive: nothing about a
// redirect changes by it.
func OfArchive(kind string) bool { return TraitsOf(kind).archive }
