package macos

import (
	"errors"
	"syscall"
)

// ErrTooLarge reports an attribute that is larger than anybody keeps in memory.
var ErrTooLarge = errors.New("the attribute is too large")

// Largest is the largest attribute that [ReadWhole] reads, in bytes: resource forks are
// attributes here.
const Largest = 256 << 20

// ReadWhole reads an attribute to its end. read is getxattr(2): with no buffer it answers the
// length, otherwise it fills the buffer from a place on and answers how much that was. A
// resource fork is read in parts: a buffer that is too small is filled, and that is no error.
// Any other attribute that has grown since its length was asked is asked anew (ERANGE).
func ReadWhole(read func(buf []byte, from uint32) (int, error)) ([]byte, error) {
	for {
		size, err := read(nil, 0)
		if err == nil && size > Largest {
			err = ErrTooLarge
		}
		if err != nil {
			return nil, err
		}
		out, at := make([]byte, size), 0
		for at < len(out) && err == nil {
			var n int
			n, err = read(out[at:], uint32(at))
			if at += max(n, 0); n == 0 {
				break // it has become shorter
			}
		}
		if err == syscall.ERANGE {
			continue
		}
		if err != nil {
			return nil, err
		}
		return out[:at], nil
	}
}
