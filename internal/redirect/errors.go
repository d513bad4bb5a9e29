package redirect

import (
	"errors"

	"golang.org/x/sys/unix"

	"nexlin/internal/manifest"
	"nexlin/internal/transfer"
)

func isLoop(err error) bool { return errors.Is(err, unix.ELOOP) }
func isBusy(err error) bool { return errors.Is(err, unix.EWOULDBLOCK) }

// recordBroken reports that what a run recorded can't be read: its spool, or
// its frozen manifest.
func recordBroken(err error) bool {
	var spool *transfer.SpoolError
	var format *manifest.FormatError
	return errors.As(err, &spool) || errors.As(err, &format) || missing(err)
}
