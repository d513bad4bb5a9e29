package screen

import (
	"strings"

	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/survey"
)

// HistoryDoc lists runs.
func HistoryDoc(runs []ledger.RunRow) Doc {
	docs := []Doc{}
	for _, r := range runs {
		d := Doc{"id": r.ID, "kind": r.Kind, "redirect": r.Redirect, "state": r.State, "started": r.Started,
			"message": r.Message}
		if !r.Ended.IsZero() {
			d["ended"] = r.Ended
		}
		docs = append(docs, d)
	}
	return Doc{"runs": docs}
}

func (a *Lines) ShowHistory(runs []ledger.RunRow) {
	if len(runs) == 0 {
		a.Print("no run yet")
		return
	}
	var rows [][]string
	for _, r := range runs {
		rows = append(rows, []string{r.ID, r.Kind, strings.TrimPrefix(r.Redirect, "-"), RunWord(r.State),
			Day(r.Started), pathtext.Show(r.Message)})
	}
	a.Columns(a.Out, []string{"run", "what", "redirect", "state", "started", ""}, rows)
}

func (a *Lines) ShowHeld(held []ledger.Held) {
	if len(held) == 0 {
		a.Print("nothing is held")
		return
	}
	var rows [][]string
	for _, h := range held {
		rows = append(rows, []string{h.Redirect, a.Path(h.Path), pathtext.Size(h.Bytes), pathtext.Show(h.Drive.Label),
			Day(h.Since) + " (" + Ago(h.Since) + ")"})
	}
	a.Columns(a.Out, []string{"name", "held as", "frees", "on", "since"}, rows, 2)
	a.Print("")
	a.Print("  nexlin discard-original NAME compares once more and deletes")
}

// NeedDoc is how large a drive must be for folders.
func NeedDoc(n *survey.Need) Doc {
	fits := []Doc{}
	for _, f := range n.Fits {
		fits = append(fits, Doc{"drive": f.Drive, "free": f.Free, "short": f.Short})
	}
	return Doc{"folders": FolderDocs(n.Folders),
		"need": Doc{"bytes": n.Bytes, "reserve": n.Reserve, "total": n.Total, "drives": fits}}
}

func (a *Lines) ShowNeed(n *survey.Need) {
	var rows [][]string
	for _, f := range n.Folders {
		rows = append(rows, []string{a.Path(f.Path), pathtext.Size(f.Bytes), pathtext.Count(f.Files)})
	}
	a.Columns(a.Out, []string{"folder", "size", "files"}, rows, 1, 2)
	a.Print("")
	a.Print("  the drive must have  %s free", Bold.Render(pathtext.Size(n.Total)))
	a.Print("    for the folders    %s, in blocks of 4 KiB and with their manifests", pathtext.Size(n.Bytes))
	a.Print("    kept free          %s, so that the drive stays usable", pathtext.Size(n.Reserve))
	a.Print("  a folder that still grows needs as much more as it is going to grow")
	a.Print("")
	for _, f := range n.Fits {
		says := Good.Render("has the room")
		if f.Short > 0 {
			says = Caution.Render("lacks " + pathtext.Size(f.Short))
		}
		a.Print("  %-10s %s free: %s", pathtext.Show(f.Drive), pathtext.Size(f.Free), says)
	}
	if len(n.Fits) == 0 {
		a.Print("  no other drive is here")
	}
}
