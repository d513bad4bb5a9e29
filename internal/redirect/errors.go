package redirect

import (
	"errors"
	"syscall"

	"nexlin/internal/handle"
	"nexlin/internal/manifest"
	"nexlin/internal/transfer"
)

func isLoop(err error) bool { return errors.Is(err, syscall.ELOOP) }
func isBusy(err error) bool { return errors.Is(err, syscall.EWOULDBLOCK) }

// recordBroken reports that what a run recorded can't be read: its spool, or
// its frozen manifest.
func recordBroken(err error) bool {
	var spool *transfer.SpoolError
	var format *manifest.FormatError
	return errors.As(err, &spool) || errors.As(err, &format) || handle.Missing(err)
}

// inOrder does one step after the other, up to the first that fails: what follows
// from a step is not done without it. [errors.Join] is for clean-up alone.
func inOrder(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// flushed flushes directories once what has changed the names in them went well.
func flushed(err error, dirs ...*handle.Dir) error {
	for _, d := range dirs {
		if err != nil {
			return err
		}
		err = d.Sync()
	}
	return err
}
