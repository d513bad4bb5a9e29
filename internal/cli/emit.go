package cli

// emit prints the one JSON document of a command.
func (a *app) emit(d doc) error {
	if a.docDone {
		return nil
	}
	a.docDone = true
	d["nexlin"] = 1
	d["command"] = a.command
	return a.writeJSON(d, "  ")
}

// fail reports an error, to people or as the one JSON document, and returns
// the exit status.
func (a *app) fail(err error) int {
	f := a.explain(err)
	a.grave(f.Exit)
	if a.json && !a.docDone {
		_ = a.emit(doc{ // where standard output is gone, the status still tells
			"error": faultDoc(f), "findings": findingDocs(f.Found),
		})
		return a.exit
	}
	a.tell(f)
	return a.exit
}

func (a *app) progress() *progress { return a.newProgress(a.progressJSON) }
