package cli

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
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

func heldBytes(hs []ledger.Held) (n int64) {
	for _, h := range hs {
		n += h.Bytes
	}
	return n
}

// heldLine reminds of what is held, of redirects that ended too.
func (a *screen) heldLine(e *engine.Engine) error {
	all, err := e.Ledger.HeldOf("")
	if err != nil || len(all) == 0 {
		return err
	}
	a.print("")
	a.print("  %s held, %s: nexlin list --held", plural(int64(len(all)), "original is", "originals are"),
		pathtext.Size(heldBytes(all)))
	return nil
}

// onDrive writes the target by the label its drive had.
func (a *screen) onDrive(r ledger.Redirect) string {
	mount := r.Drive.Mount
	if rel, ok := pathtext.Below(r.Target, mount); ok && r.Drive.Label != mount {
		return pathtext.Show(r.Drive.Label + ":/" + filepath.ToSlash(rel))
	}
	return a.path(r.Target)
}

func stateWord(s health.State) string {
	switch s {
	case health.Good:
		return good.Render(string(s))
	case health.Detached:
		return string(s)
	case health.Away, health.Elsewhere, health.Unfinished:
		return caution.Render(string(s))
	}
	return bad.Render(string(s))
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

func (a *screen) showRedirect(e *engine.Engine, rep *health.Report) error {
	r := rep.Redirect
	a.print("%s  %s", bold.Render(pathtext.Show(r.Name)), stateWord(rep.State))
	if r.State == ledger.Ended {
		a.print("  it was brought back: %s is a real folder", a.path(r.Link))
	} else {
		a.print("  %s", led(r.Methods, a.path(r.Link), a.onDrive(r)))
	}
	rows := [][]string{
		{"link", a.path(r.Link)}, {"target", a.path(r.Target)}, {"method", strings.Join(r.Methods, "+")},
		{"account", r.Account},
		{"drive", fmt.Sprintf("%s, identity %s", pathtext.Show(r.Drive.Label), orNone(r.Drive.Identity()))},
		{"moved", fmt.Sprintf("%s, %s, on %s", plural(r.Files, "file", "files"), pathtext.Size(r.Bytes),
			day(r.Created))},
	}
	if r.Text != "" {
		rows = append(rows, []string{"junction", "leads to " + pathtext.Show(link.Seen(r.Text)) +
			", as Windows names it"})
	}
	for _, h := range rep.Held {
		rows = append(rows, []string{"held",
			fmt.Sprintf("%s, %s, since %s", a.path(h.Path), pathtext.Size(h.Bytes), day(h.Since))})
	}
	runs, err := e.Ledger.Runs()
	if err != nil {
		return err
	}
	for _, x := range runs {
		if x.Redirect == r.Name {
			rows = append(rows, []string{"run", fmt.Sprintf("%s  %s, %s, %s", x.ID, x.Kind, x.State, day(x.Started))})
		}
	}
	a.columns(a.out, nil, rows)
	if len(rep.Findings) > 0 {
		a.print("")
		a.findings(a.out, rep.Findings)
	}
	return nil
}

// printManifest prints the manifest frozen at the switch.
func (a *screen) printManifest(e *engine.Engine, r ledger.Redirect, format string) error {
	if format == "mtree" {
		f, err := e.OpenManifest(r)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(a.rawOut, f)
		return err
	}
	err := e.EachFile(r, transfer.Digest(format), func(path string, digest [32]byte) error {
		// sha256sum(1), and b3sum alike: a name with a newline or a backslash is escaped, and
		// a backslash before the line says so.
		name, mark := path, ""
		if strings.ContainsAny(path, "\\\n\r") {
			name, mark = strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(path), `\`
		}
		if a.outIsTerminal() { // what is read by a program has the bytes as they are
			name = pathtext.Show(name)
		}
		_, err := fmt.Fprintf(a.rawOut, "%s%s  %s\n", mark, hex.EncodeToString(digest[:]), name)
		return err
	})
	if errors.Is(err, engine.ErrOtherDigest) {
		other := map[string]transfer.Digest{"sha256": transfer.BLAKE3, "blake3": transfer.SHA256}[format]
		return &usageError{fmt.Sprintf("%s has other digests than %s: --manifest %s prints them", r.Name, format,
			other)}
	}
	return err
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

func runWord(s string) string {
	switch s {
	case ledger.Done:
		return good.Render(s)
	case ledger.Stopped:
		return bad.Render(s)
	}
	return s
}
