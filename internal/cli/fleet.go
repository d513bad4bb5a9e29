package cli

import (
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"nexlin/internal/accounts"
	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/metrics"
	"nexlin/internal/screen"
)

// moduleName is what the program is called by where it is itself the module of an engine
// that looks after many machines: such an engine gives it one argument, a file.
const moduleName = "nexlin_accounts"

// Words are the arguments of a command line. A program that is called as a module has those
// of the command that answers as one.
func Words(line []string) []string {
	if len(line) == 2 && filepath.Base(line[0]) == moduleName {
		return []string{"accounts", "module", line[1]}
	}
	return line[1:]
}

// moduleCmd is `nexlin accounts module`.
func (a *accountsCommands) moduleCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "module ARGUMENTS",
		Short: "answer an engine that looks after many machines",
		Long: "ARGUMENTS is a file with one JSON object, as Ansible writes it for a module: file or content, state\n" +
			"(applied or withdrawn), only. The answer is one JSON object: changed, failed, msg, changes, problems,\n" +
			"diff. In check mode nothing is changed, and it says what `accounts check` says. The collection that\n" +
			"uses it comes with the sources, in contrib/ansible.",
		Args: cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			a.Colours(true) // some engines give it a terminal
			a.Quiet = true
			r, err := accounts.ReadRequest(args[0])
			if err != nil {
				return a.answer(screen.NewAnswer(a.explain, false).Failed(err))
			}
			n := screen.NewAnswer(a.explain, r.Diff)
			var d screen.Doc
			err = a.about(r.File, r.Declared, !r.Check, func(e *engine.Engine, f *accounts.File) (err error) {
				d, err = a.asked(e, f, r, n)
				return err
			})
			if err != nil {
				d = n.Failed(err)
			}
			return a.answer(d)
		}),
	}
}

// asked does what a request asks for, or only looks, and answers.
func (a *accountsCommands) asked(e *engine.Engine, f *accounts.File, r *accounts.Request,
	n *screen.Answer) (screen.Doc, error) {
	if r.Check {
		items, err := accounts.Look(a.ctx, e, f, r.Only...)
		if r.Withdraw {
			items = slices.DeleteFunc(items, func(i *accounts.Item) bool { return !i.Withdrawable() })
		}
		return n.Checked(items, r.Withdraw), err
	}
	do := carrier(accounts.Apply)
	if r.Withdraw {
		do = accounts.Withdraw
	}
	results, err := do(a.ctx, e, f, accounts.Options{Only: r.Only, Waiting: a.waiting})
	return n.Done(results, err), nil
}

// answer prints what an engine is told. The exit status says nothing that is not in it.
func (a *accountsCommands) answer(d screen.Doc) error {
	a.docDone = true
	if d["failed"] == true {
		a.grave(screen.ExitFailed)
	}
	return a.WriteJSON(d, "")
}

// factsCmd is `nexlin accounts facts`.
func (a *accountsCommands) factsCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "facts",
		Short: "this machine's drives, redirects and what is held, for an inventory",
		Long: "Says which drives are here or awaited, how many redirects are in which state, and how much is held.\n" +
			"With --json, a link to it or a line that calls it is a fact for an inventory of many machines.",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			reports, err := health.LookAll(a.ctx, e.AtOnce(), true)
			if err != nil {
				return err
			}
			here, err := e.Drives.List(false)
			if err != nil {
				return err
			}
			f := metrics.FactsOf(here, reports)
			if a.AsJSON {
				return a.emit(screen.FactsDoc(f))
			}
			a.shown().ShowFacts(f)
			return nil
		}),
	}
}
