package screen

import (
	"fmt"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/pathtext"
)

// Drives is the document about drives; locked are the mount points of those that are locked.
func Drives(docs []driveDoc, locked []string) Doc {
	d := Doc{"drives": docs}
	if len(locked) > 0 {
		d["locked"] = locked
	}
	return d
}

// ShowDrives shows drives as a table, each with the redirects that lie on it, and says which
// are locked.
func (a *Lines) ShowDrives(ds []drive.Drive, docs []driveDoc, locked []string) {
	for _, mount := range locked {
		a.Print("%s is locked: what it holds is seen once it is opened with its password", a.Path(mount))
	}
	if len(docs) == 0 {
		a.Print("no drive is here that a person would call one; --all shows every mount")
		return
	}
	var rows [][]string
	for i, d := range docs {
		names := strings.Join(d.Redirects, ", ")
		if names == "" {
			names = "–"
		}
		rows = append(rows, []string{
			pathtext.Show(ds[i].Name()), a.Path(d.Mount), d.FS, pathtext.Size(d.Size), pathtext.Size(d.Free),
			Gauge(d.Size, d.Free), Short(d.ID), names,
		})
	}
	a.Columns(a.Out, []string{"drive", "mounted at", "file system", "size", "free", "used", "identity", "redirects"},
		rows, 3, 4)
}

// ShowDrive shows one drive in full; why says what keeps it from being known what it can keep.
func (a *Lines) ShowDrive(d *drive.Drive, x *driveDoc, why string) {
	rows := [][]string{
		{"mounted at", a.Path(d.Mount)}, {"device", pathtext.Show(d.Source)}, {"file system", d.FS},
		{"size", pathtext.Size(d.Size)}, {"used", pathtext.Size(d.Size-d.Free) + "  " + Gauge(d.Size, d.Free)},
		{"free", pathtext.Size(d.Free)},
		{"identity", OrNone(x.ID)},
	}
	if d.Tag != nil {
		rows = append(rows, []string{"drive tag",
			fmt.Sprintf("%s, made %s, used by %s", d.Tag.ID, Day(d.Tag.Made),
				pathtext.Plural(d.Tag.Counter, "run", "runs"))})
	}
	rows = append(rows, Keeps(x.Abilities, why)...)
	if len(x.Redirects) > 0 {
		rows = append(rows, []string{"redirects", strings.Join(x.Redirects, ", ")})
	}
	a.Print("%s", Bold.Render(pathtext.Show(d.Name())))
	a.Columns(a.Out, nil, rows)
	a.Print("")
	if x.Unplug.May {
		a.Print("may I unplug it now?  %s", Good.Render("yes, after unmounting it"))
	} else {
		a.Print("may I unplug it now?  %s", Bad.Render("no"))
	}
	for _, r := range x.Unplug.Reasons {
		a.Print("  – %s", a.Said(r))
	}
}
