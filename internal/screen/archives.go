package screen

import (
	"errors"

	"nexlin/internal/archive"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// explainArchive explains the errors of archives.
func (a *Explainer) explainArchive(err error) (Fault, bool) {
	var changed *archive.ChangedError
	var damage *archive.DamageError
	switch {
	case errors.As(err, &changed):
		return Fault{Code: "changed-meanwhile", Message: pathtext.Show(changed.Error()),
			State: "nothing is left of the archive", Exit: ExitBusy, Path: changed.Path,
			Next: []string{"quit the program that writes there, and try again"}}, true
	case errors.As(err, &damage):
		return Fault{Code: "archive-damaged", Message: pathtext.Show(damage.Error()),
				State: "nothing is left of what was made", Exit: ExitFailed, Path: damage.Path,
				Next: []string{"use another copy of the archive; on a fresh one this points to the drive or " +
					"the cable"}},
			true
	}
	return Fault{}, false
}

// ArchiveDoc adds what a pack has made, or an unpack has read.
func ArchiveDoc(d Doc, o *plan.Outcome) {
	x := o.Archive
	if x == nil {
		return
	}
	flaws := []Doc{}
	for _, f := range x.Flaws {
		flaws = append(flaws, Doc{"path": f.Path, "lost": f.What})
	}
	d["archive"] = Doc{"file": x.File, "bytes": x.Bytes, "sha256": x.Digest, "files": x.Count.Files,
		"content": x.Count.Bytes, "not_kept": flaws}
}

func (a *Screen) ShowArchived(o *plan.Outcome) {
	x := o.Archive
	if x == nil {
		a.Print("%s  run %s was at its end", Good.Render("done"), o.Run)
		return
	}
	a.Print("")
	if o.Plan.Unpacks() {
		a.Print("%s  %s", Good.Render("done"), Bold.Render(a.Path(o.Copy())))
		a.Print("  verified  %s, %s, each read back and equal to its digest", pathtext.Files(x.Count.Files),
			pathtext.Size(x.Count.Bytes))
		for _, f := range x.Flaws {
			a.Print("  not kept  %s of %s", f.What, pathtext.Show(f.Path))
		}
		if more := x.Lost - len(x.Flaws); more > 0 {
			a.Print("  not kept  and %s more", pathtext.Entries(more))
		}
		return
	}
	a.Print("%s  %s", Good.Render("done"), Bold.Render(a.Path(x.File)))
	a.Print("  holds     %s, %s, in %s", pathtext.Files(x.Count.Files), pathtext.Size(x.Count.Bytes),
		pathtext.Size(x.Bytes))
	where := "to its end"
	if o.Device {
		where = "from the device, to its end"
	}
	a.Print("  verified  read back %s, every file equal to its digest", where)
	a.Print("  sha256    %s", x.Digest)
	a.Print("  unpacks:  nexlin unpack %s --into DIR, or tar and zstd of any system", pathtext.Quote(x.File))
	a.News(o)
}
