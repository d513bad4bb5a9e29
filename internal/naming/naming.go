// Package naming gives names: to redirects, to what a run makes, and to what it holds.
package naming

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// RecordDir is the directory of records on a drive.
const RecordDir = ".nexlin"

// Max is the longest name that common file systems take, in bytes.
const Max = 255

// Held is what a folder is called while it is held.
func Held(base, id string) string { return Shorten("."+base, ".held-"+id) }

// Part is what a copy is called while it is made.
func Part(id string) string { return ".nexlin-part-" + id }

// Strangers is what somebody else's entries in a part are set aside as.
func Strangers(id string) string { return ".nexlin-aside-" + id }

// Scratch is a file or a private directory that a run is writing.
func Scratch(id string) string { return ".nexlin-new-" + id }

// Late is a file that was written late, while it is brought over.
func Late(id string) string { return ".nexlin-late-" + id }

// TempLink is a link before it gets its name.
func TempLink(id string) string { return ".nexlin-link-" + id }

// Shorten keeps stem and suffix together within [Max] without cutting a
// character in two.
func Shorten(stem, suffix string) string {
	room := Max - len(suffix)
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

// Valid reports whether a redirect may be called so: letters, digits and
// -_. in it, so that it is one word in every shell and one file on every
// drive.
func Valid(s string) bool {
	if s == "" || len(s) > 60 || s[0] == '.' || s[0] == '-' {
		return false
	}
	return strings.IndexFunc(s, func(r rune) bool {
		return !(unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_.", r))
	}) < 0
}

// Default makes a name out of the folder's: lower case, one word.
func Default(base string) string {
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

// HeldLike is what a held original is called, also one that another ledger
// knows.
var HeldLike = regexp.MustCompile(`^\..*\.held-[0-9]{8}-[a-z2-7]{5}(\.archive)?$`)

// IsOwn reports a name of Nexlin's own records, parts and trials, or of what it
// holds.
func IsOwn(name string) bool {
	return name == RecordDir || strings.HasPrefix(name, RecordDir+"-") || HeldLike.MatchString(name)
}
