package redirect

import (
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"
)

// maxName is the longest name that common file systems take, in bytes.
const maxName = 255

// heldName is what a folder is called while it is held.
func heldName(base, id string) string { return shorten("."+base, ".held-"+id) }

func partName(id string) string      { return ".nexlin-part-" + id }
func strangersName(id string) string { return ".nexlin-aside-" + id }
func scratchName(id string) string   { return ".nexlin-new-" + id }
func lateName(id string) string      { return ".nexlin-late-" + id }
func tempName(id string) string      { return ".nexlin-link-" + id }

// shorten keeps stem and suffix together within maxName without cutting a
// character in two.
func shorten(stem, suffix string) string {
	room := maxName - len(suffix)
	if len(stem) > room {
		stem = stem[:room]
		for len(stem) > 0 && !utf8.RuneStart(stem[len(stem)-1]) {
			stem = stem[:len(stem)-1]
		}
		if r, n := utf8.DecodeLastRuneInString(stem); r == utf8.RuneError && n == 1 && len(stem) > 1 {
			stem = stem[:len(stem)-1]
		}
	}
	return stem + suffix
}

// ValidName reports whether a redirect may be called so: letters, digits and
// -_. in it, so that it is one word in every shell and one file on every
// drive.
func ValidName(s string) bool {
	if s == "" || len(s) > 60 || s[0] == '.' || s[0] == '-' {
		return false
	}
	return strings.IndexFunc(s, func(r rune) bool {
		return !(unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_.", r))
	}) < 0
}

// defaultName makes a name out of the folder's: lower case, one word.
func defaultName(base string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(base) {
		switch {
		case r == utf8.RuneError:
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	s := strings.Trim(b.String(), "-")
	for len(s) > 40 {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	if s == "" {
		return "folder"
	}
	return s
}

// Near reports whether two names are alike enough to suggest one for the
// other: one inside the other, or two edits apart at most.
func Near(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	if a == "" || b == "" {
		return false
	}
	return strings.Contains(a, b) || strings.Contains(b, a) || distance(a, b) <= 2
}

// distance is the edit distance of two short names.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost = 1 + min(last, row[j], row[j+1])
			}
			last, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

func absolute(path, cwd string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(cwd, path)
}
