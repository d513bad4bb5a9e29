package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
	"nexlin/internal/survey"
)

// surveyCommand is `nexlin survey`.
type surveyCommand struct{ *app }

func (a *surveyCommand) surveyCmd() *cobra.Command {
	var need []string
	var all bool
	var room string
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
			if room != "" {
				return a.surveyRoom(e, room)
			}
			if len(need) > 0 {
				return a.surveyNeed(e, append(need, args...))
			}
			return a.surveyFolders(e, args, all)
		}),
	}
	c.Flags().StringArrayVar(&need, "need", nil, "how large must a drive be to take `FOLDER` and the others named")
	c.Flags().StringVar(&room, "make-room", "",
		"propose the fewest folders of the home that free `SIZE` (as in 20GiB), and where they fit")
	c.Flags().BoolVar(&all, "all", false, "list every folder, small ones too")
	return c
}

// surveyRoom proposes what to move to free so much.
func (a *surveyCommand) surveyRoom(e *engine.Engine, size string) error {
	r, err := a.room(e, size)
	if err != nil || !a.AsJSON {
		return err
	}
	return a.emit(screen.RoomDoc(r))
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
		what, note := f.Kind, ""
		if f.Redirect != "" {
			note = "redirected: " + f.Redirect
		}
		if f.Partial {
			note = "not all of it can be read by this account"
		}
		rows = append(rows, []string{a.Path(f.Path), what, pathtext.Size(f.Bytes), pathtext.Size(f.Allocated),
			screen.Count(f.Files), pathtext.Show(f.Drive), note})
	}
	a.Columns(a.Out, []string{"folder", "kind", "size", "moving frees", "files", "drive", ""}, rows, 2, 3, 4)
	if len(fs) > len(rows) {
		a.Print("  and %d smaller ones (--all)", len(fs)-len(rows))
	}
	a.Print("")
	return a.FreeLine(e)
}

func (a *surveyCommand) surveyNeed(e *engine.Engine, args []string) error {
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
		fits := []screen.Doc{}
		for _, f := range n.Fits {
			fits = append(fits, screen.Doc{"drive": f.Drive, "free": f.Free, "short": f.Short})
		}
		return a.emit(screen.Doc{"folders": screen.FolderDocs(n.Folders),
			"need": screen.Doc{"bytes": n.Bytes, "reserve": n.Reserve, "total": n.Total, "drives": fits}})
	}
	var rows [][]string
	for _, f := range n.Folders {
		rows = append(rows, []string{a.Path(f.Path), pathtext.Size(f.Bytes), screen.Count(f.Files)})
	}
	a.Columns(a.Out, []string{"folder", "size", "files"}, rows, 1, 2)
	a.Print("")
	a.Print("  the drive must have  %s free", screen.Bold.Render(pathtext.Size(n.Total)))
	a.Print("    for the folders    %s, in blocks of 4 KiB and with their manifests", pathtext.Size(n.Bytes))
	a.Print("    kept free          %s, so that the drive stays usable", pathtext.Size(n.Reserve))
	a.Print("  a folder that still grows needs as much more as it is going to grow")
	a.Print("")
	for _, f := range n.Fits {
		says := screen.Good.Render("has the room")
		if f.Short > 0 {
			says = screen.Caution.Render("lacks " + pathtext.Size(f.Short))
		}
		a.Print("  %-10s %s free: %s", pathtext.Show(f.Drive), pathtext.Size(f.Free), says)
	}
	if len(n.Fits) == 0 {
		fmt.Fprintln(a.Out, "  no other drive is here")
	}
	return nil
}
