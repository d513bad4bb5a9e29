package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/card"
	"nexlin/internal/engine"
	"nexlin/internal/group"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/run"
	"nexlin/internal/screen"
)

// cardCommands are `nexlin card`, and runs by a card.
type cardCommands struct{ *app }

// cardDir is where a person's own cards lie.
func (a *cardCommands) cardDir() string {
	if a.config != "" {
		return filepath.Join(a.config, "cards")
	}
	return filepath.Join(a.configHome(), "nexlin", "cards")
}

// loadCards reads all cards; what is wrong with one is told, and the others
// are there. An administrator is not led by cards that others could write.
func (a *cardCommands) loadCards() ([]card.Card, error) {
	dir := a.cardDir()
	if err := card.OwnOnly(dir); err != nil {
		a.Note("the cards in %s are not used: %v", pathtext.Show(dir), err)
		dir = ""
	}
	return card.Load(dir)
}

// askPerson asks for a step that no command does.
func (a *app) askPerson(_ context.Context, question string) error {
	if err := a.confirm(question, true, "--yes"); err != nil {
		return errors.Join(run.ErrNotDone, err)
	}
	return nil
}

// cardFor finds the card of an argument and makes it out for this account.
func (a *app) cardFor(e *engine.Engine, name string) (*planning.CardUse, error) {
	c, err := planning.FindCard(e, name)
	if err != nil {
		return nil, err
	}
	return planning.CardFor(c, a.Home)
}

func (a *cardCommands) cardCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "card",
		Short: "the known kinds of folder, and your own",
		Long: "A card describes one kind of folder or application: where it lies, which settings name it, how to\n" +
			"see that it is in use, what to do before and after. `nexlin move card:NAME --into DIR` goes by it.\n" +
			"Your own cards lie in the configuration directory; docs/cards.md says how to write one.",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	c.AddCommand(a.cardListCmd(), a.cardShowCmd(), a.cardTestCmd(), a.cardNewCmd())
	return c
}

func (a *cardCommands) cardListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "all cards", Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			all, err := planning.Overview(a.ctx, e, a.Home)
			if err != nil {
				return err
			}
			if a.AsJSON {
				return a.emit(screen.Doc{"cards": screen.CardDocs(all)})
			}
			screen.ShowCards(&a.Lines, all)
			a.Print("")
			a.Print("your own cards lie in %s", a.Path(a.cardDir()))
			return nil
		}),
	}
}

func (a *cardCommands) cardShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show CARD", Short: "one card in full, made out for this account", Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.withCard(args[0], func(_ *engine.Engine, u *planning.CardUse) error {
				if a.AsJSON {
					return a.emit(screen.CardDoc(u))
				}
				a.ShowCard(u)
				return nil
			})
		}),
	}
}

func (a *cardCommands) cardNewCmd() *cobra.Command {
	var show bool
	c := &cobra.Command{
		Use: "new [NAME] FOLDER", Short: "write the draft of a card of your own, from what is seen of a folder",
		Long: "Looks at who holds files of FOLDER open, which settings near by name it and how fast it grows, and\n" +
			"writes that as a card with comments among your own, for you to look at. `nexlin card test NAME`\n" +
			"says what is missing. Nothing of that name is replaced. Without NAME it is called as the folder.",
		Args: cobra.RangeArgs(1, 2),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, cwd, done, err := a.engineHere(false)
			if err != nil {
				return err
			}
			defer done()
			d, err := planning.DraftCard(a.ctx, e, args[:len(args)-1],
				places.Resolved(places.Absolute(args[len(args)-1], cwd)), a.Home)
			if err != nil {
				return err
			}
			if show {
				a.Print("%s", strings.TrimSpace(string(d.Text())))
				return nil
			}
			file, err := d.Write(a.cardDir())
			if err != nil {
				return err
			}
			if a.AsJSON {
				return a.emit(screen.Doc{"card": d.Name, "file": file})
			}
			screen.ShowDraft(&a.Lines, d, file)
			return nil
		}),
	}
	c.Flags().BoolVar(&show, "show", false, "only show it, and write nothing")
	return c
}

func (a *cardCommands) cardTestCmd() *cobra.Command {
	return &cobra.Command{
		Use: "test CARD|FILE", Short: "run a card's checks; nothing is changed", Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.withCard(args[0], func(e *engine.Engine, u *planning.CardUse) error {
				checks, err := group.TestCard(a.ctx, e, u)
				if err != nil {
					return err
				}
				docs, bad := screen.ShowChecks(&a.Lines, u.Card.Name, checks)
				if bad {
					a.grave(screen.ExitProblems)
				}
				if a.AsJSON {
					return a.emit(screen.Doc{"card": u.Card.Name, "checks": docs})
				}
				return nil
			})
		}),
	}
}

