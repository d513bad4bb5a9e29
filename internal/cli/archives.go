package cli

import (
	"errors"

	"nexlin/internal/archive"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// explainArchive explains the errors of archives.
func (a *explainer) explainArchive(err error) (fault, bool) {
	var changed *archive.ChangedError
	var damage *archive.DamageError
	switch {
	case errors.As(err, &changed):
		return fault{Code: "changed-meanwhile", Message: pathtext.Show(changed.Error()),
			State: "nothing is left of the archive", Exit: exitBusy, Path: changed.Path,
			Next: []string{"quit the program that writes there, and try again"}}, true
	case errors.As(err, &damage):
		return fault{Code: "archive-damaged", Message: pathtext.Show(damage.Error()),
				State: "nothing is left of what was made", Exit: exitFailed, Path: damage.Path,
				Next: []string{"use another copy of the archive; on a fresh one this points to the drive or " +
					"the cable"}},
			true
	}
	return fault{}, false
}

// archiveDoc adds what a pack has made, or an unpack has read.
func archiveDoc(d doc, o *plan.Outcome) {
	x := o.Archive
	if x == nil {
		return
	}
	flaws := []doc{}
	for _, f := range x.Flaws {
		flaws = append(flaws, doc{"path": f.Path, "lost": f.What})
	}
	d["archive"] = doc{"file": x.File, "bytes": x.Bytes, "sha256": x.Digest, "files": x.Count.Files,
		"content": x.Count.Bytes, "not_kept": flaws}
}

func (a *screen) showArchived(o *plan.Outcome) {
	x := o.Archive
	if x == nil {
		a.print("%s  run %s was at its end", good.Render("done"), o.Run)
		return
	}
	a.print("")
	if o.Plan.Unpacks() {
		a.print("%s  %s", good.Render("done"), bold.Render(a.path(o.Plan.Copy())))
		a.print("  verified  %s, %s, each read back and equal to its digest", plural(x.Count.Files, "file", "files"),
			pathtext.Size(x.Count.Bytes))
		for _, f := range x.Flaws {
			a.print("  not kept  %s of %s", f.What, pathtext.Show(f.Path))
		}
		if more := x.Lost - len(x.Flaws); more > 0 {
			a.print("  not kept  and %s more", plural(int64(more), "entry", "entries"))
		}
		return
	}
	a.print("%s  %s", good.Render("done"), bold.Render(a.path(x.File)))
	a.print("  holds     %s, %s, in %s", plural(x.Count.Files, "file", "files"), pathtext.Size(x.Count.Bytes),
		pathtext.Size(x.Bytes))
	where := "to its end"
	if o.Device {
		where = "from the device, to its end"
	}
	a.print("  verified  read back %s, every file equal to its digest", where)
	a.print("  sha256    %s", x.Digest)
	a.print("  unpacks:  nexlin unpack %s --into DIR, or tar and zstd of any system", pathtext.Quote(x.File))
	a.news(o)
}
