//go:build !windows

package preflight

import (
	"path/filepath"
	"runtime"

	"nexlin/internal/handle"
)

// SyncRoots are those of the providers that the system itself keeps: only macOS has such a place.
func SyncRoots(home string) []SyncRoot {
	if runtime.GOOS != "darwin" || home == "" {
		return nil
	}
	return cloudStorage(home)
}

// cloudStorage are the folders of a home in which macOS keeps what providers have in step, each called
// by its provider and account.
func cloudStorage(home string) (out []SyncRoot) {
	d, err := handle.OpenReal(filepath.Join(home, "Library", "CloudStorage"))
	if err != nil {
		return nil // what is not there says nothing
	}
	defer d.Release()
	_ = d.EachName(func(name string) error { // as far as it can be read
		if st, err := d.Stat(name); err == nil && st.IsDir() {
			out = append(out, SyncRoot{Provider: name, Path: d.Join(name)})
		}
		return nil
	})
	return out
}
