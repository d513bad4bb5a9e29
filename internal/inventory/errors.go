package inventory

import (
	"io/fs"

	"nexlin/internal/handle"
)

// gone reports that an entry vanished, or stopped being a directory, between
// being listed and being opened.
func gone(err error) bool { return handle.Absent(err) }

func mountError(path string) error {
	return &fs.PathError{Op: "walk", Path: path, Err: handle.ErrMount}
}
