package card

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// OwnOnly wants a directory with commands in it to be an administrator's own.
func OwnOnly(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	paths := []string{dir}
	for _, e := range entries {
		paths = append(paths, filepath.Join(dir, e.Name()))
	}
	for _, p := range paths {
		fi, err := os.Stat(p)
		if err != nil {
			return err
		}
		if uid, ok := handle.OwnerOf(fi); !ok || uid != 0 || fi.Mode().Perm()&0o022 != 0 {
			return fmt.Errorf("%s can be written by another account, and cards name commands", pathtext.Show(p))
		}
	}
	return nil
}
