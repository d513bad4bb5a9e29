package cli

import (
	"nexlin/internal/screen"
)

// emit prints the one JSON document of a command.
func (a *app) emit(d screen.Doc) error {
	if a.docDone {
		return nil
	}
	a.docDone = true
	d["nexlin"] = 1
	d["command"] = a.command
	return a.WriteJSON(d, "  ")
}

// fail reports an error, to people or as the one JSON document, and returns
// the exit status.
func (a *app) fail(err error) int {
	f := a.explain(err)
	a.grave(f.Exit)
	if a.AsJSON && !a.docDone {
		_ = a.emit(screen.Doc{ // where standard output is gone, the status still tells
			"error": screen.FaultDoc(f), "findings": screen.FindingDocs(f.Found),
		})
		return a.exit
	}
	a.Tell(f)
	return a.exit
}

func (a *app) progress() *screen.Progress { return a.NewProgress(a.progressJSON) }
