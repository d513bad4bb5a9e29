package preflight

import (
	"errors"
	"os"
	"path/filepath"

	"nexlin/internal/account"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/places"
)

// OthersLinks finds links of other accounts on the way to places that a person
// named for a redirect: with administrator's rights they could lead anywhere (I6). A link that
// leads to what belongs to the same account gives nobody anything.
func OthersLinks(name string, named ...string) (out []finding.Finding, err error) {
	if os.Geteuid() != 0 {
		return nil, nil
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
				return out, err
			}
			if st.UID != 0 && st.UID != to.UID {
				out = append(out, finding.New(finding.OthersHands, s.Path, "the way to %s leads over %s, a link of "+
					"%s, to what belongs to %s", path, s.Path, account.Name(st.UID), account.Name(to.UID)).Named(name))
				break
			}
		}
	}
	return out, nil
}

// Above is the directory around a path that a person named; the last name itself
// is not followed. Empty for an empty path.
func Above(path string) string {
	if path == "" {
		return ""
	}
	return filepath.Dir(path)
}

// OthersDirectory gives the finding about a directory that lies in another account's
// hands; nil for any other.
func OthersDirectory(d *handle.Dir) (*finding.Finding, error) {
	err := d.Trusted()
	var hands *handle.HandsError
	if !errors.As(err, &hands) {
		return nil, err
	}
	f := finding.New(finding.OthersHands, d.Path(), "%s, or a directory above it, belongs to %s and lies in a "+
		"directory of %s, who could have put it there", d.Path(), account.Name(hands.Owner),
		account.Name(hands.Hands))
	return &f, nil
}
