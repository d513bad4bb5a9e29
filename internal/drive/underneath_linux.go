package drive

import (
	"errors"
	"fmt"
	"path/filepath"

	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

// Underneath opens the directory that a drive is mounted on, as it is without
// the drive: a copy of the mount around it, taken by open_tree(2), shows it.
// The error wraps [ErrUnseen] where that is not possible.
func Underneath(mount string) (*handle.Dir, error) {
	around, err := handle.Lstat(filepath.Dir(mount))
	if err != nil {
		return nil, err
	}
	// The root of the mount around it.
	root := filepath.Dir(mount)
	for !around.MountRoot && root != "/" {
		root = filepath.Dir(root)
		if around, err = handle.Lstat(root); err != nil {
			return nil, err
		}
	}
	fd, err := unix.OpenTree(unix.AT_FDCWD, root, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", mount, errors.Join(ErrUnseen, err))
	}
	defer unix.Close(fd)
	rel, err := filepath.Rel(root, mount)
	if err != nil {
		return nil, err
	}
	return handle.Open(filepath.Join(fmt.Sprintf("/proc/self/fd/%d", fd), rel))
}
