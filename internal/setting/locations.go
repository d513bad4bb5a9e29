package setting

import (
	"errors"
	"path/filepath"
	"strings"
)

// Locations are the location settings of an account, whichever system keeps
// them: on Linux user-dirs.dirs, on Windows the values for known folders.
type Locations interface {
	// Profiles lists the profile folders that have a setting.
	Profiles() ([]Profile, error)
	// Text gives a setting as it is written; set is false where there is none
	// and the system's default holds.
	Text(kind string) (text string, set bool, err error)
	// Lead gives the text that leads to a path, as the system writes it.
	Lead(path string) (text string, err error)
}

// ErrNoKind reports a kind of profile folder that the system has no setting
// for.
var ErrNoKind = errors.New("the system keeps no location setting for this kind of folder")

// UserDirectories are the settings of xdg-user-dirs for one home.
type UserDirectories struct {
	Home string
	Data []byte // of user-dirs.dirs; may be empty
}

// Profiles implements [Locations].
func (u UserDirectories) Profiles() ([]Profile, error) {
	vs, err := Paths(UserDirs, u.Data, "/*", u.Home)
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
			path = filepath.Join(u.Home, k.fallback)
		}
		if path != filepath.Clean(u.Home) {
			out = append(out, Profile{k.kind, path})
		}
	}
	return out, nil
}

// Text implements [Locations].
func (u UserDirectories) Text(kind string) (string, bool, error) {
	for _, k := range kinds {
		if k.kind != kind {
			continue
		}
		vs, err := Values(UserDirs, u.Data, "/"+k.key)
		if err != nil || len(vs) == 0 {
			return "", false, err
		}
		return vs[len(vs)-1].Raw, true, nil
	}
	return "", false, ErrNoKind
}

// Lead implements [Locations].
func (u UserDirectories) Lead(path string) (string, error) { return writeDouble(path) }

// knownFolders are the values of `User Shell Folders` that say where an
// account's known folders lie, with our words and the places that hold where
// there is no value.
var knownFolders = []struct{ value, kind, fallback string }{
	{"Desktop", "desktop", "Desktop"},
	{"Personal", "documents", "Documents"},
	{"{374DE290-123F-4565-9164-39C4925E467B}", "downloads", "Downloads"},
	{"My Music", "music", "Music"},
	{"My Pictures", "pictures", "Pictures"},
	{"My Video", "videos", "Videos"},
	{"Favorites", "favorites", "Favorites"},
	{"{56784854-C6CB-462B-8169-88E350ACB882}", "contacts", "Contacts"},
	{"{BFB9D5E0-C6A9-404C-B2B2-AE6DB6AF4968}", "links", "Links"},
	{"{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}", "saved-games", "Saved Games"},
	{"{7D1D3A04-DEBB-4115-95CF-2F29DA2920DA}", "searches", "Searches"},
}

// RegistryValues are the values of one key of a registry, by name.
type RegistryValues interface {
	// Get gives an expandable text as it is stored; ok is false if there is none.
	Get(name string) (text string, ok bool, err error)
	Set(name, text string) error
	Delete(name string) error
}

// KnownFolders are the location settings of an account on Windows: per-user
// values with variables such as %USERPROFILE% in them.
type KnownFolders struct {
	Values RegistryValues
	Env    map[string]string // the variables, by upper-case name
}

// Profiles implements [Locations].
func (k KnownFolders) Profiles() ([]Profile, error) {
	var out []Profile
	for _, f := range knownFolders {
		text, ok, err := k.Values.Get(f.value)
		if err != nil {
			return nil, err
		}
		if !ok {
			text = `%USERPROFILE%\` + f.fallback
		}
		if path := k.expand(text); path != "" {
			out = append(out, Profile{f.kind, path})
		}
	}
	return out, nil
}

// expand puts the values of variables in; empty if one is not known.
func (k KnownFolders) expand(text string) string {
	var out strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "%")
		out.WriteString(before)
		if !ok {
			return strings.TrimRight(out.String(), `\`)
		}
		name, after, closed := strings.Cut(rest, "%")
		value, known := k.Env[strings.ToUpper(name)]
		if !closed || !known {
			return ""
		}
		out.WriteString(value)
		text = after
	}
}

func knownValue(kind string) (string, error) {
	for _, f := range knownFolders {
		if f.kind == kind {
			return f.value, nil
		}
	}
	return "", ErrNoKind
}

// Text implements [Locations].
func (k KnownFolders) Text(kind string) (string, bool, error) {
	name, err := knownValue(kind)
	if err != nil {
		return "", false, err
	}
	return k.Values.Get(name)
}

// Lead implements [Locations]. A % in a path would be taken for a variable.
func (k KnownFolders) Lead(path string) (string, error) {
	if strings.ContainsAny(path, "%\x00\r\n") {
		return "", errLine
	}
	return path, nil
}

// Change has the setting of a kind say text; it is read back. set false takes
// the value away, so that the system's default holds again.
func (k KnownFolders) Change(kind, text string, set bool) error {
	name, err := knownValue(kind)
	if err != nil {
		return err
	}
	if !set {
		return k.Values.Delete(name)
	}
	if err := k.Values.Set(name, text); err != nil {
		return err
	}
	if got, ok, err := k.Values.Get(name); err != nil || !ok || got != text {
		return errors.Join(err, ErrWitness)
	}
	return nil
}

var (
	_ Locations = UserDirectories{}
	_ Locations = KnownFolders{}
)
