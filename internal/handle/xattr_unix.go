//go:build unix

package handle

import "golang.org/x/sys/unix"

// sized makes a call with a growing buffer until the answer fits.
func sized(name string, f func([]byte) (int, error)) ([]byte, error) {
	size := 256
	for {
		buf := make([]byte, size)
		n, err := callFor(name, func() (int, error) { return f(buf) })
		if err == unix.ERANGE && size < 1<<20 {
			size *= 8
			continue
		}
		if err != nil {
			return nil, err
		}
		return buf[:n], nil
	}
}
