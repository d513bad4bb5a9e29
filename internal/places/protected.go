package places

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
)

// Ours gives a function that tells what is Nexlin's own, and so no folder of
// anybody's: records, parts, trials, what is held, the state directory, and
// everything below these.
func (p *Places) Ours() (func(path string) bool, error) {
	held, err := p.AllHeld()
	if err != nil {
		return nil, err
	}
	own := []string{ResolvedDir(p.Ledger.Dir())}
	for _, h := range held {
		own = append(own, h.Path)
	}
	return func(path string) bool {
		parts := strings.Split(filepath.ToSlash(path), "/")
		return slices.ContainsFunc(own, func(o string) bool { return pathtext.Within(path, o) }) ||
			slices.ContainsFunc(parts, naming.IsOwn)
	}, nil
}

// IsOurs is said of what [Places.Ours] tells.
const IsOurs = "is Nexlin's own: a record, or something that it holds"

// Protected says why a folder is not for a redirect; empty for any other.
func (p *Places) Protected(path string) (string, error) {
	ours, err := p.Ours()
	if err != nil {
		return "", err
	}
	needed, whole := systemPlaces()
	same := func(at string) bool { return pathtext.Equal(at, path) }
	switch {
	case pathtext.IsRoot(path) || slices.ContainsFunc(needed, same):
		return "is a place that the system needs where it is", nil
	case slices.ContainsFunc(whole, func(w string) bool { return pathtext.Within(path, w) }):
		return "belongs to the system", nil
	case slices.ContainsFunc(p.Homes, same):
		return "is the home of an account", nil
	case pathtext.Within(ResolvedDir(p.Ledger.Dir()), path):
		return "holds Nexlin's own records", nil
	case ours(path):
		return IsOurs, nil
	}
	return "", nil
}

// HomeOf is the home directory that a path lies in; empty if it lies in none
// that is known.
func (p *Places) HomeOf(path string) (home string) {
	for _, h := range p.Homes {
		if !pathtext.IsRoot(h) && pathtext.Within(path, h) && len(h) > len(home) {
			home = h
		}
	}
	return home
}

// ByLink gives the redirect whose link stands at a path; nil if there is none.
func (p *Places) ByLink(path string) (*ledger.Redirect, error) {
	all, err := p.Redirects()
	for _, r := range all {
		if r.Link == path && r.State != ledger.Ended {
			return &r, nil
		}
	}
	return nil, err
}

// Nested finds redirects above and below a folder that lies at from and is reached by
// link; the one called own is itself, if it is one already.
func (p *Places) Nested(own, link, from string) (out []finding.Finding, err error) {
	all, err := p.Redirects()
	for _, r := range all {
		if own != "" && r.Name == own || r.State == ledger.Ended {
			continue
		}
		about := finding.Subject{Name: r.Name, Drive: r.Drive.Label}
		if from == r.Target {
			out = append(out, finding.New(finding.TargetShared, r.Link, "%s is the target of redirect %s, too", from,
				r.Name).About(about).Instead(fmt.Sprintf("`nexlin detach %[1]s` and then `nexlin forget %[1]s`: both "+
				"lead to the same data", pathtext.Quote(r.Name))))
		} else if pathtext.Within(from, r.Target) {
			out = append(out, finding.New(finding.InsideRedirect, from, "%s lies inside the target of redirect %s",
				from, r.Name).About(about))
		}
		if r.Link != link && pathtext.Within(r.Link, from) {
			out = append(out, finding.New(finding.HoldsRedirect, r.Link, "%s holds the link of redirect %s", from,
				r.Name).About(about))
		}
	}
	return out, err
}

// Shared finds another redirect than the one of that name that has its data at a target.
func (p *Places) Shared(name, target string) (out []finding.Finding, err error) {
	all, err := p.Redirects()
	for _, r := range all {
		if r.Target == target && r.Name != name && r.State != ledger.Ended {
			out = append(out, finding.New(finding.TargetShared, target, "%s is the target of redirect %s", target,
				r.Name).Named(r.Name).OnDrive(r.Drive.Label))
		}
	}
	return out, err
}
