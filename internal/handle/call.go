package handle

import "golang.org/x/sys/unix"

// call makes a system call, again while a signal interrupts it. The name is
// for fault tests, see fault_off.go.
func call(name string, f func() error) error {
	if err := fault(name); err != nil {
		return err
	}
	for {
		if err := f(); err != unix.EINTR {
			return err
		}
	}
}

// callInt is [call] for one that returns a number.
func callInt(name string, f func() (int, error)) (n int, err error) {
	err = call(name, func() error { n, err = f(); return err })
	return n, err
}
