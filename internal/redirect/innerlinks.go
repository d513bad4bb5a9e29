package redirect

import (
	"fmt"
	"path/filepath"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// InnerLinks says what becomes of relative links in the folder that lead
// out of it, and would mean something else once it lies elsewhere.
type InnerLinks string

// Rewritten links say the absolute path they meant; kept ones keep their
// text and break; refuse ends the move.
const (
	RewriteLinks InnerLinks = "rewrite"
	KeepLinks    InnerLinks = "keep"
	RefuseLinks  InnerLinks = "refuse"
)

// meant is the absolute path that a relative link means which stands in dir,
// an absolute path without links. Names after the first that is no ".." are
// left as they are, as far as no ".." follows them.
func meant(dir, text string) string {
	rest := text
	for rest != "" {
		part, more, _ := strings.Cut(rest, "/")
		if part == ".." {
			dir = filepath.Dir(dir)
		} else if part != "" && part != "." {
			break
		}
		rest = more
	}
	if rest == "" {
		return dir
	}
	path := strings.TrimSuffix(dir, "/") + "/" + rest
	at := strings.LastIndex("/"+rest+"/", "/../")
	if at < 0 {
		return path
	}
	// A name before a ".." may itself be a link: only the file system knows
	// where its parent is. The text of a link decides nothing else here.
	head := path[:len(path)-len(rest)+at+2]
	tail := strings.TrimPrefix(path, head)
	if resolved, err := handle.Real(head); err == nil {
		return resolved + tail
	}
	return filepath.Clean(head) + tail
}

// rewriter gives the function that a pass asks for the text of every link
// in the copy. done releases what it reads from.
func (m *execution) rewriter() (rewrite func(*inventory.Entry) (made, origin string), done func()) {
	text, done := m.linkTexts(m.p)
	return func(e *inventory.Entry) (made, origin string) { return text(e.Path, e.Link) }, done
}

// linkTexts gives the function that says which text a link at a relative path
// gets in the copy of a run, and which one it is to have again some day; empty
// where that is its own. It is called in the one order. What an earlier run
// rewrote and nobody changed gets its old text back on the way home, and what it
// left as it was stays so. done releases what it reads from.
func (e *Engine) linkTexts(p *Plan) (text func(rel, text string) (made, origin string), done func()) {
	var known *transfer.Cursor
	done = func() {}
	if p.Before != nil {
		// Without the records of that run its links stay absolute, which is
		// where they lead.
		if spool, err := e.spoolOf(p.Before.Run); err == nil {
			known, done = transfer.Read(spool), func() { _ = spool.Close() } // only read
		}
	}
	return func(rel, is string) (made, origin string) {
		if known != nil {
			for r := known.Peek(); r != nil && handle.Compare(r.Path, rel) < 0; r = known.Peek() {
				known.Next()
			}
			r := known.Peek()
			switch {
			case r == nil || r.Path != rel || r.LinkOf(transfer.Copy) != is:
			case r.Origin == "":
				return "", ""
			case p.kind().back:
				return r.Origin, ""
			default:
				return "", r.Origin
			}
		}
		return p.rewritten(rel, is)
	}, done
}

// rewritten is the text that a link at rel gets in the copy, and the one to
// go back to; empty where it stays as it is.
func (p *Plan) rewritten(rel, text string) (made, origin string) {
	if p.InnerLinks != RewriteLinks || !inventory.LeadsOut(rel, text) {
		return "", ""
	}
	dir := filepath.ToSlash(filepath.Dir(filepath.Join(p.From, rel)))
	return filepath.FromSlash(meant(dir, text)), text
}

// innerLinks tells what becomes of links that lead out.
func (e *Engine) innerLinks(p *Plan, root *handle.Dir) error {
	l := p.Facts.LeadOut
	if l.Count == 0 {
		return nil
	}
	becomes, done := e.linkTexts(p)
	defer done()
	rewrites := false
	var paths, details []string
	for _, rel := range l.Paths {
		text, err := readlink(root, rel)
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
	case p.InnerLinks == RewriteLinks && forOthers(p.Methods):
		f.Message += ", and what this system calls the places they mean is nothing to Windows"
		f.Remedy = "`--inner-links keep` leaves them as they are; make them anew in Windows if they are needed"
	case p.InnerLinks == RewriteLinks && !rewrites:
		f.Severity, f.Message, f.Remedy = finding.Info, f.Message+", as when it was moved, and stays as it is",
			"nothing needs doing"
	case p.InnerLinks == RewriteLinks:
		f.Severity, f.Message = finding.Info, f.Message+" and will be rewritten to the absolute path meant"
		f.Remedy = "`bring-back` gives them their old text again; `--inner-links keep` or `refuse` does otherwise"
	case p.InnerLinks == KeepLinks:
		f.Severity, f.Message = finding.Warning, f.Message+" and will lead elsewhere afterwards"
	default:
		f.Message += ", which was to be refused"
	}
	p.find(f)
	return nil
}

func readlink(root *handle.Dir, rel string) (string, error) {
	dir, name, err := root.Parent(rel)
	if err != nil {
		return "", err
	}
	defer dir.Release()
	return dir.Readlink(name)
}

// rewriteFor is what becomes of relative links that lead out when the data of a
// redirect moves on: where Windows is led to it, this system's paths are no use.
func rewriteFor(r ledger.Redirect) InnerLinks {
	if ForOthers(r) {
		return KeepLinks
	}
	return RewriteLinks
}
