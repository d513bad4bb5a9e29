package redirect

import (
	"errors"

	"golang.org/x/sys/unix"

	"nexlin/internal/manifest"
)

func isLoop(err error) bool { return errors.Is(err, unix.ELOOP) }
func isBusy(err error) bool { return errors.Is(err, unix.EWOULDBLOCK) }

// isFormat reports a frozen manifest that can't be read.
func isFormat(err error) bool {
	var f *manifest.FormatError
	return errors.As(err, &f) || missing(err)
}
