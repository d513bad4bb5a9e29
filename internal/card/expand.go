package card

import (
	"cmp"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/setting"
)

// variableNames are the directories of the platform that a card may name.
var variableNames = []string{"home", "config", "data", "cache", "state", "documents", "pictures", "music", "videos",
	"downloads", "desktop"}

// directories are where an account has its programs' files, below its home: by the XDG Base
// Directory Specification with its defaults, and where macOS and Windows have them.
var directories = map[string]map[string]string{
	"linux": {"config": ".config", "data": ".local/share", "cache": ".cache", "state": ".local/state"},
	"darwin": {"config": "Library/Application Support", "data": "Library/Application Support",
		"cache": "Library/Caches", "state": "Library/Application Support"},
	"windows": {"config": "AppData/Roaming", "data": "AppData/Local", "cache": "AppData/Local",
		"state": "AppData/Local"},
}

// Variables gives the directories for an account on this system, and its profile folders.
func Variables(home string) (map[string]string, error) {
	v := map[string]string{"home": home}
	for name, below := range directories[runtime.GOOS] {
		v[name] = filepath.Join(home, filepath.FromSlash(below))
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
	return on(goos, f.Linux, f.MacOS, f.Windows)
}

// On gives the place on a system; empty if there is none there.
func (s *Stay) On(goos string) string {
	return cmp.Or(on(goos, s.Linux, s.MacOS, s.Windows), s.Path)
}

// on is the one of three paths that is for a system; empty for any other.
func on(goos, linux, macos, windows string) string {
	return map[string]string{"linux": linux, "darwin": macos, "windows": windows}[goos]
}

// Says reports whether the card is about anything on a system.
func (c *Card) Says(goos string) bool {
	return c.Handover != nil || slices.ContainsFunc(c.Folders, func(f Folder) bool { return f.On(goos) != "" }) ||
		slices.ContainsFunc(c.Stays, func(s Stay) bool { return s.On(goos) != "" })
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
			for _, file := range s.files(vars) {
				out = append(out, setting.Place{File: file, Format: s.Format, At: s.At, Optional: s.Optional})
			}
		}
	}
	return out
}

// literally keeps the values of variables from being patterns.
var literally = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`)

// files gives the files that the setting stands in: a * in the name is any part of a name. Where there is
// none yet it is the name as it is written, so that it is told as missing.
func (s *Setting) files(vars map[string]string) []string {
	plain := Expand(s.File, vars)
	if !strings.Contains(s.File, "*") {
		return []string{plain}
	}
	quoted := map[string]string{}
	for k, v := range vars {
		if quoted[k] = v; runtime.GOOS != "windows" { // where a backslash quotes nothing
			quoted[k] = literally.Replace(v)
		}
	}
	found, err := filepath.Glob(Expand(s.File, quoted))
	if err != nil || len(found) == 0 {
		return []string{plain}
	}
	return found
}
