package card

import (
	"path/filepath"
	"strings"

	"nexlin/internal/setting"
)

// variableNames are the directories of the platform that a card may name.
var variableNames = []string{"home", "config", "data", "cache", "state", "documents", "pictures", "music", "videos",
	"downloads", "desktop"}

// Variables gives the directories for an account on Linux by the XDG Base
// Directory Specification, with its defaults, and by its user directories.
func Variables(home string) (map[string]string, error) {
	v := map[string]string{
		"home": home, "config": filepath.Join(home, ".config"), "data": filepath.Join(home, ".local", "share"),
		"cache": filepath.Join(home, ".cache"), "state": filepath.Join(home, ".local", "state"),
	}
	profiles, err := setting.Profiles(home)
	if err != nil {
		return nil, err
	}
	for _, p := range profiles {
		v[p.Kind] = p.Path
	}
	for _, kind := range []string{"documents", "pictures", "music", "videos", "downloads", "desktop"} {
		if v[kind] == "" { // switched off: the home itself
			v[kind] = home
		}
	}
	return v, nil
}

// On gives where the folder lies on a system, as Go names it; empty if the
// card does not say.
func (f *Folder) On(goos string) string {
	return map[string]string{"linux": f.Linux, "darwin": f.MacOS, "windows": f.Windows}[goos]
}

// Expand puts the values of variables into a text of a card.
func Expand(text string, vars map[string]string) string {
	var pairs []string
	for k, v := range vars {
		pairs = append(pairs, "{"+k+"}", v)
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// Args puts values into the arguments of a command. Each stays one argument,
// whatever the value holds: there is no shell.
func (c Command) Args(vars map[string]string) []string {
	var out []string
	for _, a := range c.Run {
		out = append(out, Expand(a, vars))
	}
	return out
}

// Places gives the settings that name one folder of the card.
func (c *Card) Places(folder string, vars map[string]string) []setting.Place {
	var out []setting.Place
	for _, s := range c.Settings {
		if s.Folder == folder || s.Folder == "" && len(c.Folders) == 1 {
			out = append(out, setting.Place{File: Expand(s.File, vars), Format: s.Format, At: s.At,
				Optional: s.Optional})
		}
	}
	return out
}
