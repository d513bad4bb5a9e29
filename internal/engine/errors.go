package engine

import (
	"errors"

	"nexlin/internal/handle"
	"nexlin/internal/manifest"
	"nexlin/internal/transfer"
)

// RecordBroken reports that what a run recorded can't be read: its spool, or
// its frozen manifest.
func RecordBroken(err error) bool {
	var spool *transfer.SpoolError
	var format *manifest.FormatError
	return errors.As(err, &spool) || errors.As(err, &format) || handle.Missing(err)
}
