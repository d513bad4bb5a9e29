package cli

import (
	"io"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"nexlin/internal/handle"
	"nexlin/internal/page"
	"nexlin/internal/picture"
	"nexlin/internal/report"
	"nexlin/internal/screen"
)

// reportCommand is `nexlin report`.
type reportCommand struct{ *app }

func (a *reportCommand) reportCmd() *cobra.Command {
	var html, svg, png string
	var support bool
	c := &cobra.Command{
		Use:   "report",
		Short: "all of it on one page: drives, redirects, findings, history, what is held",
		Long: "Writes one page that needs nothing else, or a picture of the drives: without the moves, and now.\n" +
			"FILE must not exist; - is standard output. Without one it prints the drives here.",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			r, err := report.Gather(a.ctx, e)
			if err != nil {
				return err
			}
			if support {
				r = r.WithoutNames()
			}
			strata := picture.Strata(r.Drives)
			return a.written(r, []output{
				{html, func(w io.Writer) error { return page.Write(w, r, a.Path) }},
				{svg, func(w io.Writer) error { _, err := io.WriteString(w, strata.SVG("strata")); return err }},
				{png, strata.PNG},
			})
		}),
	}
	fl := c.Flags()
	fl.StringVar(&html, "html", "", "write the page to `FILE`")
	fl.StringVar(&svg, "svg", "", "write the picture of the drives to `FILE`, to be scaled as you like")
	fl.StringVar(&png, "png", "", "write it to `FILE`, in points")
	fl.BoolVar(&support, "support", false, "leave out private names, as for somebody who helps you")
	return c
}

// An output is a file that was asked for, if it has a name, and what fills it.
type output struct {
	file string
	fill func(io.Writer) error
}

// written writes what was asked for, each to its file; the drives as text, if nothing was.
func (a *reportCommand) written(r *report.Report, to []output) error {
	to = slices.DeleteFunc(to, func(o output) bool { return o.file == "" })
	if a.AsJSON {
		return screen.Usage("the report is for people; nexlin list, check and history have --json")
	}
	if len(to) == 0 {
		a.ShowStrata(r.Drives)
		return nil
	}
	for _, o := range to {
		if err := writeNew(a.app, o.file, o.fill); err != nil {
			return err
		}
	}
	return nil
}

// notThere refuses a file that is there already.
func notThere(a *app, file string) error {
	if _, err := os.Lstat(file); err == nil {
		return screen.Usage(a.Path(file)+" is there already, and nothing is written over", "name another file, or set "+
			"that one aside")
	}
	return nil
}

// writeNew writes a file that is not there yet; - is standard output.
func writeNew(a *app, file string, fill func(io.Writer) error) error {
	if file == "-" {
		return fill(a.RawOut)
	}
	if err := notThere(a, file); err != nil {
		return err
	}
	if err := handle.WriteFile(file, 0o644, fill); err != nil {
		return err
	}
	a.Print("written: %s", a.Path(file))
	return nil
}
