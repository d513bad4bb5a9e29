package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/card"
	"nexlin/internal/engine"
	"nexlin/internal/group"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/run"
	"nexlin/internal/screen"
)

const cardPrefix = engine.CardPrefix

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
	c.AddCommand(a.cardListCmd(), a.cardShowCmd(), a.cardTestCmd())
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
			docs, rows := []screen.Doc{}, [][]string{}
			for _, c := range e.Cards {
				if c.File == "" && !c.Says(runtime.GOOS) {
					continue
				}
				u, err := planning.CardFor(c, a.Home)
				if err != nil {
					return err
				}
				here := cardHere(u)
				mark := ""
				if here {
					mark = "here"
				}
				whose := ""
				if c.File != "" {
					whose = "your own"
				}
				docs = append(docs, screen.Doc{"name": c.Name, "about": c.About, "family": c.Family, "here": here,
					"file": c.File})
				rows = append(rows, []string{screen.Bold.Render(c.Name), string(c.Family), mark, whose,
					pathtext.Show(c.About)})
			}
			if a.AsJSON {
				return a.emit(screen.Doc{"cards": docs})
			}
			a.Columns(a.Out, []string{"card", "family", "", "", "about"}, rows)
			a.Print("")
			a.Print("your own cards lie in %s", a.Path(a.cardDir()))
			return nil
		}),
	}
}

// cardHere reports whether one of a card's folders is on this machine.
func cardHere(u *planning.CardUse) bool {
	for _, f := range u.Card.Folders {
		if at := card.Expand(f.On(runtime.GOOS), u.Vars); at != "" {
			if _, err := os.Lstat(at); err == nil {
				return true
			}
		}
	}
	return false
}

func (a *cardCommands) cardShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show CARD", Short: "one card in full, made out for this account", Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.withCard(args[0], func(_ *engine.Engine, u *planning.CardUse) error {
				c := u.Card
				if a.AsJSON {
					folders := []screen.Doc{}
					for _, f := range c.Folders {
						folders = append(folders,
							screen.Doc{"name": f.Name, "path": card.Expand(f.On(runtime.GOOS), u.Vars),
								"growth": f.Growth})
					}
					return a.emit(screen.Doc{"name": c.Name, "about": c.About, "family": c.Family, "file": c.File,
						"folders": folders})
				}
				a.ShowCard(u)
				return nil
			})
		}),
	}
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
				docs, bad := []screen.Doc{}, 0
				for _, c := range checks {
					docs = append(docs, screen.Doc{"what": c.What, "good": c.Good, "says": c.Says})
					if !c.Good {
						bad++
					}
					if !a.AsJSON {
						mark := screen.Good.Render("good")
						if !c.Good {
							mark = screen.Caution.Render("look")
						}
						a.Print("%s  %-10s  %s", mark, strings.TrimSpace(c.What), c.Says)
					}
				}
				if bad > 0 {
					a.grave(screen.ExitProblems)
				}
				if a.AsJSON {
					return a.emit(screen.Doc{"card": u.Card.Name, "checks": docs})
				}
				if bad == 0 {
					a.Print("")
					a.Print("card %s fits this machine; nothing was changed", screen.Bold.Render(u.Card.Name))
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
	arg = strings.TrimPrefix(arg, cardPrefix)
	if ext := filepath.Ext(arg); ext == ".yaml" || ext == ".yml" {
		c, err := card.Read(arg)
		if err != nil {
			return err
		}
		u, err := planning.CardFor(*c, a.Home)
		if err != nil {
			return err
		}
		return f(e, u)
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

// giveCards reads the cards for a command that goes by them; the others start
// without. A mistake in one is the business of a command about cards, and told
// by the others.
func (a *app) giveCards(e *engine.Engine) (err error) {
	about := strings.HasPrefix(a.command, "card ")
	if !about && !strings.HasPrefix(a.command, "accounts ") &&
		!slices.Contains([]string{"move", "bring-back", "inspect", "survey"}, a.command) {
		return nil
	}
	if e.Cards, err = (&cardCommands{a}).loadCards(); err != nil && !about {
		a.Note("a card is left out: %v", err)
		err = nil
	}
	return err
}
