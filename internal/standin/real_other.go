//go:build !linux

package standin

import "errors"

// BuildReal needs the loop devices of Linux.
func BuildReal(string, Amount) (*Scene, error) {
	return nil, errors.New("file systems in files are mounted on Linux only: the scene without --real has stand-in " +
		"drives")
}
