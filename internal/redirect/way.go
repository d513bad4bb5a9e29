package redirect

import (
	"os"
	"path/filepath"

	"nexlin/internal/account"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/places"
)

// byOthersLinks finds links of other accounts on the way to a place that a person
// named: with administrator's rights they could lead anywhere (I6). A link that
// leads to what belongs to the same account gives nobody anything.
func (p *Plan) byOthersLinks(named ...string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	for _, path := range named {
		if path == "" || !filepath.IsAbs(path) {
			continue
		}
		steps, end, err := link.Chain(path)
		if len(steps) == 0 {
			continue
		}
		to, lerr := handle.Lstat(end)
		if err != nil || lerr != nil { // it ends where nothing is yet: what is above it counts
			if to, err = handle.Lstat(places.ResolvedDir(filepath.Dir(end))); err != nil {
				continue // that is another finding
			}
		}
		for _, s := range steps {
			st, err := handle.Lstat(s.Path)
			if err != nil {
				return err
			}
			if st.UID != 0 && st.UID != to.UID {
				p.find(finding.New(finding.OthersHands, s.Path, "the way to %s leads over %s, a link of %s, to what "+
					"belongs to %s", path, s.Path, account.Name(st.UID), account.Name(to.UID)).Named(p.Name))
				break
			}
		}
	}
	return nil
}

// above is the directory around a path that a person named; the last name itself
// is not followed. Empty for an empty path.
func above(path string) string {
	if path == "" {
		return ""
	}
	return filepath.Dir(path)
}
