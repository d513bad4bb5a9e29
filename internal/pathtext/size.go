package pathtext

import "github.com/dustin/go-humanize"

// Size writes a number of bytes as people read it, in units of 1024 (IEC 80000-13).
// What is less than nothing is nothing.
func Size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// Count writes a number as people read it.
func Count(n int64) string { return humanize.Comma(n) }

// Plural writes a number with its noun.
func Plural[N int | int64](n N, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(int64(n)) + " " + many
}

// Files writes a number of files.
func Files[N int | int64](n N) string { return Plural(n, "file", "files") }

// Entries writes a number of entries.
func Entries[N int | int64](n N) string { return Plural(n, "entry", "entries") }
