package pathtext

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// folds says that this system takes paths which differ in case alone for one.
const folds = runtime.GOOS == "windows"

// Below gives the way from the directory dir down to path, both absolute and
// clean, "." if they are one; ok is false if path does not lie in dir.
func Below(path, dir string) (rel string, ok bool) {
	dir = strings.TrimSuffix(dir, string(filepath.Separator))
	if len(path) < len(dir) || path[:len(dir)] != dir && !(folds && strings.EqualFold(path[:len(dir)], dir)) {
		return "", false
	}
	rest := path[len(dir):]
	if rest == "" {
		return ".", true
	}
	if !os.IsPathSeparator(rest[0]) {
		return "", false
	}
	if rest = rest[1:]; rest == "" {
		rest = "."
	}
	return rest, true
}

// Within reports whether path is dir or lies below it, both absolute and clean.
func Within(path, dir string) bool {
	_, ok := Below(path, dir)
	return ok
}

// IsRoot reports the root of all paths, or of a drive's.
func IsRoot(path string) bool {
	return path == filepath.VolumeName(path)+string(filepath.Separator)
}

// Equal reports whether two absolute, clean paths are one.
func Equal(a, b string) bool { return a == b || folds && strings.EqualFold(a, b) }

// IsName reports whether a text is one name of an entry, and no path: neither empty, . or .., nor with a
// separator of this system or a NUL in it.
func IsName(name string) bool {
	return name != "" && name != "." && name != ".." &&
		strings.IndexFunc(name, func(r rune) bool { return r == 0 || r < 0x80 && os.IsPathSeparator(uint8(r)) }) < 0
}
