package cli

import (
	"errors"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/ledger"
	"nexlin/internal/pack"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/screen"
)

// packCommands are pack and unpack.
type packCommands struct{ *app }

func (a *packCommands) packCmd() *cobra.Command {
	var output string
	var accept []string
	var preview, inUse bool
	c := &cobra.Command{
		Use:   "pack NAME|FOLDER --output FILE",
		Short: "a whole copy of a folder in one verified file, to be kept elsewhere",
		Long: "Writes FOLDER, or the target of the redirect NAME, into one file: tar with zstd, which stock tools\n" +
			"unpack, with the manifest inside first. The file is read back to its end before it gets its name.\n" +
			"If anybody writes to the folder meanwhile, the pack fails and nothing is left of it.",
		Example: "  nexlin pack pictures --output /mnt/dune/pictures.tar.zst",
		Args:    cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if output == "" {
				return screen.Usage("name the archive with --output")
			}
			codes, err := codes(accept)
			if err != nil {
				return err
			}
			e, cwd, done, err := a.engineHere(!preview)
			if err != nil {
				return err
			}
			defer done()
			o := pack.Options{WhileInUse: inUse, Accept: codes}
			if o.File, err = e.Drives.Place(output, cwd); err != nil {
				return err
			}
			if o.Folder, o.Name, err = a.packSource(e, args[0], cwd); err != nil {
				return err
			}
			d, err := a.packOne(e, o, preview)
			return a.emitIf(err, d)
		}),
	}
	c.Flags().StringVar(&output, "output", "", "the `FILE` of the archive; it must not exist")
	c.Flags().BoolVar(&inUse, "while-in-use", false,
		"go on although programs write to the folder; what changes meanwhile still ends it")
	c.Flags().StringArrayVar(&accept, "accept", nil, "go on past the finding with this `CODE`")
	a.previewFlag(c, &preview)
	return c
}

// packSource is what an argument of pack stands for: the target of a redirect,
// or a folder.
func (a *packCommands) packSource(e *engine.Engine, arg, cwd string) (folder, name string, err error) {
	r, err := e.Lookup(arg, cwd)
	var none *plan.NameError
	switch {
	case errors.As(err, &none):
		folder, err = e.PathOf(arg, cwd)
		return folder, "", err
	case err != nil:
		return "", "", err
	case r.State == ledger.Ended:
		return r.Link, "", nil
	}
	return r.Target, r.Name, nil
}

func (a *packCommands) packOne(e *engine.Engine, o pack.Options, preview bool) (screen.Doc, error) {
	return a.offer(e, offer{
		plan: func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return pack.PlanPack(a.ctx, e, o)
		},
		inspects: true,
		show: func(planned *plan.Plan) {
			a.Print("%s   packed into %s", screen.Bold.Render(a.Path(planned.From)),
				screen.Bold.Render(a.Path(planned.Copy())))
			a.Print("  packs     %s, %s", pathtext.Files(planned.Files), pathtext.Size(planned.Bytes))
			a.Findings(a.Out, planned.Findings)
		},
		question: "pack it?", preview: preview, done: a.ShowArchived, told: screen.ArchiveDoc,
	})
}

func (a *packCommands) unpackCmd() *cobra.Command {
	var into, as string
	var accept []string
	var preview bool
	c := &cobra.Command{
		Use:   "unpack FILE --into DIR",
		Short: "make a folder again from an archive that pack has made",
		Long: "Makes the folder again in DIR, with owners, rights, times, links, holes and attributes as far as\n" +
			"the drive there keeps them, and reads every file back. What is not kept is named.",
		Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if into == "" {
				return screen.Usage("name the directory that the folder goes into with --into")
			}
			if err := checkNames(moveFlags{as: as}); err != nil {
				return err
			}
			codes, err := codes(accept)
			if err != nil {
				return err
			}
			e, cwd, done, err := a.engineHere(!preview)
			if err != nil {
				return err
			}
			defer done()
			o := pack.Options{As: as, Accept: codes}
			if o.File, err = e.Drives.Place(args[0], cwd); err != nil {
				return err
			}
			if o.Into, err = e.Drives.Place(into, cwd); err != nil {
				return err
			}
			d, err := a.offer(e, offer{
				plan: func(func(entries, bytes int64)) (*plan.Plan, error) { return pack.PlanUnpack(e, o) },
				show: func(planned *plan.Plan) {
					a.Print("%s   unpacked into %s", screen.Bold.Render(a.Path(o.File)),
						screen.Bold.Render(a.Path(planned.Into)))
					a.Findings(a.Out, planned.Findings)
				},
				question: "unpack it?", preview: preview, done: a.ShowArchived, told: screen.ArchiveDoc,
			})
			return a.emitIf(err, d)
		}),
	}
	c.Flags().StringVar(&into, "into", "", "the `DIR` that the folder goes into")
	c.Flags().StringVar(&as, "as", "", "its name there (`DIRNAME`), if not the one in the archive")
	c.Flags().StringArrayVar(&accept, "accept", nil, "go on past the finding with this `CODE`")
	a.previewFlag(c, &preview)
	return c
}

// packFirst makes the whole copy that a person wants before a move begins. A move
// that is refused packs nothing.
func (a *moveCommand) packFirst(e *engine.Engine, o planning.MoveOptions, file string, preview bool) error {
	if file == "" {
		return nil
	}
	planned, err := redirect.PlanMove(a.ctx, e, o)
	if err != nil {
		return err
	}
	if err := planned.Blocked(); err != nil {
		return err
	}
	cwd, err := a.cwd()
	if err != nil {
		return err
	}
	folder := o.Folder
	source, name, err := (&packCommands{a.app}).packSource(e, folder, cwd)
	if err != nil {
		return err
	}
	whole := pack.Options{Folder: source, Name: name}
	if whole.File, err = e.Drives.Place(file, cwd); err != nil {
		return err
	}
	if _, err := (&packCommands{a.app}).packOne(e, whole, preview); err != nil {
		return fmt.Errorf("packing %s: %w", pathtext.Show(filepath.Base(folder)), err)
	}
	a.did = !preview
	a.Say("")
	return nil
}
