package pathtext

import "github.com/dustin/go-humanize"

// Size writes a number of bytes as people read it, in units of 1024 (IEC 80000-13).
// What is less than nothing is nothing.
func Size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
