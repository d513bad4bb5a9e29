package setting

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// knownFolders are the values of `User Shell Folders` that say where an
// account's known folders lie on Windows, with our words and the places that
// hold where there is no value.
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

// knownProfiles lists the profile folders that the values of a key name; a
// value with a variable that is not the home's is passed over.
func knownProfiles(values RegistryValues, home string) ([]Profile, error) {
	var out []Profile
	for _, f := range knownFolders {
		text, ok, err := values.Get(f.value)
		if err != nil {
			return nil, err
		}
		if !ok {
			text = userProfile + `\` + f.fallback
		}
		if path := expandKnown(text, home); path != "" {
			out = append(out, Profile{f.kind, path})
		}
	}
	return out, nil
}

// userProfile stands for the home in a value.
const userProfile = `%USERPROFILE%`

// expandKnown is the path that a value names; empty if it names none.
func expandKnown(text, home string) string {
	if len(text) >= len(userProfile) && strings.EqualFold(text[:len(userProfile)], userProfile) {
		text = home + text[len(userProfile):]
	}
	if strings.Contains(text, "%") {
		return ""
	}
	return strings.TrimRight(text, `\`)
}

// readValue gives a value of the registry as a settings file of one line,
// NAME=text: so a run changes it, checks it and gives it back as it does with
// any other.
func readValue(values RegistryValues, name string) (*File, error) {
	text, ok, err := values.Get(name)
	if err != nil {
		return nil, err
	}
	f := &File{values: values, name: name, Exists: ok}
	if ok {
		f.Data = []byte(name + "=" + text)
	}
	return f, nil
}

// write sets the value, and reads it back.
func (f *File) writeValue(data []byte) error {
	if err := f.unchangedValue(); err != nil {
		return err
	}
	text, ok := strings.CutPrefix(string(data), f.name+"=")
	if !ok {
		return fmt.Errorf("%q is not a value of %s: %w", data, f.name, ErrWitness)
	}
	if err := f.values.Set(f.name, text); err != nil {
		return &fs.PathError{Op: "set", Path: f.name, Err: err}
	}
	if got, ok, err := f.values.Get(f.name); err != nil || !ok || got != text {
		return errors.Join(err, ErrWitness)
	}
	return nil
}

func (f *File) unchangedValue() error {
	text, ok, err := f.values.Get(f.name)
	if err == nil && (ok != f.Exists || ok && f.name+"="+text != string(f.Data)) {
		err = ErrRewritten
	}
	return err
}

// parseKnownFolder reads the one line that [readValue] makes.
func parseKnownFolder(data []byte) (*node, error) {
	root := &node{kind: object}
	if len(data) == 0 {
		return root, nil
	}
	name, text, ok := strings.Cut(string(data), "=")
	if !ok {
		return nil, errLine
	}
	root.children = []*node{{key: name, start: len(name) + 1, end: len(data), item: [2]int{0, len(data)}, text: text,
		plain: true, write: writeKnown}}
	return root, nil
}

// writeKnown: a % in a path would be taken for a variable.
func writeKnown(path string) (string, error) {
	if strings.ContainsAny(path, "%\x00\r\n") {
		return "", errLine
	}
	return path, nil
}
