//go:build !linux

package handle

import (
	"iter"
	"slices"
)

// statListed looks at an entry by a name that [Dir.eachBlock] gave.
func statListed(fd descriptor, name []byte, out *Stat) error {
	return statAt(fd, string(name), out)
}

// eachBlock reads d from its start and gives the names in blocks, each valid
// during the call. The first error of f ends it.
func (d *Dir) eachBlock(f func(names iter.Seq[[]byte]) error) error {
	var failed error
	err := call("getdents", func() error {
		return sysList(d.fd, func(names [][]byte) bool {
			failed = f(slices.Values(names))
			return failed == nil
		})
	})
	if failed != nil {
		return failed
	}
	return d.err("read", ".", err)
}
