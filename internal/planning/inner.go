package planning

import (
	"fmt"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// checkInnerLinks tells what becomes of links that lead out.
func checkInnerLinks(e *engine.Engine, p *plan.Plan, root *handle.Dir) error {
	l := p.Facts.LeadOut
	if l.Count == 0 {
		return nil
	}
	becomes, done := execute.LinkTexts(e, p)
	defer done()
	rewrites := false
	var paths, details []string
	for _, rel := range l.Paths {
		text, err := execute.Readlink(root, rel)
		if handle.Missing(err) {
			continue
		}
		if err != nil {
			return err
		}
		said := "→ " + pathtext.Show(text)
		if made, _ := becomes(rel, text); made != "" {
			rewrites, said = true, said+", will be → "+pathtext.Show(made)
		}
		paths, details = append(paths, filepath.Join(p.From, rel)), append(details, said)
	}
	what := "1 relative link leads"
	if l.Count > 1 {
		what = fmt.Sprintf("%d relative links lead", l.Count)
	}
	path := filepath.Join(p.From, l.Paths[0])
	f := finding.New(finding.LinksLeadOut, path, "%s out of %s", what, p.From).Named(p.Name).Listing(l.Count, paths)
	f.Details = details
	switch {
	case p.InnerLinks == plan.RewriteLinks && plan.ForOthersBy(p.Methods):
		f.Message += ", and what this system calls the places they mean is nothing to Windows"
		f.Remedy = "`--inner-links keep` leaves them as they are; make them anew in Windows if they are needed"
	case p.InnerLinks == plan.RewriteLinks && !rewrites:
		f.Severity, f.Message, f.Remedy = finding.Info, f.Message+", as when it was moved, and stays as it is",
			"nothing needs doing"
	case p.InnerLinks == plan.RewriteLinks:
		f.Severity, f.Message = finding.Info, f.Message+" and will be rewritten to the absolute path meant"
		f.Remedy = "`bring-back` gives them their old text again; `--inner-links keep` or `refuse` does otherwise"
	case p.InnerLinks == plan.KeepLinks:
		f.Severity, f.Message = finding.Warning, f.Message+" and will lead elsewhere afterwards"
	default:
		f.Message += ", which was to be refused"
	}
	p.Add(f)
	return nil
}
