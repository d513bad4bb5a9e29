package handle

import (
	"errors"
	"io"
	"io/fs"
	"os"
)

// ErrNotFile reports that something else than a file stands where one is read.
var ErrNotFile = errors.New("it is no regular file")

// ErrTooLarge reports a file that is larger than what is read may be.
var ErrTooLarge = errors.New("it is too large for what it should be")

// OpenRegular opens the file at a path for reading, links being followed. What is
// no regular file is looked at and not opened: a FIFO would keep whoever opens it
// waiting for ever. The error is a *fs.PathError, [ErrNotFile] among them.
func OpenRegular(path string) (*os.File, error) {
	fi, err := os.Stat(path)
	if err == nil && !fi.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotFile}
	}
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, err
	}
	if fi, err = f.Stat(); err == nil && !fi.Mode().IsRegular() { // exchanged meanwhile
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotFile}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ReadRegular reads such a file. One with more than limit bytes is [ErrTooLarge].
func ReadRegular(path string, limit int64) ([]byte, error) {
	f, err := OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrTooLarge}
	}
	return b, err
}
