package cli

import (
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/group"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/redirect"
	"nexlin/internal/screen"
)

// account is the name that --per-account uses: that of the home directory.
func (a *app) account() string { return filepath.Base(a.Home) }

// moveCard moves what a card describes.
func (a *moveCommand) moveCard(e *engine.Engine, name string, f moveFlags, o planning.MoveOptions) error {
	if c, err := planning.FindCard(e, name); err == nil && c.Handover != nil {
		return a.moveStore(e, name, f, o)
	}
	if f.store != "" {
		return screen.Usage("card " + name + " has no engine with registered stores, so --store says nothing")
	}
	if f.as != "" || f.name != "" || f.discard {
		return screen.Usage("--as, --name and --discard-original do not go with a card")
	}
	u, err := a.cardFor(e, name)
	if err != nil {
		return err
	}
	return a.offerTogether(e, f.preview, "move it?",
		func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return group.PlanCard(a.ctx, e, u, o)
		})
}

// moveProfile moves profile folders as one.
func (a *moveCommand) moveProfile(e *engine.Engine, f moveFlags, o planning.MoveOptions) error {
	for _, k := range f.profile {
		if !slices.Contains(planning.ProfileKinds(), k) {
			return screen.Usage("--profile takes " + strings.Join(planning.ProfileKinds(), ", ") + ", not " +
				pathtext.Quote(k))
		}
	}
	if len(o.By) == 0 {
		o.By = planning.ProfileMethods()
	}
	return a.offerTogether(e, f.preview, "move them?",
		func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return group.PlanProfile(a.ctx, e, a.Home, f.profile, o)
		})
}

// futureOnly changes where new things go.
func (a *moveCommand) futureOnly(e *engine.Engine, args []string, f moveFlags, o planning.MoveOptions) error {
	if len(o.By) > 0 && !slices.Equal(o.By, []string{plan.BySetting}) {
		return screen.Usage("--future-only changes a setting: --by setting")
	}
	cwd, err := a.cwd()
	if err != nil {
		return err
	}
	var folders []string
	for _, arg := range args {
		folders = append(folders, places.Absolute(arg, cwd))
	}
	if len(f.profile) > 0 {
		if folders, err = planning.ProfileFolders(a.Home, f.profile); err != nil {
			return err
		}
		if len(folders) == 0 {
			return screen.Usage("--profile names no folder that has a location setting")
		}
	}
	d, err := a.offer(e, offer{
		plan: func(func(entries, bytes int64)) (*plan.Plan, error) {
			return redirect.PlanFuture(e, a.Home, folders, o)
		},
		show: func(planned *plan.Plan) {
			a.Print("%s", screen.Bold.Render("new things will go to another place; nothing is moved"))
			for _, s := range planned.Settings {
				a.Print("  setting   %s at %s: until now %s, from now on %s", a.Path(s.File), pathtext.Show(s.At),
					a.Path(s.From[0]), a.Path(s.To))
			}
			a.Findings(a.Out, planned.Findings)
		},
		question: "change it?", preview: f.preview,
		done: func(out *plan.Outcome) {
			a.Print("")
			a.Print("%s  what is there already stays where it is", screen.Good.Render("done"))
			a.Print("  takes this back:   nexlin undo %s", out.Run)
		},
	})
	return a.emitIf(err, d)
}
