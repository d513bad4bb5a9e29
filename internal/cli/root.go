package cli

import (
	"cmp"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nexlin/internal/account"
	"nexlin/internal/published"
	"nexlin/internal/screen"
	"nexlin/internal/typed"
)

// Commands is the tree of commands, for manual pages and completions to be made
// from. It is not to be run: that is [Main].
func Commands() *cobra.Command { return (&app{Screen: &screen.Screen{}}).root() }

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false // the order of the work, not of the alphabet
	var root *cobra.Command
	root = &cobra.Command{
		Use:   "nexlin",
		Short: "move folders to another drive and leave a link behind",
		Long: "Nexlin moves a folder to another drive and leaves a link behind, so that programs\nnotice " +
			"nothing, no byte is lost, and it can always be undone.",
		SilenceErrors: true, SilenceUsage: true,
		Version: version,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return noCommand(root, args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("nexlin {{.Version}}\n")
	root.SetCompletionCommandGroupID("learn")
	p := root.PersistentFlags()
	p.StringVar(&a.stateDir, "state-dir", os.Getenv("NEXLIN_STATE_DIR"), "keep Nexlin's records in `DIR`")
	p.StringVar(&a.config, "config", os.Getenv("NEXLIN_CONFIG"), "look for your own cards in `DIR`/cards")
	hiddenFlags(a, p)
	p.BoolVar(&a.noColor, "no-color", false, "no colours (as with NO_COLOR)")
	p.BoolVarP(&a.Quiet, "quiet", "q", false, "no progress, and no words that were not asked for")
	p.BoolVarP(&a.Verbose, "verbose", "v", false, "more detail in errors")
	p.BoolVarP(&a.yes, "yes", "y", false, "answer the usual questions with yes")
	p.BoolVar(&a.AsJSON, "json", false, "print one JSON document")
	p.BoolVar(&a.progressJSON, "progress-json", false, "progress as JSON Lines on standard error")
	root.SetFlagErrorFunc(noFlag)
	for _, g := range []struct{ id, title string }{
		{"look", "Look"}, {"move", "Move, and take it back"}, {"watch", "Watch over"},
		{"many", "Kinds of folder, and many accounts"},
		{"keep", "Keep a copy elsewhere"}, {"learn", "Learn"},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title + ":"})
	}
	add := func(group string, cmds ...*cobra.Command) {
		for _, c := range cmds {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	back, lists, packs, demo := &recoverCommands{a}, &listCommands{a}, &packCommands{a}, &demoCommands{a}
	add("look", (&drivesCommand{a}).drivesCmd(), (&surveyCommand{a}).surveyCmd(), (&inspectCommand{a}).inspectCmd())
	add("move", (&moveCommand{a}).moveCmd(), back.bringBackCmd(), back.detachCmd(), (&discardCommand{a}).discardCmd(),
		back.resumeCmd(), back.undoCmd(), (&forgetCommand{a}).forgetCmd())
	add("watch", lists.listCmd(), lists.showCmd(), lists.historyCmd(), (&checkCommand{a}).checkCmd(),
		(&tryCommand{a}).tryCmd(), (&mendCommand{a}).mendCmd(), (&recordCommand{a}).recordCmd(),
		(&restoreCommand{a}).restoreCmd(), (&watchCommand{a}).watchCmd(), (&reportCommand{a}).reportCmd())
	add("many", (&cardCommands{a}).cardCmd())
	if account.Lists {
		add("many", (&accountsCommands{app: a}).accountsCmd())
	}
	add("keep", packs.packCmd(), packs.unpackCmd())
	add("learn", demo.demoCmd(), (&selftestCommand{a}).selftestCmd())
	root.AddCommand(demo.standinCmd())
	a.addTopics(root)
	root.SetHelpCommandGroupID("learn")
	root.InitDefaultCompletionCmd("completion")
	(&completer{a}).complete(root)
	return root
}

// hiddenFlags are for the demo, the self-test and the tests.
func hiddenFlags(a *app, p *pflag.FlagSet) {
	p.StringVar(&a.standins, "standin-drives", os.Getenv("NEXLIN_STANDIN_DRIVES"),
		"use the stand-in drives described in `FILE`")
	p.StringVar(&a.publishedDir, "published-dir", cmp.Or(os.Getenv("NEXLIN_PUBLISHED_DIR"), published.Dir),
		"where an administrator tells accounts what is redirected for them (`DIR`)")
	p.StringVar(&a.tagsBelow, "tags-below", "", "make no drive tag above `DIR`")
	for _, name := range []string{"standin-drives", "published-dir", "tags-below"} {
		_ = p.MarkHidden(name) // it exists
	}
}

func noCommand(root *cobra.Command, word string) error {
	var names []string
	for _, c := range root.Commands() {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	return typed.NoCommand(word, names)
}

func noFlag(c *cobra.Command, err error) error {
	var options []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			options = append(options, f.Name)
		}
	})
	_, name, _ := strings.Cut(c.CommandPath(), " ")
	return typed.NoFlag(name, err, options)
}
