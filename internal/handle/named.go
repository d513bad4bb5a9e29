package handle

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
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

// WriteFile has the file at a path hold what fill writes, whole or not at all: it is
// written under another name beside it, flushed, renamed, and the directory is flushed.
// It is for directories of our own, or of whoever runs this: the path is followed.
func WriteFile(path string, mode os.FileMode, fill func(io.Writer) error) error {
	tmp := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
	if err := os.Remove(tmp); IgnoreMissing(err) != nil { // of one that was killed
		return err
	}
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	err = InOrder(func() error { return fill(f) }, func() error { return f.Chmod(mode) }, f.Sync)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp))
	}
	d, err := Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer d.Release()
	return d.Sync()
}
