package inuse

import (
	"bufio"
	"os"
	"slices"
	"strings"
)

// Listening gives the sockets below a directory at which a program is bound,
// by what proc(5) says of Unix sockets. Those bound by a relative path, or in
// another network namespace, are not seen; nil may mean that.
func Listening(dir string) []string {
	f, err := os.Open("/proc/net/unix")
	if err != nil {
		return nil
	}
	defer f.Close()
	return listening(bufio.NewScanner(f), dir)
}

// listening reads the table: eight columns, the path last.
func listening(table *bufio.Scanner, dir string) []string {
	var out []string
	for table.Scan() {
		rest := table.Text()
		for range 7 {
			_, rest, _ = strings.Cut(strings.TrimLeft(rest, " "), " ")
		}
		if strings.HasPrefix(rest, dir+"/") {
			out = append(out, rest)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
