package preflight

import (
	"context"
	"errors"
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

// A Leaving is a folder that is to lie elsewhere.
type Leaving struct {
	Name  string // of the redirect
	Link  string // where it is reached
	From  string // where the data lies now
	First bool   // it lies at the link path, and becomes a link
}

// PointingIn looks through the home that the link path lies in for symbolic
// links that would break: those that lead into the place where the
// data lies now and soon does not, and those that go through the folder and
// up again, which means another place once the folder is a link. What can't
// be looked into is passed over. It gives nil if there is nothing to tell.
func PointingIn(ctx context.Context, homes []string, l *Leaving) *finding.Finding {
	i := slices.IndexFunc(homes, func(h string) bool { return !pathtext.IsRoot(h) && pathtext.Within(l.Link, h) })
	if i < 0 {
		return nil
	}
	home, err := handle.OpenReal(homes[i])
	if err != nil {
		return nil
	}
	defer home.Release()
	s := &linkSearch{ctx: ctx, folder: l, left: lookedAt}
	s.dir(home, homes[i])
	if len(s.paths) == 0 {
		return nil
	}
	f := finding.New(finding.LinksPointIn, s.paths[0], "%s elsewhere in %s would lead nowhere, or to another place, "+
		"afterwards", pathtext.Plural(len(s.paths), "link", "links"), homes[i]).Named(l.Name).
		Listing(len(s.paths), s.paths)
	f.Details = s.texts
	return &f
}

var errSearched = errors.New("enough was looked at")

type linkSearch struct {
	ctx          context.Context
	folder       *Leaving
	left         int
	paths, texts []string
}

func (s *linkSearch) dir(d *handle.Dir, path string) {
	// An error is a directory that is not to be looked into, or the end.
	_ = d.EachName(func(name string) error {
		if s.left--; s.left < 0 {
			return errSearched
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
		at := filepath.Join(path, name)
		st, err := d.Stat(name)
		switch {
		case err != nil || at == s.folder.From || at == s.folder.Link:
		case st.IsSymlink():
			if text, err := d.Readlink(name); err == nil && s.folder.breaks(path, text) {
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
// elsewhere once the folder lies elsewhere. It judges by the text alone.
func (l *Leaving) breaks(dir, text string) bool {
	at := dir
	if strings.HasPrefix(text, "/") {
		at = "/"
	}
	for part := range strings.SplitSeq(text, "/") {
		if part == ".." && l.First && at == l.From {
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
	return !l.First && pathtext.Within(at, l.From)
}
