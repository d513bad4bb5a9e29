package handle

import (
	"strings"

	"nexlin/internal/junction"
)

// JunctionText is how the text of a junction begins, as [Dir.Readlink] gives
// it and [Dir.Symlink] takes it: the bytes of a junction have it so, and no
// symbolic link does.
const JunctionText = `\??\`

// ReparseXattr is the extended attribute that ntfs-3g shows the bytes of a
// reparse point as. It is not listed with the others.
const ReparseXattr = "system.ntfs_reparse_data"

// reparseText is the text of a junction or a symbolic link by its bytes; a
// relative one is written with slashes, as everywhere.
func reparseText(data []byte) (string, error) {
	l, err := junction.Decode(data)
	switch {
	case err != nil || l.Tag == junction.Tag:
		return l.Substitute, err
	case l.Relative:
		return strings.ReplaceAll(l.Substitute, `\`, "/"), nil
	}
	return l.Target(), nil
}

// Reparse gives the bytes of the reparse point called name, nil if it is
// none or the file system has no such thing. Nothing is followed.
func (d *Dir) Reparse(name string) ([]byte, error) {
	data, err := callFor("getxattr", func() ([]byte, error) { return sysReparse(d.fd, name) })
	return data, d.err("read the reparse point", name, err)
}

// LinksDir reports whether the reparse point called name says of itself that it
// leads to a directory.
func (d *Dir) LinksDir(name string) (bool, error) {
	dir, err := callFor("getxattr", func() (bool, error) { return sysLinksDir(d.fd, name) })
	return dir, d.err("read the reparse point", name, err)
}

// MakeReparse makes a reparse point with these bytes; name must not exist.
// directory says whether it is a directory to those that do not know its tag,
// as a junction is. If the bytes are refused nothing is left behind.
func (d *Dir) MakeReparse(name string, data []byte, directory bool) error {
	return d.err("make the reparse point", name,
		call("setxattr", func() error { return sysMakeReparse(d.fd, name, data, directory) }))
}

// SetReparse changes the bytes of the reparse point called name; the tag must
// stay as it is.
func (d *Dir) SetReparse(name string, data []byte) error {
	return d.err("change the reparse point", name,
		call("setxattr", func() error { return sysSetReparse(d.fd, name, data) }))
}

// Hidden reports whether the entry called name is marked as hidden on a drive
// of Windows; on any other that is a matter of names, and ok is false.
func (d *Dir) Hidden(name string) (hidden, ok bool, err error) {
	err = call("getxattr", func() error { hidden, ok, err = sysHidden(d.fd, name); return err })
	return hidden, ok, d.err("stat", name, err)
}

// Hide marks the entry called name as hidden on a drive of Windows, or takes the
// mark away. On any other drive the error is ENOTSUP.
func (d *Dir) Hide(name string, hidden bool) error {
	return d.err("hide", name, call("setxattr", func() error { return sysHide(d.fd, name, hidden) }))
}
