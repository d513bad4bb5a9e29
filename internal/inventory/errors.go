package inventory

import (
	"errors"
	"fmt"
	"io/fs"

	"nexlin/internal/handle"
)

// ErrGone says that an entry vanished while it was looked at: in a folder that
// is at work that is a change, and no error.
var ErrGone = errors.New("it is not there any more")

// Vanished makes an error of the system's an [ErrGone] if it says that the entry
// is not there any more; others, and nil, stay as they are.
func Vanished(err error) error {
	if gone(err) {
		return fmt.Errorf("%w: %w", ErrGone, err)
	}
	return err
}

// gone reports that an entry vanished, or stopped being a directory, between
// being listed and being opened.
func gone(err error) bool { return handle.Absent(err) }

func mountError(path string) error {
	return &fs.PathError{Op: "walk", Path: path, Err: handle.ErrMount}
}
