package setting

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// A Profile is one profile folder that has a location setting.
type Profile struct {
	Kind string // documents, pictures, music, videos, downloads, desktop, templates, publicshare
	Path string // absolute
}

// kinds are the keys of user-dirs.dirs (xdg-user-dirs) with our words and
// the places that hold where the file says nothing.
var kinds = []struct{ key, kind, fallback string }{
	{"XDG_DESKTOP_DIR", "desktop", "Desktop"},
	{"XDG_DOCUMENTS_DIR", "documents", "Documents"},
	{"XDG_DOWNLOAD_DIR", "downloads", "Downloads"},
	{"XDG_MUSIC_DIR", "music", "Music"},
	{"XDG_PICTURES_DIR", "pictures", "Pictures"},
	{"XDG_VIDEOS_DIR", "videos", "Videos"},
	{"XDG_TEMPLATES_DIR", "templates", "Templates"},
	{"XDG_PUBLICSHARE_DIR", "publicshare", "Public"},
}

// Profiles lists the profile folders of the account whose home this is, as
// its user-dirs.dirs says, with the usual places for what it does not name.
// A kind that is set to the home itself is switched off, and left out.
func Profiles(home string) ([]Profile, error) {
	data, err := os.ReadFile(filepath.Join(home, ".config", "user-dirs.dirs"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	return UserDirectories{home, data}.Profiles()
}

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
// profile folder at path: its line in user-dirs.dirs, and the bookmarks of
// file managers. ok is false if path is no profile folder of this home.
func Location(home, path string) (kind string, places []Place, ok bool, err error) {
	all, err := Profiles(home)
	if err != nil {
		return "", nil, false, err
	}
	for _, p := range all {
		if p.Path != path {
			continue
		}
		for _, k := range kinds {
			if k.kind == p.Kind {
				places = append(places, Place{File: filepath.Join(home, ".config", "user-dirs.dirs"), Format: UserDirs, At: "/" + k.key, Key: k.key})
			}
		}
		kind, ok = p.Kind, true
	}
	if !ok {
		return "", nil, false, nil
	}
	for _, gtk := range []string{"gtk-3.0", "gtk-4.0"} {
		places = append(places, Place{File: filepath.Join(home, ".config", gtk, "bookmarks"), Format: Bookmarks, At: "/*", Optional: true})
	}
	return kind, places, true, nil
}

// Kinds lists the kinds of profile folder that the system keeps a location
// setting for.
func Kinds() []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.kind)
	}
	return out
}
