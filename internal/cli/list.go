package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
)

// listCommands are list, show and history.
type listCommands struct{ *app }

func (a *listCommands) listCmd() *cobra.Command {
	var held bool
	c := &cobra.Command{
		Use:   "list",
		Short: "what is redirected, and in which state",
		Args:  cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			if held {
				return a.listHeld(e)
			}
			return a.listRedirects(e)
		}),
	}
	c.Flags().BoolVar(&held, "held", false, "what waits to be discarded, and what that would free")
	return c
}

func (a *listCommands) listRedirects(e *engine.Engine) error {
	e = e.AtOnce()
	reports, err := health.LookAll(a.ctx, e, false)
	if err != nil {
		return err
	}
	docs, cells := []screen.RedirectDoc{}, [][]string{}
	for _, rep := range reports {
		r := rep.Redirect
		docs = append(docs, screen.ReportDoc(rep, false))
		held := "–"
		if len(rep.Held) > 0 {
			held = pathtext.Size(ledger.HeldBytes(rep.Held))
		}
		cells = append(cells, []string{
			r.Name, screen.StateWord(rep.State), a.Path(r.Link) + screen.LedArrow(r.Methods) + a.OnDrive(r),
			pathtext.Size(r.Bytes),
			held,
		})
	}
	managed, err := a.managed(e)
	if err != nil {
		return err
	}
	if a.AsJSON {
		return a.emit(withManaged(screen.Doc{"redirects": docs}, managed))
	}
	if len(managed) > 0 {
		defer a.ShowManaged(managed)
	}
	if len(cells) == 0 {
		a.Print("nothing is redirected yet; nexlin survey shows what could be moved")
	} else {
		a.Columns(a.Out, []string{"name", "state", "", "moved", "held"}, cells, 3, 4)
	}
	return a.HeldLine(e)
}

// managed is how what an administrator has redirected for this account stands.
func (a *app) managed(e *engine.Engine) (out []*health.Report, err error) {
	for _, r := range e.Managed {
		rep, err := health.CheckLead(a.ctx, e, r)
		if err != nil {
			return nil, err
		}
		rep.Held = nil // of this account's own records
		out = append(out, rep)
	}
	return out, nil
}

func (a *listCommands) listHeld(e *engine.Engine) error {
	held, err := e.Ledger.HeldOf("")
	if err != nil {
		return err
	}
	if a.AsJSON {
		rows, err := e.Ledger.Redirects(true)
		if err != nil {
			return err
		}
		docs := []screen.RedirectDoc{}
		for _, r := range rows {
			rep, err := health.Look(e, r)
			if err != nil {
				return err
			}
			if len(rep.Held) > 0 {
				docs = append(docs, screen.ReportDoc(rep, false))
			}
		}
		return a.emit(screen.Doc{"redirects": docs})
	}
	a.ShowHeld(held)
	return nil
}

func (a *listCommands) showCmd() *cobra.Command {
	var manifest string
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "one redirect in full; its manifest for stock tools",
		Args:  cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if manifest != "" && !slices.Contains(values["manifest"], manifest) {
				return screen.Usage("--manifest takes mtree, sha256 or blake3")
			}
			return a.named(args, false, "redirects", func(e *engine.Engine, r ledger.Redirect) (screen.Doc, error) {
				if manifest != "" {
					a.docDone = true // the manifest is the output, no document
					return nil, a.PrintManifest(a.ctx, e, r, manifest)
				}
				rep, err := health.Look(e, r)
				if err != nil {
					return nil, err
				}
				if a.AsJSON {
					return screen.Doc{"redirect": screen.ReportDoc(rep, true)}, nil
				}
				return nil, a.ShowRedirect(e, rep)
			})
		}),
	}
	c.Flags().StringVar(&manifest, "manifest", "",
		"print the manifest as `FORMAT`: mtree, or sha256 or blake3 in lines as sha256sum -c reads them")
	return c
}

func (a *listCommands) historyCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "history",
		Short: "all runs, newest first",
		Args:  cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			runs, err := e.Ledger.Runs()
			if err != nil {
				return err
			}
			if a.AsJSON {
				return a.emit(screen.HistoryDoc(runs))
			}
			a.ShowHistory(runs)
			return nil
		}),
	}
}
