package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/record"
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
			return a.several(args, "runs", func(string) (doc, error) { return a.recordOne(e, o, preview) })
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

func (a *recordCommand) recordOne(e *engine.Engine, o record.Options, preview bool) (doc, error) {
	d, err := a.offer(e, offer{
		plan: func(func(entries, bytes int64)) (*plan.Plan, error) { return record.MakePlan(e, o) },
		look: func(planned *plan.Plan) error { return a.compared(e, planned, preview) },
		show: a.showRecord, question: "compare both, and take it in if they are equal?", preview: preview,
		done: a.showRecorded,
	})
	var refused *plan.RefusedError
	var shown *shownError
	if errors.As(err, &refused) && !errors.As(err, &shown) && !a.json {
		a.print("")
		a.findings(a.out, refused.Findings)
		return nil, &shownError{err}
	}
	return d, err
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
	p.end()
	if planned.Blocked() != nil {
		return nil
	}
	return err
}

func (a *screen) showRecord(p *plan.Plan) {
	target := a.path(p.Target)
	if p.IntoNow.Mount != "" {
		target = on(&p.IntoNow, p.Target)
	}
	a.print("%s", led(p.Methods, a.path(p.Link), target))
	a.print("  redirect  %s", p.Name)
	switch {
	case p.From == p.Link && p.From != "":
		a.print("  original  %s: the folder itself, which is exchanged for the link and held", a.path(p.From))
	case p.From != "":
		a.print("  original  %s, which is held where it is", a.path(p.From))
	}
	if p.OldText != "" && p.OldText != p.LinkText {
		a.print("  link      says %s now, and will say %s", a.path(p.OldText), a.path(p.LinkText))
	}
	if len(p.Findings) > 0 {
		a.print("")
		a.findings(a.out, p.Findings)
	}
}

func (a *screen) showRecorded(o *plan.Outcome) {
	p := o.Plan
	a.print("")
	a.print("%s  %s", good.Render("recorded"), led(p.Methods, a.path(p.Link), on(&p.IntoNow, p.Copy())))
	what := "read, and taken in as they are"
	if p.From != "" {
		what = "compared with the original, every one equal"
	}
	a.print("  proven    %s, %s: %s", plural(p.Files, "file", "files"), pathtext.Size(p.Bytes), what)
	a.print("  tried     a file saved through the link shows up at the target, and the other way round")
	if len(o.Findings) > len(p.Findings) {
		a.print("")
		a.findings(a.out, o.Findings[len(p.Findings):])
	}
	a.print("")
	if p.From != "" {
		a.print("%s the original is held as %s", caution.Render("nothing is freed yet:"), a.path(p.HeldPath()))
		a.print("  deletes it, after comparing:   nexlin discard-original %s", pathtext.Quote(p.Name))
	}
	a.print("  brings the data back:          nexlin bring-back %s", pathtext.Quote(p.Name))
	a.print("  takes this back:               nexlin undo %s", o.Run)
}
