//go:build !linux

package handle

import "iter"

// statListed looks at an entry by a name that [Dir.eachBlock] gave.
func statListed(fd descriptor, name []byte, out *Stat) error {
	return statAt(fd, string(name), out)
}

// eachBlock reads d from its start and gives the names in blocks, each valid
// during the call; which are directories is not told. The first error of f ends it.
func (d *Dir) eachBlock(f func(names iter.Seq2[[]byte, bool]) error) error {
	var failed error
	err := call("getdents", func() error {
		return sysList(d.fd, func(names [][]byte) bool {
			failed = f(func(yield func([]byte, bool) bool) {
				for _, name := range names {
					if !yield(name, true) {
						return
					}
				}
			})
			return failed == nil
		})
	})
	if failed != nil {
		return failed
	}
	return d.err("read", ".", err)
}
