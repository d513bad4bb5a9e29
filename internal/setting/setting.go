// Package setting reads the location settings that the operating system
// keeps for profile folders: on Linux the XDG user directories.
//
// It does not change them, and knows no application's settings file.
package setting

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
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
	set, err := userDirs(filepath.Join(home, ".config", "user-dirs.dirs"), home)
	if err != nil {
		return nil, err
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

// userDirs reads lines of the form XDG_x_DIR="$HOME/…" or an absolute path.
func userDirs(file, home string) (map[string]string, error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := map[string]string{}
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		key, value, ok := strings.Cut(strings.TrimSpace(lines.Text()), "=")
		if !ok || strings.HasPrefix(key, "#") {
			continue
		}
		value = strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(value), `"`), `"`)
		value = strings.NewReplacer(`\"`, `"`, `\\`, `\`, `\$`, `$`, "\\`", "`").Replace(value)
		if rest, ok := strings.CutPrefix(value, "$HOME"); ok && (rest == "" || rest[0] == '/') {
			value = home + rest
		}
		if filepath.IsAbs(value) {
			out[strings.TrimSpace(key)] = filepath.Clean(value)
		}
	}
	return out, lines.Err()
}
