package setting

import (
	"errors"
	"io/fs"
	"path/filepath"

	"nexlin/internal/handle"
)

func profiles(home string) ([]Profile, error) {
	data, err := handle.ReadRegular(filepath.Join(home, ".config", "user-dirs.dirs"), Limit)
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	return userDirectories(home, data)
}

// places are its line in user-dirs.dirs, and the bookmarks of file managers.
func placesOf(home, kind string) (out []Place) {
	for _, k := range kinds {
		if k.kind == kind {
			out = append(out, Place{File: filepath.Join(home, ".config", "user-dirs.dirs"), Format: UserDirs,
				At: "/" + k.key, Key: k.key})
		}
	}
	for _, gtk := range []string{"gtk-3.0", "gtk-4.0"} {
		out = append(out, Place{File: filepath.Join(home, ".config", gtk, "bookmarks"), Format: Bookmarks, At: "/*",
			Optional: true})
	}
	return out
}

func kindsHere() (out []string) {
	for _, k := range kinds {
		out = append(out, k.kind)
	}
	return out
}
