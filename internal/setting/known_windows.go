package setting

import (
	"errors"
	"os"
	"strings"

	"golang.org/x/sys/windows/registry"
)

// shellFolders is where Windows keeps the locations of an account's known
// folders.
const shellFolders = `Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`

// OpenKnownFolders opens the settings of the account that runs this. The
// caller closes the key.
func OpenKnownFolders() (KnownFolders, registry.Key, error) {
	key, err := registry.OpenKey(registry.CURRENT_USER, shellFolders, registry.QUERY_VALUE|registry.SET_VALUE)
	env := map[string]string{}
	for _, v := range os.Environ() {
		if name, value, ok := strings.Cut(v, "="); ok && name != "" {
			env[strings.ToUpper(name)] = value
		}
	}
	return KnownFolders{registryKey{key}, env}, key, err
}

type registryKey struct{ key registry.Key }

func (r registryKey) Get(name string) (string, bool, error) {
	text, _, err := r.key.GetStringValue(name)
	if errors.Is(err, registry.ErrNotExist) {
		return "", false, nil
	}
	return text, err == nil, err
}

func (r registryKey) Set(name, text string) error { return r.key.SetExpandStringValue(name, text) }

func (r registryKey) Delete(name string) error {
	err := r.key.DeleteValue(name)
	if errors.Is(err, registry.ErrNotExist) {
		return nil
	}
	return err
}
