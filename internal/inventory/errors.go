package inventory

import (
	"errors"
	"io/fs"

	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

// gone reports that an entry vanished, or stopped being a directory, between
// being listed and being opened.
func gone(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP)
}

func mountError(path string) error {
	return &fs.PathError{Op: "walk", Path: path, Err: handle.ErrMount}
}
