//go:build unix

package handle

import (
	"slices"
	"sync"

	"golang.org/x/sys/unix"
)

// answers are buffers for what most answers fit in: most entries have no attributes.
var answers = sync.Pool{New: func() any { b := make([]byte, 256); return &b }}

// sized makes a call with a growing buffer until the answer fits.
func sized(name string, f func([]byte) (int, error)) ([]byte, error) {
	first := answers.Get().(*[]byte)
	defer answers.Put(first)
	for buf := *first; ; buf = make([]byte, 8*len(buf)) {
		n, err := callFor(name, func() (int, error) { return f(buf) })
		if err == unix.ERANGE && len(buf) < 1<<20 {
			continue
		}
		if err != nil {
			return nil, err
		}
		return slices.Clone(buf[:n]), nil
	}
}
