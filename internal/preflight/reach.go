package preflight

import (
	"path/filepath"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// Shrinks finds a folder that other accounts can reach where it is and could not in the
// directory it goes to; nil if there is nothing to tell. Access lists are not looked at: they name accounts one by one.
func Shrinks(name, from, link, into string) (*finding.Finding, error) {
	st, err := handle.Lstat(from)
	if err != nil {
		return nil, nil // that is another finding
	}
	for _, who := range []struct {
		bits uint32 // of the group, or of others
		gid  uint32
		what string
	}{{0o005, 0, "every account"}, {0o050, st.GID, "the group of the folder"}} {
		if st.Mode&who.bits != who.bits {
			continue
		}
		enters := func(d *handle.Stat) bool {
			return d.Mode&0o001 != 0 || who.bits == 0o050 && d.GID == who.gid && d.Mode&0o010 != 0
		}
		if closed, err := closedAbove(filepath.Dir(link), enters); closed != "" || err != nil {
			return nil, err // it was closed before
		}
		closed, err := closedAbove(into, enters)
		if err != nil {
			return nil, err
		}
		if closed != "" {
			f := finding.New(finding.RightsShrink, closed, "%s can look into %s now, and could not pass %s on the "+
				"way to where it goes", who.what, link, closed).Named(name)
			return &f, nil
		}
	}
	return nil, nil
}

// closedAbove gives the first directory from path upwards that is not to be
// entered; what does not exist yet is made to be. Empty if there is none.
func closedAbove(path string, enters func(*handle.Stat) bool) (string, error) {
	for at := path; ; at = filepath.Dir(at) {
		st, err := handle.Lstat(at)
		switch {
		case handle.Missing(err):
		case err != nil:
			return "", err
		case st.IsDir() && !enters(&st):
			return at, nil
		}
		if pathtext.IsRoot(at) {
			return "", nil
		}
	}
}
