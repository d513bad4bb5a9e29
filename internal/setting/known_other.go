//go:build !windows

package setting

import (
	"errors"
	"fmt"
)

// ReadKnown has nothing to read: the error wraps [errors.ErrUnsupported].
func ReadKnown(name string) (*File, error) {
	return nil, fmt.Errorf("%s: this system has no registry: %w", name, errors.ErrUnsupported)
}
