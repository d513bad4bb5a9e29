package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nexlin/internal/accounts"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
)

// accountsCommands are `nexlin accounts`.
type accountsCommands struct {
	*app
	only  []string
	login bool
}

func (a *accountsCommands) accountsCmd() *cobra.Command {
	var units, numbers string
	c := &cobra.Command{
		Use:   "accounts",
		Short: "one file that says what is redirected for which accounts",
		Long: "An administrator's file declares redirects for many accounts. `check` holds it against what is\n" +
			"there, `apply` makes it so, for each account by itself, and `withdraw` brings all of it back. What\n" +
			"is as declared is never touched, and an apply that was stopped goes on with the next one.\n" +
			"`nexlin accounts example` prints a file that tells what may stand in one.",
		Example: "  nexlin accounts example > /etc/nexlin/accounts.yaml\n" +
			"  nexlin accounts check /etc/nexlin/accounts.yaml\n" +
			"  nexlin accounts apply /etc/nexlin/accounts.yaml",
		Args: cobra.NoArgs,
		RunE: a.runner(func(cmd *cobra.Command, _ []string) error {
			switch {
			case units == "" && numbers != "":
				return screen.Usage(
					"--metrics-file goes with --print-unit; `nexlin check --metrics-file` writes them once")
			case units == "":
				return cmd.Help()
			}
			return a.printUnits(units, numbers)
		}),
	}
	c.Flags().StringVar(&units, "print-unit", "",
		"print a unit and a timer for systemd that apply `FILE` at every start and once an hour")
	c.Flags().StringVar(&numbers, "metrics-file", "",
		"with --print-unit: after every apply, keep the numbers of `check` in `FILE`, for a gatherer of text files")
	c.AddCommand(a.checkCmd(), a.applyCmd(), a.withdrawCmd(), a.exampleCmd(), a.factsCmd(), a.moduleCmd())
	return c
}

func (a *accountsCommands) printUnits(file, numbers string) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	if file, err = filepath.Abs(file); err != nil {
		return err
	}
	if numbers != "" {
		if numbers, err = filepath.Abs(numbers); err != nil {
			return err
		}
	}
	docs := []screen.Doc{}
	for _, u := range accounts.Units(exe, file, numbers) {
		if !a.AsJSON {
			a.Print("# /etc/systemd/system/%s\n%s", u.Name, u.Text)
		}
		docs = append(docs, screen.Doc{"name": u.Name, "text": u.Text})
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"units": docs, "findings": []screen.Doc{}})
	}
	a.Note("at logins, a line for the system's PAM session: %s", accounts.LoginLine(exe, file))
	a.Note("put each into its file, then: systemctl daemon-reload && systemctl enable --now nexlin-accounts.timer")
	return nil
}

func (a *accountsCommands) exampleCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "example",
		Short: "print an accounts file that tells what may stand in one",
		Args:  cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			if a.AsJSON {
				return a.emit(screen.Doc{"file": accounts.Example, "findings": []screen.Doc{}})
			}
			_, err := a.RawOut.WriteString(accounts.Example)
			return err
		}),
	}
}

func (a *accountsCommands) checkCmd() *cobra.Command {
	var onlyRead bool
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "what is not as the file declares it, and how",
		Long: "Holds the file against what is there and changes nothing. The exit status is 4 if anything is not\n" +
			"as declared. With -v what is as declared is listed, too.",
		Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if onlyRead {
				return a.understood(args[0])
			}
			return a.with(args[0], false, func(e *engine.Engine, f *accounts.File) error {
				if err := a.declared(e, f); err != nil {
					return err
				}
				items, err := accounts.Look(a.ctx, e, f, a.only...)
				if err != nil {
					return err
				}
				a.grave(screen.DriftExit(items))
				return a.showItems(items, false, a.shown().ShowItems)
			})
		}),
	}
	a.onlyFlags(c)
	c.Flags().BoolVar(&onlyRead, "only-read", false, "see whether the file can be understood, and look at nothing else")
	return c
}

func (a *accountsCommands) understood(path string) error {
	if _, err := accounts.Understand(path); err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(screen.Doc{"understood": true, "findings": []screen.Doc{}})
	}
	if !a.Quiet {
		a.Print("%s can be understood", pathtext.Show(path))
	}
	return nil
}

// shown is what shows the accounts.
func (a *accountsCommands) shown() *screen.Accounts { return &screen.Accounts{Screen: a.Screen} }

// onlyFlags are those that name some of the accounts.
func (a *accountsCommands) onlyFlags(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.only, "only", nil, "no other account than `NAME`; may be given several times")
	c.Flags().BoolVar(&a.login, "login", false, "only the account that is logging in, as PAM_USER names it (pam_exec)")
}

// declared wants the file to be about every account that was named.
func (a *accountsCommands) declared(e *engine.Engine, f *accounts.File) error {
	if a.login {
		return nil // most that log in are none of those that it is about
	}
	name, err := accounts.Undeclared(a.ctx, e, f, a.only)
	if err != nil || name == "" {
		return err
	}
	return screen.Usage("--only " + pathtext.Show(name) + ": the file is about no account of that name here")
}

// loggingIn takes the account that is logging in from the environment.
func (a *accountsCommands) loggingIn() error {
	if !a.login {
		return nil
	}
	name := os.Getenv("PAM_USER")
	if name == "" {
		return screen.Usage("--login is for a login hook: PAM_USER names no account")
	}
	a.only = append(a.only, name)
	return nil
}

