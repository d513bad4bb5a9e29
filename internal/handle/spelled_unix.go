//go:build unix

package handle

import (
	"errors"
	"path/filepath"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// sysSpelled looks at one name after the other. A directory is only listed if it has
// an entry for another spelling of a name, too; inode numbers would not tell behind FUSE whether it is the same.
func sysSpelled(path string) string {
	root := filepath.VolumeName(path) + string(filepath.Separator)
	at, rest := root, strings.Trim(path, string(filepath.Separator))
	for rest != "" {
		name, more, _ := strings.Cut(rest, string(filepath.Separator))
		if _, err := Lstat(filepath.Join(at, name)); err != nil {
			return filepath.Join(at, rest)
		}
		at, rest = filepath.Join(at, spelledIn(at, name)), more
	}
	return at
}

// errExact ends a search: a name is written as it was typed.
var errExact = errors.New("exact")

// spelledIn is the name that the directory at a path has for an entry that was found there by name.
func spelledIn(at, name string) string {
	if mountsOnDemand(at) {
		return name // asking for another name there would look for another server
	}
	if _, err := Lstat(filepath.Join(at, otherSpelling(name))); err != nil {
		return name
	}
	dir, err := Open(at)
	if err != nil {
		return name // passed through only: as it was typed
	}
	defer dir.Release()
	found := name
	err = dir.EachName(func(n string) error {
		switch {
		case n == name:
			return errExact
		case strings.EqualFold(norm.NFC.String(n), norm.NFC.String(name)):
			found = n
		}
		return nil
	})
	if err != nil {
		return name
	}
	return found
}

// otherSpelling is a name that some file systems take for the same: composed otherwise, if it can be,
// else in the other case.
func otherSpelling(name string) string {
	for _, form := range []norm.Form{norm.NFC, norm.NFD} {
		if other := form.String(name); other != name {
			return other
		}
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsUpper(r) {
			return unicode.ToLower(r)
		}
		return unicode.ToUpper(r)
	}, name)
}
