package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/health"
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
	locked, err := e.Drives.Locked()
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
		return a.emit(screen.Drives(docs, locked))
	}
	a.ShowDrives(ds, docs, locked)
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
	var why string
	x.Abilities, why = a.Abilities(&d)
	if x.Unplug, err = health.MayUnplug(a.ctx, e, &d, x.Redirects); err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.Drives(docs, nil))
	}
	a.ShowDrive(&d, x, why)
	return nil
}
