package screen

import (
	"fmt"
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
	"nexlin/internal/survey"
)

func (a *Screen) ShowInspect(l *planning.Look) {
	p := l.Plan
	a.Print("%s", Bold.Render(a.Path(l.Path)))
	for _, s := range l.Chain {
		a.Print("  %s ──link──▶ %s", a.Path(s.Path), a.Path(link.Seen(s.Text)))
	}
	var rows [][]string
	add := func(k, v string) { rows = append(rows, []string{k, v}) }
	if l.Real != l.Path {
		add("real path", a.Path(l.Real))
	}
	if l.Redirect != nil {
		add("redirect", fmt.Sprintf("%s, on %s", l.Redirect.Name, pathtext.Show(l.Redirect.Drive.Label)))
	}
	if p.FromIno != 0 && p.FromNow.Mount != "" { // it was looked into
		add("drive", fmt.Sprintf("%s, %s free", pathtext.Show(p.FromNow.Name()), pathtext.Size(p.FromNow.Free)))
		add("holds", fmt.Sprintf("%s, %s, %s", pathtext.Files(p.Facts.Files),
			pathtext.Plural(p.Facts.Dirs, "directory", "directories"), pathtext.Plural(p.Facts.Links, "link", "links")))
		add("size", fmt.Sprintf("%s; moving it frees %s", pathtext.Size(p.Bytes), pathtext.Size(p.Allocated)))
		add("belongs to", p.Account)
		used := "nobody that can be seen"
		if len(p.InUse.Holders) > 0 {
			used = ""
			for i, h := range p.InUse.Holders {
				if i == 6 {
					used += fmt.Sprintf("\nand %d more", len(p.InUse.Holders)-i)
					break
				}
				used += fmt.Sprintf("\n%s (process %d): %s, %s", pathtext.Show(h.Program), h.PID, h.How, a.Path(h.Path))
			}
			used = strings.TrimPrefix(used, "\n")
		}
		add("in use by", used)
		if len(l.Methods) > 0 {
			add("can be moved by", strings.Join(l.Methods, ", "))
		}
	}
	if len(rows) > 0 {
		a.Columns(a.Out, nil, rows)
	}
	if l.Redirect != nil {
		return // that it is a link is what it is meant to be
	}
	a.Print("")
	a.Findings(a.Out, p.Findings)
	if len(p.Findings) == 0 {
		a.Print("%s", Good.Render(
			"nothing stands in the way of a move; the drive it goes to is looked at by `nexlin move --preview`"))
	}
}

func InspectDoc(l *planning.Look) Doc {
	chain, users := []Doc{}, []Doc{}
	for _, s := range l.Chain {
		chain = append(chain, Doc{"link": s.Path, "text": s.Text})
	}
	for _, h := range l.Plan.InUse.Holders {
		users = append(users, Doc{"pid": h.PID, "program": h.Program, "path": h.Path, "how": string(h.How)})
	}
	d := Doc{
		"path": l.Path, "real": l.Real, "chain": chain, "in_use": users, "methods": append([]string{}, l.Methods...),
		"files": l.Plan.Files, "bytes": l.Plan.Bytes, "allocated": l.Plan.Allocated, "drive": l.Plan.FromNow.Name(),
		"findings": FindingDocs(l.Plan.Findings),
	}
	if l.Redirect != nil {
		d["redirect"] = l.Redirect.Name
	}
	return d
}

type folderDoc struct {
	Path      string   `json:"path"`
	Kind      string   `json:"kind"`
	Bytes     int64    `json:"bytes"`
	Allocated int64    `json:"allocated"`
	Files     int64    `json:"files"`
	Drive     string   `json:"drive"`
	State     string   `json:"state"`
	Redirect  string   `json:"redirect,omitempty"`
	Partial   bool     `json:"partial,omitempty"`
	Card      string   `json:"card,omitempty"`
	Growth    float64  `json:"growth,omitempty"`
	Takes     []string `json:"takes,omitempty"`
}

func FolderDocs(fs []survey.Folder) []folderDoc {
	out := []folderDoc{}
	for _, f := range fs {
		d := folderDoc{f.Path, f.Kind, f.Bytes, f.Allocated, f.Files, f.Drive, "here", f.Redirect, f.Partial, f.Card,
			f.Growth, f.Takes}
		if f.Redirect != "" {
			d.State = "redirected"
		}
		out = append(out, d)
	}
	return out
}

// FolderRow is a folder as a row of what takes the space.
func FolderRow(a *Lines, f *survey.Folder) []string {
	what, note := f.Kind, strings.Join(f.Takes, ", ")
	if f.Card != "" {
		what = engine.CardPrefix + f.Card
	}
	if f.Redirect != "" {
		note = "redirected: " + f.Redirect
	}
	if f.Partial {
		note = "not all of it can be read by this account"
	}
	return []string{a.Path(f.Path), what, pathtext.Size(f.Bytes), pathtext.Size(f.Allocated), pathtext.Count(f.Files),
		pathtext.Show(f.Drive), note}
}

// FreeLine says how much room each drive has.
func (a *Screen) FreeLine(e *engine.Engine) error {
	ds, err := e.Drives.List(false)
	if err != nil {
		return err
	}
	var rows [][]string
	for i := range ds {
		d := &ds[i]
		rows = append(rows, []string{pathtext.Show(d.Name()), pathtext.Size(d.Free), "free of", pathtext.Size(d.Size),
			"used " + Gauge(d.Size, d.Free)})
	}
	a.Columns(a.Out, nil, rows, 1, 3)
	return nil
}

// ShowRoom says which folders to move to make room, and the command that does it.
func (a *Lines) ShowRoom(r *survey.Room) {
	var rows [][]string
	for _, m := range r.Moves {
		d := &m.Place.Drive
		rows = append(rows, []string{a.Path(m.Folder.Path), pathtext.Size(m.Folder.Allocated), on(d, m.Into),
			pathtext.Size(m.Place.After)})
	}
	if len(rows) == 0 {
		return
	}
	a.Columns(a.Out, []string{"folder", "moving frees", "fits into", "free there then"}, rows, 1, 3)
	a.Print("  together they free %s, once their originals are discarded", Bold.Render(pathtext.Size(r.Frees)))
	for _, into := range r.Places() {
		line, place, n := "nexlin move", "", 0
		for _, m := range r.Moves {
			if m.Into == into {
				line += " " + a.Typed(m.Folder.Path)
				place = m.Place.Drive.Display(into)
				n++
			}
		}
		if line += " --into " + pathtext.Quote(place); n > 1 {
			line += " --together"
		}
		a.Print("  %s", line)
	}
	a.Print("")
}

// RoomDoc is what is proposed to make room.
func RoomDoc(r *survey.Room) Doc {
	moves := []Doc{}
	for _, m := range r.Moves {
		moves = append(moves, Doc{"folder": m.Folder.Path, "frees": m.Folder.Allocated, "into": m.Into,
			"drive": m.Place.Drive.Name(), "free_afterwards": m.Place.After})
	}
	return Doc{"moves": moves, "frees": r.Frees, "lacks": r.Short}
}
