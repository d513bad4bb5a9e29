package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
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
	rows, err := e.Ledger.Redirects(false)
	if err != nil {
		return err
	}
	e = e.AtOnce()
	docs, cells := []redirectDoc{}, [][]string{}
	for _, r := range rows {
		rep, err := health.Look(e, r)
		if err != nil {
			return err
		}
		docs = append(docs, reportDoc(rep, false))
		held := "–"
		if len(rep.Held) > 0 {
			held = pathtext.Size(heldBytes(rep.Held))
		}
		cells = append(cells, []string{
			r.Name, stateWord(rep.State), a.path(r.Link) + ledArrow(r.Methods) + a.onDrive(r), pathtext.Size(r.Bytes),
			held,
		})
	}
	if a.json {
		return a.emit(doc{"redirects": docs})
	}
	if len(cells) == 0 {
		a.print("nothing is redirected yet; nexlin survey shows what could be moved")
	} else {
		a.columns(a.out, []string{"name", "state", "", "moved", "held"}, cells, 3, 4)
	}
	return a.heldLine(e)
}

func (a *listCommands) listHeld(e *engine.Engine) error {
	held, err := e.Ledger.HeldOf("")
	if err != nil {
		return err
	}
	if a.json {
		rows, err := e.Ledger.Redirects(true)
		if err != nil {
			return err
		}
		docs := []redirectDoc{}
		for _, r := range rows {
			rep, err := health.Look(e, r)
			if err != nil {
				return err
			}
			if len(rep.Held) > 0 {
				docs = append(docs, reportDoc(rep, false))
			}
		}
		return a.emit(doc{"redirects": docs})
	}
	if len(held) == 0 {
		a.print("nothing is held")
		return nil
	}
	var cells [][]string
	for _, h := range held {
		cells = append(cells, []string{h.Redirect, a.path(h.Path), pathtext.Size(h.Bytes),
			pathtext.Show(h.Drive.Label), day(h.Since) + " (" + ago(h.Since) + ")"})
	}
	a.columns(a.out, []string{"name", "held as", "frees", "on", "since"}, cells, 2)
	a.print("")
	a.print("  nexlin discard-original NAME compares once more and deletes")
	return nil
}

func (a *listCommands) showCmd() *cobra.Command {
	var manifest string
	c := &cobra.Command{
		Use:   "show NAME",
		Short: "one redirect in full; its manifest for stock tools",
		Args:  cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			if manifest != "" && manifest != "mtree" && manifest != "sha256" && manifest != "blake3" {
				return &usageError{"--manifest takes mtree, sha256 or blake3"}
			}
			return a.named(args, false, "redirects", func(e *engine.Engine, r ledger.Redirect) (doc, error) {
				if manifest != "" {
					a.docDone = true // the manifest is the output, no document
					return nil, a.printManifest(e, r, manifest)
				}
				rep, err := health.Look(e, r)
				if err != nil {
					return nil, err
				}
				if a.json {
					return doc{"redirect": reportDoc(rep, true)}, nil
				}
				return nil, a.showRedirect(e, rep)
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
			docs, cells := []doc{}, [][]string{}
			for _, r := range runs {
				d := doc{"id": r.ID, "kind": r.Kind, "redirect": r.Redirect, "state": r.State, "started": r.Started,
					"message": r.Message}
				if !r.Ended.IsZero() {
					d["ended"] = r.Ended
				}
				docs = append(docs, d)
				cells = append(cells, []string{r.ID, r.Kind, strings.TrimPrefix(r.Redirect, "-"), runWord(r.State),
					day(r.Started), pathtext.Show(r.Message)})
			}
			if a.json {
				return a.emit(doc{"runs": docs})
			}
			if len(cells) == 0 {
				a.print("no run yet")
				return nil
			}
			a.columns(a.out, []string{"run", "what", "redirect", "state", "started", ""}, cells)
			return nil
		}),
	}
}
