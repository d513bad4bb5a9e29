package preflight

import (
	"nexlin/internal/finding"
	"nexlin/internal/pathtext"
)

// A SyncRoot is a folder that a sync provider keeps in step with what it has elsewhere.
type SyncRoot struct {
	Provider string // as the system shows it to people
	Path     string
}

// Synced finds a folder that a sync provider keeps, or which has such a folder in it: for the
// provider, what is moved away was deleted.
func Synced(name, from string, roots []SyncRoot) (out []finding.Finding) {
	for _, r := range roots {
		if !pathtext.Within(from, r.Path) && !pathtext.Within(r.Path, from) {
			continue
		}
		out = append(out, finding.New(finding.SyncedFolder, r.Path, "%s keeps %s in step with what it has elsewhere, "+
			"and may take %s for deleted once it is moved", r.Provider, r.Path, from).Named(name))
	}
	return out
}
