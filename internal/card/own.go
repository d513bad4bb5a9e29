package card

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

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
	return administrators(paths...)
}

// administrators wants each path to be one that nobody but an administrator could have written.
func administrators(paths ...string) error {
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

// Once reads a card that was given as a file, for one command. As an administrator Nexlin goes by none
// that others could have written.
func Once(file string) (*Card, error) {
	if os.Geteuid() == 0 {
		if err := administrators(file, filepath.Dir(file)); err != nil {
			return nil, err
		}
	}
	return Read(file)
}

// With is cards with one more, which takes the place of one of its name.
func With(cards []Card, c Card) []Card {
	others := slices.DeleteFunc(slices.Clone(cards), func(o Card) bool { return o.Name == c.Name })
	return append(others, c)
}
