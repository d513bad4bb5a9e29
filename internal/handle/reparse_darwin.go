package handle

import (
	"syscall"

	"golang.org/x/sys/unix"
)

func sysReparse(descriptor, string) ([]byte, error) { return nil, nil }

func sysLinksDir(descriptor, string) (bool, error) { return false, nil }

func sysMakeReparse(descriptor, string, []byte, bool) error { return syscall.EOPNOTSUPP }

func sysSetReparse(descriptor, string, []byte) error { return syscall.EOPNOTSUPP }

func sysSymlink(text string, at descriptor, name string) error { return unix.Symlinkat(text, at, name) }

func sysReadlink(at descriptor, name string) (string, error) { return readlink(at, name) }

func sysHidden(descriptor, string) (hidden, ok bool, err error) { return false, false, nil }

func sysHide(descriptor, string, bool) error { return syscall.EOPNOTSUPP }
