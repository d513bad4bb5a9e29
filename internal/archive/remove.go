package archive

import (
	"errors"
	"syscall"

	"nexlin/internal/handle"
)

// Clear takes away everything in a directory, through handles.
func Clear(d *handle.Dir) error {
	return d.EachName(func(n string) error { return Remove(d, n) })
}

// Remove takes away what a pack or an unpack has made under a name, all of it,
// through handles. fs.ErrNotExist if there is nothing.
func Remove(dir *handle.Dir, name string) error {
	st, err := dir.Stat(name)
	if err != nil {
		return err
	}
	if !st.IsDir() {
		return dir.Unlink(name)
	}
	d, err := dir.Beneath(name)
	if errors.Is(err, syscall.EACCES) { // dressed already, without rights for its owner
		if err = dir.ChmodEntry(name, 0o700); err == nil {
			d, err = dir.Beneath(name)
		}
	}
	if err != nil {
		return err
	}
	defer d.Release()
	if st.Perm()&0o700 != 0o700 {
		if err := d.Chmod(0o700); err != nil {
			return err
		}
	}
	err = d.EachName(func(n string) error { return Remove(d, n) })
	if err != nil {
		return err
	}
	return dir.Rmdir(name)
}
