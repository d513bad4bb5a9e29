package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
)

// inspectCommand is `nexlin inspect`.
type inspectCommand struct{ *app }

func (a *inspectCommand) inspectCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect PATH",
		Short: "one folder: its real path, who has it open, what a move would meet",
		Args:  cobra.ExactArgs(1),
		RunE: a.runner(func(_ *cobra.Command, args []string) error {
			e, done, err := a.engine(false)
			if err != nil {
				return err
			}
			defer done()
			path := args[0]
			if !filepath.IsAbs(path) {
				cwd, err := a.cwd()
				if err != nil {
					return err
				}
				path = filepath.Join(cwd, path)
			}
			p := a.progress()
			p.Phase("inspect", 0, 0)
			l, err := planning.Inspect(a.ctx, e, filepath.Clean(path), p.inspected)
			p.end()
			if err != nil {
				return err
			}
			if blocked := l.Plan.Blocked(); blocked != nil && l.Redirect == nil {
				a.grave(exitRefused)
			}
			if a.json {
				return a.emit(inspectDoc(l))
			}
			a.showInspect(l)
			return nil
		}),
	}
}

func inspectDoc(l *planning.Look) doc {
	chain, users := []doc{}, []doc{}
	for _, s := range l.Chain {
		chain = append(chain, doc{"link": s.Path, "text": s.Text})
	}
	for _, h := range l.Plan.InUse.Holders {
		users = append(users, doc{"pid": h.PID, "program": h.Program, "path": h.Path, "how": string(h.How)})
	}
	d := doc{
		"path": l.Path, "real": l.Real, "chain": chain, "in_use": users, "methods": append([]string{}, l.Methods...),
		"files": l.Plan.Files, "bytes": l.Plan.Bytes, "allocated": l.Plan.Allocated, "drive": l.Plan.FromNow.Name(),
		"findings": findingDocs(l.Plan.Findings),
	}
	if l.Redirect != nil {
		d["redirect"] = l.Redirect.Name
	}
	return d
}

func (a *screen) showInspect(l *planning.Look) {
	p := l.Plan
	a.print("%s", bold.Render(a.path(l.Path)))
	for _, s := range l.Chain {
		a.print("  %s ──link──▶ %s", a.path(s.Path), a.path(link.Seen(s.Text)))
	}
	var rows [][]string
	add := func(k, v string) { rows = append(rows, []string{k, v}) }
	if l.Real != l.Path {
		add("real path", a.path(l.Real))
	}
	if l.Redirect != nil {
		add("redirect", fmt.Sprintf("%s, on %s", l.Redirect.Name, pathtext.Show(l.Redirect.Drive.Label)))
	}
	if p.FromIno != 0 {
		add("drive", fmt.Sprintf("%s, %s free", pathtext.Show(p.FromNow.Name()), pathtext.Size(p.FromNow.Free)))
		add("holds", fmt.Sprintf("%s, %s, %s", plural(p.Facts.Files, "file", "files"),
			plural(p.Facts.Dirs, "directory", "directories"), plural(p.Facts.Links, "link", "links")))
		add("size", fmt.Sprintf("%s; moving it frees %s", pathtext.Size(p.Bytes), pathtext.Size(p.Allocated)))
		add("belongs to", p.Account)
		used := "nobody that can be seen"
		if len(p.InUse.Holders) > 0 {
			used = ""
			for i, h := range p.InUse.Holders {
				if i == 6 {
					used += fmt.Sprintf("\nand %d more", len(p.InUse.Holders)-i)
					break
				}
				used += fmt.Sprintf("\n%s (process %d): %s, %s", pathtext.Show(h.Program), h.PID, h.How, a.path(h.Path))
			}
			used = strings.TrimPrefix(used, "\n")
		}
		add("in use by", used)
		if len(l.Methods) > 0 {
			add("can be moved by", strings.Join(l.Methods, ", "))
		}
	}
	if len(rows) > 0 {
		a.columns(a.out, nil, rows)
	}
	if l.Redirect != nil {
		return // that it is a link is what it is meant to be
	}
	a.print("")
	a.findings(a.out, p.Findings)
	if len(p.Findings) == 0 {
		a.print("%s", good.Render(
			"nothing stands in the way of a move; the drive it goes to is looked at by `nexlin move --preview`"))
	}
}
