package handle

import (
	"errors"
	"io/fs"
	"slices"
	"syscall"
)

// call makes a system call, again while a signal interrupts it. The name is
// for fault tests, see fault_off.go.
func call(name string, f func() error) error {
	if err := fault(name); err != nil {
		return err
	}
	for {
		if err := f(); err != syscall.EINTR {
			return err
		}
	}
}

// callFor is [call] for one that returns something.
func callFor[T any](name string, f func() (T, error)) (v T, err error) {
	err = call(name, func() error { v, err = f(); return err })
	return v, err
}

// ErrScanned says that a virus scanner keeps a file from being read: the system's own word for it,
// which needs neither the drive nor the file to be at fault.
var ErrScanned = errors.New("a virus scanner of this system keeps it from being read")

// ErrLocked says that a drive is encrypted, and not opened.
var ErrLocked = errors.New("the drive is locked: it has to be opened with its password first")

// Damaged reports an error by which the system says that a drive or a file
// system is damaged, or that reading it failed.
func Damaged(err error) bool { return isOne(err, damage) }

// Gone reports an error by which the system says that a drive is not there
// any more.
func Gone(err error) bool { return isOne(err, gone) }

// Scarce reports that the machine, or this process, has run out of files or
// memory for now.
func Scarce(err error) bool {
	return isOne(err, []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM})
}

// Passing reports an error that may pass by itself: somebody has the entry open
// in a way that keeps others from it.
func Passing(err error) bool { return isOne(err, passing) }

// Missing reports that an entry is not there.
func Missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// IgnoreMissing is err, and nil if it says that an entry is not there.
func IgnoreMissing(err error) error {
	if Missing(err) {
		return nil
	}
	return err
}

// IgnorePermission is err, and nil if it says that this account may not do that.
func IgnorePermission(err error) error {
	if errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}

// IsLocked reports that another has the lock.
func IsLocked(err error) bool { return errors.Is(err, syscall.EWOULDBLOCK) }

// InOrder does one step after the other, up to the first that fails: what follows
// from a step is not done without it. [errors.Join] is for clean-up alone.
func InOrder(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Flushed flushes directories once what has changed the names in them went well:
// it is err, or else the first error of a flush.
func Flushed(err error, dirs ...*Dir) error {
	for _, d := range dirs {
		if err != nil {
			return err
		}
		err = d.Sync()
	}
	return err
}

// Cause is what went wrong, without the call and the path.
func Cause(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Absent reports that nothing can be reached under a path: it is not there,
// or what should be a directory on the way is none, or a link stands there.
func Absent(err error) bool {
	return isOne(err, []error{syscall.ENOENT, syscall.ENOTDIR, syscall.ELOOP})
}

// Replaced reports that a file could not be opened since something else, or
// nothing, stands under its name by now: open(2) says so of a socket, too.
func Replaced(err error) bool { return Absent(err) || errors.Is(err, syscall.ENXIO) }

func isOne(err error, of []error) bool {
	return slices.ContainsFunc(of, func(e error) bool { return errors.Is(err, e) })
}
