package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/naming"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/record"
	"nexlin/internal/screen"
)

// recordCommand is `nexlin record`.
type recordCommand struct{ *app }

func (a *recordCommand) recordCmd() *cobra.Command {
	var preview bool
	var accept []string
	var copied, original, name string
	c := &cobra.Command{
		Use:   "record PATH",
		Short: "take a link made by hand, or data already copied, into the records after proving it",
		Long: "PATH is a link that somebody made by hand, or a folder whose copy lies on the other drive already\n" +
			"(--copy). The copy is held against its original entry by entry, every file read: the folder itself,\n" +
			"what --original names, or what is left over beside the link under a name such as PATH.old. If all\n" +
			"is equal, a folder is exchanged for a link, the original is held, and the redirect is looked after\n" +
			"like any other. If anything differs it is listed, and nothing is taken in.",
		Example: "  nexlin record ~/Pictures\n  nexlin record ~/Music --copy BASALT:/ines/Music",
		Args:    cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if name != "" && !naming.Valid(name) {
				return checkNames(moveFlags{name: name})
			}
			accepted, err := codes(accept)
			if err != nil {
				return err
			}
			e, cwd, done, err := a.engineHere(!preview)
			if err != nil {
				return err
			}
			defer done()
			o := record.Options{Path: places.Absolute(args[0], cwd), Name: name, Accept: accepted}
			for _, f := range []struct {
				ref  string
				path *string
			}{{copied, &o.Copy}, {original, &o.Original}} {
				if f.ref != "" {
					if *f.path, err = e.Drives.Place(f.ref, cwd); err != nil {
						return err
					}
				}
			}
			return a.several(args, "runs", func(string) (screen.Doc, error) { return a.recordOne(e, o, preview) })
		}),
	}
	c.Flags().StringVar(&copied, "copy", "", "where the copy of a real folder lies (`DIR`)")
	c.Flags().StringVar(&original, "original", "",
		"what the copy was made of (`DIR`), if it is not found beside the link")
	c.Flags().StringVar(&name, "name", "", "the `NAME` of the redirect")
	c.Flags().StringArrayVar(&accept, "accept", nil, "go on past the finding with this `CODE`")
	a.previewFlag(c, &preview)
	return c
}

func (a *recordCommand) recordOne(e *engine.Engine, o record.Options, preview bool) (screen.Doc, error) {
	return a.offer(e, offer{
		plan: func(func(entries, bytes int64)) (*plan.Plan, error) { return record.MakePlan(e, o) },
		look: func(planned *plan.Plan) error { return a.compared(e, planned, preview) },
		show: a.ShowRecord, question: "compare both, and take it in if they are equal?", preview: preview,
		done: a.ShowRecorded,
	})
}

// compared holds copy and original against each other for a preview; what differs is
// in the plan.
func (a *recordCommand) compared(e *engine.Engine, planned *plan.Plan, preview bool) error {
	if !preview || planned.Blocked() != nil {
		return nil
	}
	p := a.progress()
	e.Progress = p
	err := record.Compare(a.ctx, e, planned)
	p.End()
	if planned.Blocked() != nil {
		return nil
	}
	return err
}
