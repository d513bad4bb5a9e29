package setting

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// knownFolders are the values of `User Shell Folders` that say where an
// account's known folders lie on Windows, with our words, the places that
// hold where there is no value, and the identifiers by which the shell knows
// the folder: its own, and that of its twin on this machine alone, which programs
// may ask for as well.
var knownFolders = []struct {
	value, kind, fallback string
	ids                   []string
}{
	{"Desktop", "desktop", "Desktop",
		[]string{"{B4BFCC3A-DB2C-424C-B029-7FE99A87C641}", "{754AC886-DF64-4CBA-86B5-F7FBF4FBCEF5}"}},
	{"Personal", "documents", "Documents",
		[]string{"{FDD39AD0-238F-46AF-ADB4-6C85480369C7}", "{F42EE2D3-909F-4907-8871-4C22FC0BF756}"}},
	{"{374DE290-123F-4565-9164-39C4925E467B}", "downloads", "Downloads",
		[]string{"{374DE290-123F-4565-9164-39C4925E467B}", "{7D83EE9B-2244-4E70-B1F5-5393042AF1E4}"}},
	{"My Music", "music", "Music",
		[]string{"{4BD8D571-6D19-48D3-BE97-422220080E43}", "{A0C69A99-21C8-4671-8703-7934162FCF1D}"}},
	{"My Pictures", "pictures", "Pictures",
		[]string{"{33E28130-4E1E-4676-835A-98395C3BC3BB}", "{0DDD015D-B06C-45D5-8C4C-F59713854639}"}},
	{"My Video", "videos", "Videos",
		[]string{"{18989B1D-99B5-455B-841C-AB7C74E4DDFC}", "{35286A68-3C57-41A1-BBB1-0EAE73D76C95}"}},
	{"Favorites", "favorites", "Favorites", []string{"{1777F761-68AD-4D8A-87BD-30B759FA33DD}"}},
	{"{56784854-C6CB-462B-8169-88E350ACB882}", "contacts", "Contacts",
		[]string{"{56784854-C6CB-462B-8169-88E350ACB882}"}},
	{"{BFB9D5E0-C6A9-404C-B2B2-AE6DB6AF4968}", "links", "Links",
		[]string{"{BFB9D5E0-C6A9-404C-B2B2-AE6DB6AF4968}"}},
	{"{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}", "saved-games", "Saved Games",
		[]string{"{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}"}},
	{"{7D1D3A04-DEBB-4115-95CF-2F29DA2920DA}", "searches", "Searches",
		[]string{"{7D1D3A04-DEBB-4115-95CF-2F29DA2920DA}"}},
}

// shellKnows gives the identifiers by which the shell knows the folder of a value, its own
// first, and the text that holds where there is no value; none for another value.
func shellKnows(value string) (ids []string, fallback string) {
	for _, f := range knownFolders {
		if f.value == value {
			return f.ids, userProfile + `\` + f.fallback
		}
	}
	return nil, ""
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
