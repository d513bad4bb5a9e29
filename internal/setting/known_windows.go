package setting

import (
	"errors"
	"fmt"

	"golang.org/x/sys/windows/registry"
)

// shellFolders is where Windows keeps the locations of an account's known
// folders.
const shellFolders = `Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`

// knownFile is how the key is written for people, as the file that holds the
// values.
const knownFile = `HKEY_CURRENT_USER\` + shellFolders

func openKnown() (registry.Key, error) {
	key, _, err := registry.CreateKey(registry.CURRENT_USER, shellFolders, registry.QUERY_VALUE|registry.SET_VALUE)
	if err != nil {
		err = fmt.Errorf("%s: %w", knownFile, err)
	}
	return key, err
}

// profiles lists the folders of the account that runs this; others' settings
// are not loaded while they are not logged in.
func profiles(home string) ([]Profile, error) {
	key, err := openKnown()
	if err != nil {
		return nil, err
	}
	defer key.Close()
	return knownProfiles(registryKey{key}, home)
}

func placesOf(_, kind string) (out []Place) {
	for _, f := range knownFolders {
		if f.kind == kind {
			out = append(out, Place{File: knownFile, Format: KnownFolder, At: "/" + escape(f.value), Key: f.value})
		}
	}
	return out
}

func kindsHere() (out []string) {
	for _, f := range knownFolders {
		out = append(out, f.kind)
	}
	return out
}

// ReadKnown reads the value of that name. What the file then does goes through
// a key of its own.
func ReadKnown(name string) (*File, error) { return readValue(registryKey{}, name) }

// registryKey is a key that is open, or, as the zero value, one that is opened
// for each call.
type registryKey struct{ key registry.Key }

func (r registryKey) with(do func(registry.Key) error) error {
	if r.key != 0 {
		return do(r.key)
	}
	key, err := openKnown()
	if err != nil {
		return err
	}
	defer key.Close()
	return do(key)
}

func (r registryKey) Get(name string) (text string, ok bool, err error) {
	err = r.with(func(k registry.Key) error {
		text, _, err = k.GetStringValue(name)
		if ok = err == nil; errors.Is(err, registry.ErrNotExist) {
			return nil
		}
		return err
	})
	return text, ok, err
}

func (r registryKey) Set(name, text string) error {
	return r.with(func(k registry.Key) error { return k.SetExpandStringValue(name, text) })
}

func (r registryKey) Delete(name string) error {
	return r.with(func(k registry.Key) error {
		if err := k.DeleteValue(name); !errors.Is(err, registry.ErrNotExist) {
			return err
		}
		return nil
	})
}
