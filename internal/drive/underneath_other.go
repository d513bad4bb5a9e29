//go:build !linux

package drive

import (
	"fmt"

	"nexlin/internal/handle"
)

// Underneath has no way on this system: the error wraps [ErrUnseen].
func Underneath(mount string) (*handle.Dir, error) {
	return nil, fmt.Errorf("%s: %w", mount, ErrUnseen)
}