// withCard finds a card by its name, or reads it from a file.
func (a *cardCommands) withCard(arg string, f func(*engine.Engine, *planning.CardUse) error) error {
	e, done, err := a.engine(false)
	if err != nil {
		return err
	}
	defer done()
	arg = strings.TrimPrefix(arg, engine.CardPrefix)
	if ext := filepath.Ext(arg); ext == ".yaml" || ext == ".yml" {
		c, err := card.Read(arg)
		if err != nil {
			return err
		}
		e.Cards, arg = []card.Card{*c}, c.Name
	}
	u, err := a.cardFor(e, arg)
	if err != nil {
		return err
	}
	return f(e, u)
}

// backCard brings back what a card has moved, as one.
func (a *recoverCommands) backCard(name string, preview bool, o planning.BackOptions) error {
	e, done, err := a.engine(!preview)
	if err != nil {
		return err
	}
	defer done()
	rs, err := group.RedirectsOf(e, name)
	if err != nil {
		return err
	}
	if len(rs) == 0 {
		return screen.Usage(fmt.Sprintf("nothing was moved by card %s; `nexlin list` shows what is redirected", name))
	}
	return (&cardCommands{a.app}).backTogether(e, name, rs, preview, o)
}

// backByCard brings back one redirect that a card has made, with what the card
// has done around it. done is false for any other.
func (a *recoverCommands) backByCard(arg string, preview bool, o planning.BackOptions) (done bool, err error) {
	e, cwd, closed, err := a.engineHere(!preview)
	if err != nil {
		return false, err
	}
	defer closed()
	r, err := e.Lookup(arg, cwd)
	if err != nil || r.Card == "" || r.State == ledger.Ended || plan.Owned(r) {
		return false, nil // the usual way says what is wrong with it
	}
	return true, (&cardCommands{a.app}).backTogether(e, r.Card, []ledger.Redirect{r}, preview, o)
}

func (a *cardCommands) backTogether(e *engine.Engine, name string, rs []ledger.Redirect, preview bool,
	o planning.BackOptions) error {
	return a.offerTogether(e, preview, "bring it back?",
		func(progress func(entries, bytes int64)) (*plan.Plan, error) {
			o.Progress = progress
			return group.PlanBack(a.ctx, e, name, rs, o)
		})
}

// cardFolders gives the folders of a card that are there, for a command that takes folders.
func (a *app) cardFolders(e *engine.Engine, name string) (folders []string, err error) {
	if e.Cards == nil {
		if e.Cards, err = (&cardCommands{a}).loadCards(); err != nil {
			a.Note("a card is left out: %v", err)
		}
	}
	u, err := (&cardCommands{a}).cardFor(e, name)
	if err != nil {
		return nil, err
	}
	return u.Folders(), nil
}

// cardFlag has a command go by a card that is given as a file, this once.
func cardFlag(a *app, c *cobra.Command) {
	c.Flags().StringVar(&a.cardFile, "card", "", "go by the card in `FILE`, this once")
}

// byFile gives the arguments of a command: the card that was given as a file, if there are no others.
func byFile(a *app, args []string) (out []string, err error) {
	switch {
	case a.cardFile == "":
		return args, nil
	case len(args) > 0:
		return nil, screen.Usage("--card says itself what is moved: no folder goes with it")
	}
	if a.once, err = card.Once(a.cardFile); err != nil {
		return nil, err
	}
	return []string{engine.CardPrefix + a.once.Name}, nil
}

// giveCards reads the cards for a command that goes by them; the others start
// without. A mistake in one is the business of a command about cards, and told
// by the others.
func (a *app) giveCards(e *engine.Engine) (err error) {
	about := strings.HasPrefix(a.command, "card ")
	if !about && !strings.HasPrefix(a.command, "accounts ") &&
		!slices.Contains([]string{"move", "bring-back", "inspect", "mend", "survey"}, a.command) {
		return nil
	}
	if e.Cards, err = (&cardCommands{a}).loadCards(); err != nil && !about {
		a.Note("a card is left out: %v", err)
		err = nil
	}
	if a.once != nil {
		e.Cards = card.With(e.Cards, *a.once)
	}
	return err
}
