package cli

import (
	"path/filepath"

	"github.com/spf13/cobra"

	"nexlin/internal/planning"
	"nexlin/internal/screen"
)

// inspectCommand is `nexlin inspect`.
type inspectCommand struct{ *app }

func (a *inspectCommand) inspectCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect PATH",
		Short: "one folder: its real path, who has it open, what a move would meet",
		Args:  cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			cwd, err := a.cwd()
			if err != nil {
				return err
			}
			path, err := e.PathOf(args[0], cwd)
			if err != nil {
				return err
			}
			p := a.progress()
			p.Phase("inspect", 0, 0)
			l, err := planning.Inspect(a.ctx, e, filepath.Clean(path), p.Inspected)
			p.End()
			if err != nil {
				return err
			}
			if blocked := l.Plan.Blocked(); blocked != nil && l.Redirect == nil {
				a.grave(screen.ExitRefused)
			}
			if a.AsJSON {
				return a.emit(screen.InspectDoc(l))
			}
			a.ShowInspect(l)
			return nil
		}),
	}
}
