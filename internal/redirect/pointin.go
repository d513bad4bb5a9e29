package redirect

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// lookedAt bounds the search for links that lead into the folder, in
// entries: it is a help, and a home may hold millions.
const lookedAt = 20_000

// pointIn looks through the home that the link path lies in for symbolic
// links that the run would break: those that lead into the place where the
// data lies now and soon does not, and those that go through the folder and
// up again, which means another place once the folder is a link. What can't
// be looked into is passed over.
func (e *Engine) pointIn(ctx context.Context, p *Plan) {
	i := slices.IndexFunc(e.Homes, func(h string) bool { return !pathtext.IsRoot(h) && pathtext.Within(p.Link, h) })
	if i < 0 {
		return
	}
	home, err := handle.OpenReal(e.Homes[i])
	if err != nil {
		return
	}
	defer home.Release()
	s := &linkSearch{ctx: ctx, plan: p, left: lookedAt}
	s.dir(home, e.Homes[i])
	if len(s.paths) == 0 {
		return
	}
	f := finding.New(finding.LinksPointIn, s.paths[0], "%s elsewhere in %s would lead nowhere, or to another place, "+
		"afterwards", linkCount(len(s.paths)), e.Homes[i]).Named(p.Name).Listing(len(s.paths), s.paths)
	f.Details = s.texts
	p.find(f)
}

func linkCount(n int) string {
	if n == 1 {
		return "1 link"
	}
	return fmt.Sprintf("%d links", n)
}

type linkSearch struct {
	ctx          context.Context
	plan         *Plan
	left         int
	paths, texts []string
}

func (s *linkSearch) dir(d *handle.Dir, path string) {
	// An error is a directory that is not to be looked into, or the end.
	_ = d.EachName(func(name string) error {
		if s.left--; s.left < 0 {
			return errEnough
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
		at := filepath.Join(path, name)
		st, err := d.Stat(name)
		switch {
		case err != nil || at == s.plan.From || at == s.plan.Link:
		case st.IsSymlink():
			if text, err := d.Readlink(name); err == nil && s.plan.breaks(path, text) {
				s.paths, s.texts = append(s.paths, at), append(s.texts, "→ "+pathtext.Show(text))
			}
		case st.IsDir():
			if sub, err := d.Sub(name); err == nil {
				s.dir(sub, at)
				sub.Release()
			}
		}
		return nil
	})
}

// breaks reports whether a link with this text, in the directory dir, leads
// elsewhere after the run. It judges by the text alone.
func (p *Plan) breaks(dir, text string) bool {
	at := dir
	if strings.HasPrefix(text, "/") {
		at = "/"
	}
	for part := range strings.SplitSeq(text, "/") {
		if part == ".." && p.kind().first && at == p.From {
			return true // within the folder ".." stays the same; out of it, not
		}
		switch part {
		case "", ".":
		case "..":
			at = filepath.Dir(at)
		default:
			at = filepath.Join(at, part)
		}
	}
	return !p.kind().first && pathtext.Within(at, p.From)
}
