package execute

import (
	"path/filepath"
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// Meant is the absolute path that a relative link means which stands in dir,
// an absolute path without links. Names after the first that is no ".." are
// left as they are, as far as no ".." follows them.
func Meant(dir, text string) string {
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
func (m *copier) rewriter() (rewrite func(*inventory.Entry) (made, origin string), done func()) {
	text, done := LinkTexts(m.Engine, m.Plan)
	return func(e *inventory.Entry) (made, origin string) { return text(e.Path, e.Link) }, done
}

// LinkTexts gives the function that says which text a link at a relative path
// gets in the copy of a run, and which one it is to have again some day; empty
// where that is its own. It is called in the one order. What an earlier run
// rewrote and nobody changed gets its old text back on the way home, and what it
// left as it was stays so. done releases what it reads from.
func LinkTexts(e *engine.Engine, p *plan.Plan) (text func(rel, text string) (made, origin string), done func()) {
	var known *transfer.Cursor
	done = func() {}
	if p.Before != nil {
		// Without the records of that run its links stay absolute, which is
		// where they lead.
		if spool, err := e.SpoolOf(p.Before.Run); err == nil {
			known, done = transfer.Read(spool), func() { _ = spool.Close() } // only read
		}
	}
	return func(rel, is string) (made, origin string) {
		switch r, _ := known.To(rel, nil); { // nothing of it can fail
		case r == nil || r.LinkOf(transfer.Copy) != is:
		case r.Origin == "":
			return "", ""
		case p.Traits().Back:
			return r.Origin, ""
		default:
			return "", r.Origin
		}
		return Rewritten(p, rel, is)
	}, done
}

// Rewritten is the text that a link at rel gets in the copy, and the one to
// go back to; empty where it stays as it is.
func Rewritten(p *plan.Plan, rel, text string) (made, origin string) {
	if p.InnerLinks != plan.RewriteLinks || !inventory.LeadsOut(rel, text) {
		return "", ""
	}
	dir := filepath.ToSlash(filepath.Dir(filepath.Join(p.From, rel)))
	return filepath.FromSlash(Meant(dir, text)), text
}

func Readlink(root *handle.Dir, rel string) (string, error) {
	dir, name, err := root.Parent(rel)
	if err != nil {
		return "", err
	}
	defer dir.Release()
	return dir.Readlink(name)
}
