package screen

import (
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// Gauge draws how full a drive is, in ten steps.
func Gauge(size, free int64) string {
	if size <= 0 {
		return ""
	}
	used := int((size - free) * 10 / size)
	used = max(0, min(10, used))
	bar := strings.Repeat("▓", used) + strings.Repeat("░", 10-used)
	if free < size/20 {
		return Bad.Render(bar)
	}
	return bar
}

// Short cuts an identity to what tells drives apart at a glance.
func Short(id string) string {
	if id == "" {
		return "none"
	}
	if len(id) > 13 {
		return id[:13] + "…"
	}
	return id
}

func OrNone(s string) string {
	if s == "" {
		return "none"
	}
	return pathtext.Show(s)
}

// Abilities tries what the drive keeps, in its root. Where this account may
// not write, it says so.
func (a *Screen) Abilities(d *drive.Drive) (*abilitiesDoc, string) {
	dir, err := handle.Open(d.Mount)
	if err != nil {
		return nil, "it can't be opened"
	}
	defer dir.Release()
	if d.ReadOnly || dir.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		return nil, "this account may not write in its root, so nothing was tried"
	}
	able, err := drive.Try(dir)
	if err != nil {
		return nil, pathtext.Show(err.Error())
	}
	x := abilitiesOf(able)
	return &x, ""
}

// Keeps says what a drive can keep and what not, in lines that fit.
func Keeps(x *abilitiesDoc, why string) [][]string {
	if x == nil {
		return [][]string{{"can keep", why}}
	}
	var yes, no []string
	for _, p := range []struct {
		name string
		can  bool
	}{
		{"links", x.Symlinks}, {"junctions", x.Junctions}, {"hard links", x.HardLinks}, {"FIFOs", x.Nodes},
		{"modes", x.Modes}, {"owners", x.Owners},
		{"exact times", x.Nanotimes}, {"attributes", x.Xattrs}, {"ACLs", x.ACLs}, {"holes", x.Holes},
		{"upper and lower case", x.Case}, {"names of any bytes", x.AnyBytes}, {"files above 4 GiB", x.MaxFile == 0},
	} {
		if p.can {
			yes = append(yes, p.name)
		} else if p.name != "junctions" { // of NTFS alone, and missed nowhere else
			no = append(no, p.name)
		}
	}
	return append(inLines("can keep", yes), inLines("not", no)...)
}

// inLines puts words behind a heading, several to a line.
func inLines(heading string, words []string) (rows [][]string) {
	const most = 78
	for i, w := range words {
		if i < len(words)-1 {
			w += ","
		}
		last := len(rows) - 1
		if last < 0 || len(rows[last][1])+1+len(w) > most {
			rows = append(rows, []string{heading, w})
			heading = ""
			continue
		}
		rows[last][1] += " " + w
	}
	return rows
}

type driveDoc struct {
	ID        string         `json:"id"`
	Label     string         `json:"label"`
	Mount     string         `json:"mount"`
	FS        string         `json:"fs"`
	Size      int64          `json:"size"`
	Free      int64          `json:"free"`
	ReadOnly  bool           `json:"read_only"`
	Abilities *abilitiesDoc  `json:"abilities,omitempty"`
	Redirects []string       `json:"redirects"`
	Unplug    *health.Unplug `json:"unplug,omitempty"`
}

func (a *Screen) DriveDocs(e *engine.Engine, ds []drive.Drive) ([]driveDoc, error) {
	rows, err := e.Ledger.Redirects(false)
	if err != nil {
		return nil, err
	}
	e = e.AtOnce()
	out := []driveDoc{}
	for i := range ds {
		d := &ds[i]
		x := driveDoc{ID: d.Identity(), Label: d.Label, Mount: d.Mount, FS: d.FS, Size: d.Size, Free: d.Free,
			ReadOnly: d.ReadOnly, Redirects: []string{}}
		for _, r := range rows {
			if on, err := lies(e, r, d); err == nil && on {
				x.Redirects = append(x.Redirects, r.Name)
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// lies reports whether the data of a redirect lies on the drive.
func lies(e *engine.Engine, r ledger.Redirect, d *drive.Drive) (bool, error) {
	mount, found, err := e.Locate(r.Drive, r.Target)
	return found && mount == d.Mount, err
}
