package handle

import "strings"

// Compare orders relative paths in the one order, depth first: by component, each in
// byte order, a directory before what it holds. "." comes first.
func Compare(a, b string) int {
	if a == b {
		return 0
	}
	if a == "." {
		return -1
	}
	if b == "." {
		return 1
	}
	n := min(len(a), len(b))
	for i := range n {
		x, y := a[i], b[i]
		if x == y {
			continue
		}
		// A component's end sorts before any byte that a longer one goes on with.
		if x == '/' {
			return -1
		}
		if y == '/' {
			return 1
		}
		if x < y {
			return -1
		}
		return 1
	}
	if len(a) < len(b) {
		return -1
	}
	return 1
}

// Within reports whether path is dir or lies below it, both relative and
// in the form that Compare takes.
func Within(path, dir string) bool {
	return dir == "." || path == dir || strings.HasPrefix(path, dir+"/")
}
