package setting

import (
	"path/filepath"
	"strings"
)

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

// userDirectories lists the profile folders by user-dirs.dirs. A kind that is
// set to the home itself is switched off, and left out.
func userDirectories(home string, data []byte) ([]Profile, error) {
	vs, err := Paths(UserDirs, data, "/*", home)
	if err != nil {
		return nil, err
	}
	set := map[string]string{}
	for _, v := range vs {
		set[strings.TrimPrefix(v.At, "/")] = v.Text
	}
	var out []Profile
	for _, k := range kinds {
		path, ok := set[k.key]
		if !ok {
			path = filepath.Join(home, k.fallback)
		}
		if path != filepath.Clean(home) {
			out = append(out, Profile{k.kind, path})
		}
	}
	return out, nil
}
