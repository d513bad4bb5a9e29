package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
)

// drivesCommand is `nexlin drives`.
type drivesCommand struct{ *app }

func (a *drivesCommand) drivesCmd() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "drives [DRIVE]",
		Short: "the drives: where mounted, size, free, which redirects lie there",
		Long: "Lists the drives a person would call one. With DRIVE (a label, UUID=…, or a mount point) it shows\n" +
			"that drive in full: what it can keep, which is tried in a directory made and removed there, its\n" +
			"redirects, and whether it may be unplugged now.",
		Args: cobra.MaximumNArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			if len(args) == 1 {
				return a.showDrive(e, args[0])
			}
			return a.listDrives(e, all)
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "also memory, overlays and second mounts of one drive")
	return c
}

func (a *drivesCommand) listDrives(e *engine.Engine, all bool) error {
	ds, err := e.Drives.List(all)
	if err != nil {
		return err
	}
	docs, err := a.DriveDocs(e, ds)
	if err != nil {
		return err
	}
	if a.AsJSON {
		for i := range docs {
			docs[i].Abilities, _ = a.Abilities(&ds[i])
		}
		return a.emit(screen.Doc{"drives": docs})
	}
	if len(docs) == 0 {
		a.Print("no drive is here that a person would call one; --all shows every mount")
		return nil
	}
	var rows [][]string
	for i, d := range docs {
		names := strings.Join(d.Redirects, ", ")
		if names == "" {
			names = "–"
		}
		rows = append(rows, []string{
			pathtext.Show(ds[i].Name()), a.Path(d.Mount), d.FS, pathtext.Size(d.Size), pathtext.Size(d.Free),
			screen.Gauge(d.Size, d.Free), screen.Short(d.ID), names,
		})
	}
	a.Columns(a.Out, []string{"drive", "mounted at", "file system", "size", "free", "used", "identity", "redirects"},
		rows, 3, 4)
	return nil
}

func (a *drivesCommand) showDrive(e *engine.Engine, ref string) error {
	d, err := e.Drives.Find(ref)
	if err != nil {
		return err
	}
	docs, err := a.DriveDocs(e, []drive.Drive{d})
	if err != nil {
		return err
	}
	x := &docs[0]
	able, why := a.Abilities(&d)
	x.Abilities = able
	if x.Unplug, err = health.MayUnplug(a.ctx, e, &d, x.Redirects); err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"drives": docs})
	}
	rows := [][]string{
		{"mounted at", a.Path(d.Mount)}, {"device", pathtext.Show(d.Source)}, {"file system", d.FS},
		{"size", pathtext.Size(d.Size)}, {"used", pathtext.Size(d.Size-d.Free) + "  " + screen.Gauge(d.Size, d.Free)},
		{"free", pathtext.Size(d.Free)},
		{"identity", screen.OrNone(x.ID)},
	}
	if d.Tag != nil {
		rows = append(rows, []string{"drive tag",
			fmt.Sprintf("%s, made %s, used by %s", d.Tag.ID, screen.Day(d.Tag.Made),
				pathtext.Plural(d.Tag.Counter, "run", "runs"))})
	}
	rows = append(rows, screen.Keeps(able, why)...)
	if len(x.Redirects) > 0 {
		rows = append(rows, []string{"redirects", strings.Join(x.Redirects, ", ")})
	}
	a.Print("%s", screen.Bold.Render(pathtext.Show(d.Name())))
	a.Columns(a.Out, nil, rows)
	a.Print("")
	if x.Unplug.May {
		a.Print("may I unplug it now?  %s", screen.Good.Render("yes, after unmounting it"))
	} else {
		a.Print("may I unplug it now?  %s", screen.Bad.Render("no"))
	}
	for _, r := range x.Unplug.Reasons {
		a.Print("  – %s", a.Said(r))
	}
	return nil
}
