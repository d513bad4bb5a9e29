package redirect

import (
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
)

// Ours gives a function that tells what is Nexlin's own, and so no folder of
// anybody's: records, parts, trials, what is held, the state directory, and
// everything below these.
func (e *Engine) Ours() (func(path string) bool, error) {
	held, err := e.Ledger.HeldOf("")
	if err != nil {
		return nil, err
	}
	own := []string{places.ResolvedDir(e.Ledger.Dir())}
	for _, h := range held {
		own = append(own, h.Path)
	}
	return func(path string) bool {
		parts := strings.Split(filepath.ToSlash(path), "/")
		return slices.ContainsFunc(own, func(o string) bool { return pathtext.Within(path, o) }) ||
			slices.ContainsFunc(parts, naming.IsOwn)
	}, nil
}

// notOurs refuses a place that is Nexlin's own for what is to be written there.
func (e *Engine) notOurs(p *Plan) (bool, error) {
	ours, err := e.Ours()
	if err != nil {
		return false, err
	}
	at := p.Into
	if !ours(at) {
		if at = p.Copy(); !ours(at) || ours(p.From) { // a folder of that name is refused as what it is
			return true, nil
		}
	}
	p.find(finding.New(finding.Protected, at, "%s %s", at, isOurs).Instead("name another place"))
	return false, nil
}

// isOurs is said of what [Engine.Ours] tells.
const isOurs = "is Nexlin's own: a record, or something that it holds"
