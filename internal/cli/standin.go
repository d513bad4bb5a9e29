package cli

import (
	"errors"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"nexlin/internal/drive"
	"nexlin/internal/screen"
	"nexlin/internal/standin"
)

// standinCommands are the made-up programs and drives.
type standinCommands struct{ *app }

// callroostCmd is the stand-in for programs that back a device up.
func (a *standinCommands) callroostCmd() *cobra.Command {
	c := &cobra.Command{Use: "callroost", Short: "a made-up program that backs a field handset up"}
	roost := func() (*standin.Callroost, error) {
		r := &standin.Callroost{Folder: filepath.Join(a.Home, standin.CallroostFolder), Calls: 6, Say: a.Print}
		if a.standins == "" {
			return r, nil
		}
		drives, err := drive.WithStandins(a.standins)
		r.Free = func(path string) (int64, error) {
			d, err := drives.Of(path)
			return d.Free, err
		}
		return r, err
	}
	var day string
	var begin bool
	calls := 6
	backup := &cobra.Command{
		Use: "backup", Short: "make the set of a day", Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			when, err := time.Parse("2006-01-02", day)
			if err != nil {
				return screen.Usage("--day takes a day such as 2026-05-03")
			}
			r, err := roost()
			if err != nil {
				return err
			}
			r.Calls = calls
			return a.complain(r.Backup(when.Add(7*time.Hour), begin))
		}),
	}
	backup.Flags().StringVar(&day, "day", "2026-05-03", "the `DAY` of the set")
	backup.Flags().IntVar(&calls, "calls", 6, "how many recordings are on the handset (`N`)")
	backup.Flags().BoolVar(&begin, "begin-anew", false, "make a new folder if the old one is damaged")
	list := &cobra.Command{
		Use: "list", Short: "which sets there are", Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			r, err := roost()
			if err != nil {
				return err
			}
			return a.complain(r.List())
		}),
	}
	c.AddCommand(backup, list)
	return c
}

// complain prints what a made-up program says of its own troubles: it is not
// Nexlin that fails.
func (a *standinCommands) complain(err error) error {
	var c *standin.CallroostError
	var p *standin.ProgramError
	switch {
	case errors.As(err, &c):
		err = c
	case errors.As(err, &p):
		err = p
	default:
		return err
	}
	a.Print("%s", err.Error())
	a.grave(screen.ExitFailed)
	return nil
}

// program makes the command of a made-up program out of what it can be told.
func (a *standinCommands) program(name, short string, acts map[string]func(args []string) error) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short}
	for _, use := range slices.Sorted(maps.Keys(acts)) {
		c.AddCommand(&cobra.Command{Use: use, Args: cobra.ArbitraryArgs,
			RunE: a.runner(func(_ *cobra.Command, args []string) error {
				return a.complain(acts[use](args))
			})})
	}
	return c
}

// mudflatCmd is the stand-in for programs that keep a shared folder.
func (a *standinCommands) mudflatCmd() *cobra.Command {
	m := &standin.Mudflat{Home: a.Home, Say: a.Print}
	return a.program("mudflat", "a made-up program that keeps the survey team's shared folder",
		map[string]func([]string) error{
			"run":   func([]string) error { return m.Run(a.ctx.Done()) },
			"start": func([]string) error { return standin.Start(m.Running, "standin", "mudflat", "run") },
			"stop":  func([]string) error { return standin.Stop(m.Running()) },
			"sync":  func([]string) error { return m.Sync() },
			"status": func([]string) error {
				if pid := m.Running(); pid != 0 {
					a.Print("running")
					return nil
				}
				a.Print("at rest")
				return nil
			},
			"pending": func([]string) error {
				todo, err := m.Pending()
				if err == nil {
					a.Print("%d", len(todo))
				}
				return err
			},
		})
}

// sonogramCmd is the stand-in for programs with several path settings.
func (a *standinCommands) sonogramCmd() *cobra.Command {
	s := &standin.Sonogram{Home: a.Home, Say: a.Print}
	return a.program("sonogram", "a made-up program that keeps spectrogram tiles on shelves",
		map[string]func([]string) error{
			"show": func([]string) error { return s.Show() },
		})
}

// brooderCmd is the stand-in for engines that register their stores.
func (a *standinCommands) brooderCmd() *cobra.Command {
	b := &standin.Brooder{Home: a.Home, Say: a.Print}
	arg := func(args []string, i int) string {
		if i < len(args) {
			return args[i]
		}
		return ""
	}
	return a.program("brooder", "a made-up engine that runs analysis jobs in nests", map[string]func([]string) error{
		"list":      func([]string) error { return b.List() },
		"carry-out": func(args []string) error { return b.CarryOut(arg(args, 0), arg(args, 1)) },
		"sign-off":  func(args []string) error { return b.SignOff(arg(args, 0)) },
		"carry-in":  func(args []string) error { return b.CarryIn(arg(args, 0), arg(args, 1), arg(args, 2)) },
		"limit":     func(args []string) error { return b.Limit(arg(args, 0), arg(args, 1)) },
		"order":     func(args []string) error { return b.Order(arg(args, 0)) },
		"hatch":     func(args []string) error { return b.SetState(arg(args, 0), "hatching") },
		"rest":      func(args []string) error { return b.SetState(arg(args, 0), "resting") },
	})
}

// standinDriveCmd pulls, plugs in and fills the stand-in drives in force.
func (a *standinCommands) standinDriveCmd() *cobra.Command {
	c := &cobra.Command{Use: "drive", Short: "pull, plug in, fill a stand-in drive"}
	file := func() (string, error) {
		if a.standins == "" {
			return "", screen.Usage("no stand-in drives are in force")
		}
		return filepath.Abs(a.standins)
	}
	sub := func(use, short string, args cobra.PositionalArgs, f func(file string, args []string) error) {
		c.AddCommand(&cobra.Command{Use: use, Short: short, Args: args,
			RunE: a.runner(func(_ *cobra.Command, args []string) error {
				at, err := file()
				if err != nil {
					return err
				}
				return f(at, args)
			})})
	}
	sub("pull LABEL", "take it away", cobra.ExactArgs(1),
		func(file string, args []string) error { return standin.Pull(file, args[0]) })
	sub("plug LABEL [DIR]", "bring it back, or to another place", cobra.RangeArgs(1, 2),
		func(file string, args []string) error {
			at := ""
			if len(args) > 1 {
				var err error
				if at, err = filepath.Abs(args[1]); err != nil {
					return err
				}
			}
			return standin.Plug(file, args[0], at)
		})
	sub("fill LABEL SIZE", "take room on it; 0 gives it back", cobra.ExactArgs(2),
		func(file string, args []string) error {
			n, err := humanize.ParseBytes(args[1])
			if err != nil {
				return screen.Usage("SIZE is such as 20MiB")
			}
			return standin.Fill(file, args[0], int64(n))
		})
	return c
}
