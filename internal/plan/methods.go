package plan

import (
	"slices"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/preflight"
)

// Methods: how programs are led to the target.
const (
	BySymlink = "symlink"
	BySetting = "setting"
	// ByJunction is the method of Windows: a junction on NTFS. Windows itself
	// knows how it names the target; a rescue system has to be told.
	ByJunction = "junction"
	// ByHandover is the method of a redirect that an engine has moved.
	ByHandover = "handover"
)

// ForOthers is that of a redirect.
func ForOthers(r ledger.Redirect) bool { return ForOthersBy(r.Methods) }

// ForOthersBy says that it is another system, Windows, that is led to the target:
// what this one mounts and when is nothing to it.
func ForOthersBy(methods []string) bool {
	return !handle.Windows && slices.Contains(methods, ByJunction)
}

// Owned says that the engine that owns a redirect's store moves it: nobody
// else may.
func Owned(r ledger.Redirect) bool { return slices.Contains(r.Methods, ByHandover) }

// LinkDrive is the drive that the link stands on, as far as it is known.
func (p *Plan) LinkDrive() *drive.Drive {
	if p.Exchanges() || p.Traits().copies && p.From == p.Link {
		return &p.FromNow
	}
	return &drive.Drive{}
}

// Unlinked says that no link stands at the link path of a redirect that is
// brought back: it was detached, or programs were led by settings alone.
func (p *Plan) Unlinked() bool {
	return p.Before != nil && (p.Before.State == ledger.Detached || Linkless(p.Before.Methods))
}

// ByOthersLinks adds what [preflight.OthersLinks] finds.
func (p *Plan) ByOthersLinks(named ...string) error {
	return p.Told(preflight.OthersLinks(p.Name, named...))
}

// InnerLinks says what becomes of relative links in the folder that lead
// out of it, and would mean something else once it lies elsewhere.
type InnerLinks string

// Rewritten links say the absolute path they meant; kept ones keep their
// text and break; refuse ends the move.
const (
	KeepLinks    InnerLinks = "keep"
	RewriteLinks InnerLinks = "rewrite"
	RefuseLinks  InnerLinks = "refuse"
)

// RewriteFor is what becomes of relative links that lead out when the data of a
// redirect moves on: where Windows is led to it, this system's paths are no use.
func RewriteFor(r ledger.Redirect) InnerLinks {
	if ForOthers(r) {
		return KeepLinks
	}
	return RewriteLinks
}
