package setting

import "nexlin/internal/pathtext"

// A Profile is one profile folder that has a location setting.
type Profile struct {
	Kind string // documents, pictures, music, videos, downloads, desktop, templates, publicshare
	Path string // absolute
}

// Profiles lists the profile folders of the account whose home this is, with
// the usual places for what it has set nothing for.
func Profiles(home string) ([]Profile, error) { return profiles(home) }

// A Place is where in which settings file a path stands.
type Place struct {
	File   string // absolute
	Format Format
	At     string // the address, see [Format]
	Key    string // of a line that is added where there is none; empty: nothing is added
	// Optional says that a file or value that is not there, or names another
	// folder, is passed over.
	Optional bool
}

// Location gives the places where the system keeps the location of the
// profile folder at path. ok is false if path is no profile folder of this
// home, or the system keeps no location for it.
func Location(home, path string) (kind string, at []Place, ok bool, err error) {
	all, err := profiles(home)
	if err != nil {
		return "", nil, false, err
	}
	for _, p := range all {
		if pathtext.Equal(p.Path, path) {
			at = placesOf(home, p.Kind)
			return p.Kind, at, len(at) > 0, nil
		}
	}
	return "", nil, false, nil
}

// Kinds lists the kinds of profile folder that the system keeps a location
// setting for; none where it keeps none.
func Kinds() []string { return kindsHere() }
