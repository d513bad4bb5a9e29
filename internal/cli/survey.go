package cli

import (
	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/picture"
	"nexlin/internal/report"
	"nexlin/internal/screen"
	"nexlin/internal/survey"
)

// surveyCommand is `nexlin survey`.
type surveyCommand struct{ *app }

func (a *surveyCommand) surveyCmd() *cobra.Command {
	var need []string
	var all bool
	var room, png string
	c := &cobra.Command{
		Use:   "survey [DIR…]",
		Short: "what takes the space, and what moving it would free",
		Long: "Measures the profile folders and the folders directly in each DIR (the home if none is named)\n" +
			"and lists them, the one that frees most first. With --need it says how large a drive must be\n" +
			"to take the folders named.",
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			if png != "" && room == "" && len(need) == 0 {
				return screen.Usage("--png draws what --need or --make-room is about")
			}
			if room != "" {
				return a.surveyRoom(e, room, png)
			}
			if len(need) > 0 {
				return a.surveyNeed(e, append(need, args...), png)
			}
			return a.surveyFolders(e, args, all)
		}),
	}
	c.Flags().StringArrayVar(&need, "need", nil, "how large must a drive be to take `FOLDER` and the others named")
	c.Flags().StringVar(&room, "make-room", "",
		"propose the fewest folders of the home that free `SIZE` (as in 20GiB), and where they fit")
	c.Flags().StringVar(&png, "png", "", "with --need or --make-room: draw the drives before and after, in `FILE`")
	c.Flags().BoolVar(&all, "all", false, "list every folder, small ones too")
	return c
}

// surveyRoom proposes what to move to free so much.
func (a *surveyCommand) surveyRoom(e *engine.Engine, size, png string) error {
	r, err := a.room(e, size)
	if err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.RoomDoc(r))
	}
	return a.drawn(e, r.Folders(), png)
}

// drawn draws the drives before folders go to the one with most room, and after; nothing
// without a file.
func (a *surveyCommand) drawn(e *engine.Engine, fs []survey.Folder, file string) error {
	if file == "" {
		return nil
	}
	pairs, err := report.Ahead(e, fs)
	if err != nil {
		return err
	}
	return writeNew(a.app, file, picture.Strata(pairs).PNG)
}

// few is how many rows people get without --all.
const few = 20

func (a *surveyCommand) surveyFolders(e *engine.Engine, args []string, all bool) error {
	o := survey.Options{}
	cwd, err := a.cwd()
	if err != nil {
		return err
	}
	for _, arg := range args {
		dir, err := e.PathOf(arg, cwd)
		if err != nil {
			return err
		}
		o.Dirs = append(o.Dirs, dir)
	}
	if len(o.Dirs) == 0 {
		o.Dirs, o.Home = []string{a.Home}, a.Home
	} else if o.Dirs[0] == a.Home {
		o.Home = a.Home
	}
	p := a.progress()
	p.Phase("inspect", 0, 0)
	o.Progress = p.Inspected
	fs, err := survey.Survey(a.ctx, e, o)
	p.End()
	if err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"folders": screen.FolderDocs(fs)})
	}
	if len(fs) == 0 {
		a.Print("there is no folder in %s", a.Path(o.Dirs[0]))
		return nil
	}
	var rows [][]string
	var frees int64
	for i, f := range fs {
		frees += f.Allocated
		// What is small beside the largest is no way to make room.
		if !all && (i >= few || len(args) == 0 && f.Redirect == "" && f.Allocated < fs[0].Allocated/50) {
			continue
		}
		rows = append(rows, screen.FolderRow(&a.Lines, &f))
	}
	a.Columns(a.Out, []string{"folder", "kind", "size", "moving frees", "files", "drive", ""}, rows, 2, 3, 4)
	if len(fs) > len(rows) {
		a.Print("  and %d smaller ones (--all)", len(fs)-len(rows))
	}
	a.Print("")
	return a.FreeLine(e)
}

func (a *surveyCommand) surveyNeed(e *engine.Engine, args []string, png string) error {
	cwd, err := a.cwd()
	if err != nil {
		return err
	}
	for i := range args {
		if args[i], err = e.PathOf(args[i], cwd); err != nil {
			return err
		}
	}
	p := a.progress()
	p.Phase("inspect", 0, 0)
	n, err := survey.Needed(a.ctx, e, args, p.Inspected)
	p.End()
	if err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.NeedDoc(n))
	}
	a.ShowNeed(n)
	return a.drawn(e, n.Folders, png)
}