// showItems shows what was found.
func (a *accountsCommands) showItems(items []*accounts.Item, preview bool, show func([]*accounts.Item)) error {
	if a.AsJSON {
		return a.emit(screen.Doc{"preview": preview, "accounts": screen.ItemDocs(items), "findings": []screen.Doc{}})
	}
	show(items)
	if preview {
		a.SayPreview()
	}
	return nil
}

func (a *accountsCommands) applyCmd() *cobra.Command {
	return a.changing("apply FILE", "make it so as the file declares, for each account by itself",
		"Makes what is missing, moves what is declared to lie elsewhere, mends what came off, and says what\n"+
			"it leaves to a person. What is as declared is not touched; a second apply changes nothing. What one\n"+
			"account lacks keeps no other from its own. A run that was stopped is finished first.",
		"apply it?", (*accounts.Item).Able, accounts.Apply)
}

func (a *accountsCommands) withdrawCmd() *cobra.Command {
	return a.changing("withdraw FILE", "bring back all that the file declares",
		"Brings every folder that the file declares, and that is redirected, back to its old place. Where\n"+
			"nobody has worked in the copy, it is as if there had been no move; else what is there now is copied\n"+
			"back. What was made in advance and is still empty goes.",
		"bring all of it back?",
		(*accounts.Item).Withdrawable, accounts.Withdraw)
}

// A carrier is [accounts.Apply] or [accounts.Withdraw].
type carrier func(context.Context, *engine.Engine, *accounts.File, accounts.Options) ([]*accounts.Result, error)

// changing is a command that shows what it would do, asks, and does it.
func (a *accountsCommands) changing(use, short, long, question string, concerns func(*accounts.Item) bool,
	do carrier) *cobra.Command {
	var preview bool
	back := strings.HasPrefix(use, "withdraw")
	c := &cobra.Command{
		Use: use, Short: short, Long: long, Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			return a.with(args[0], !preview, func(e *engine.Engine, f *accounts.File) error {
				if err := a.declared(e, f); err != nil {
					return err
				}
				if preview || a.asks() {
					items, err := accounts.Look(a.ctx, e, f, a.only...)
					if err != nil {
						return err
					}
					show := a.shown().ShowItems
					if back {
						show = a.shown().ShowWithdrawal
						items = slices.DeleteFunc(items, func(i *accounts.Item) bool { return !concerns(i) })
					}
					if err := a.showItems(items, preview, show); preview || err != nil {
						return err
					}
					if !slices.ContainsFunc(items, concerns) {
						return nil
					}
				}
				if err := a.confirm(question, true, "--yes"); err != nil {
					return err
				}
				return a.carry(e, f, do)
			})
		}),
	}
	a.previewFlag(c, &preview)
	a.onlyFlags(c)
	return c
}

// asks says that a person is asked, who wants to see first what about.
func (a *accountsCommands) asks() bool { return !a.yes && !a.AsJSON && a.terminal() }

func (a *accountsCommands) carry(e *engine.Engine, f *accounts.File, do carrier) error {
	p := a.progress()
	o := accounts.Options{Progress: p, Only: a.only}
	if !a.login { // who logs in does not wait for others' folders
		o.Waiting = a.waiting
	}
	var told [][]*accounts.Result
	show := func(results []*accounts.Result) { a.shown().ShowResults(results, a.explain) }
	switch bar := term.IsTerminal(int(a.RawErr.Fd())) && !a.Quiet; {
	case a.AsJSON:
	case bar: // which what is printed beside it would destroy
		o.Told = func(results []*accounts.Result) { told = append(told, results) }
	default:
		o.Told = show
	}
	results, err := do(a.ctx, e, f, o)
	p.End()
	for _, r := range told {
		show(r)
	}
	for _, r := range results {
		a.grave(resultExit(r, a.explain))
	}
	if a.AsJSON {
		d := screen.Doc{"preview": false, "accounts": screen.ResultDocs(results, a.explain), "findings": []screen.Doc{}}
		if err != nil {
			return a.failWith(d, err)
		}
		return a.emit(d)
	}
	if err == nil || len(results) > 0 {
		a.shown().CountResults(results)
	}
	return err
}

func resultExit(r *accounts.Result, explain func(error) screen.Fault) int {
	switch r.End {
	case accounts.Refused, accounts.Stopped:
		return explain(r.Err).Exit
	}
	return screen.ExitDone
}

// waiting says that another apply is waited for.
func (a *accountsCommands) waiting() {
	if !a.Quiet {
		a.Note("another apply or withdrawal is at work; waiting until it has ended")
	}
}

// with reads the file at a path, and does something about it.
func (a *accountsCommands) with(path string, write bool, do func(*engine.Engine, *accounts.File) error) error {
	return a.about(path, func() (*accounts.File, error) { return accounts.Read(path) }, write, do)
}

// about opens the records: the system's, so that it wants an administrator. path says what it is about.
func (a *accountsCommands) about(path string, read func() (*accounts.File, error), write bool,
	do func(*engine.Engine, *accounts.File) error) error {
	if os.Geteuid() != 0 {
		return plan.Refused(finding.New(finding.OtherAccount, path, "accounts are served with an administrator's "+
			"rights, and this account has none").As(finding.Blocker).Instead("`sudo nexlin` and the same words"))
	}
	if err := a.loggingIn(); err != nil {
		return err
	}
	f, err := read()
	if err != nil {
		return err
	}
	e, done, err := a.engine(write)
	if err != nil {
		return err
	}
	defer done()
	return do(e, f)
}
