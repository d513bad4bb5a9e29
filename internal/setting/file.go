package setting

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"nexlin/internal/handle"
)

// ErrRewritten reports a settings file that a program wrote while Nexlin was
// about to.
var ErrRewritten = errors.New("a program has rewritten the settings file meanwhile")

// A File is a settings file as it was read. Everything about it goes through
// the handle of its directory.
type File struct {
	Data   []byte
	Exists bool
	dir    *handle.Dir
	name   string
	stat   handle.Stat
	xattrs []handle.Xattr
	values RegistryValues // of a value in a registry, which is no file: see known.go; nil of any other
}

// Read reads the settings file called name. One that is not there reads as
// empty. What is no regular file, or larger than [Limit], is an error.
func Read(dir *handle.Dir, name string) (*File, error) {
	f := &File{dir: dir, name: name}
	in, err := dir.OpenFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if f.stat, err = in.Stat(); err != nil {
		return nil, err
	}
	if !f.stat.IsRegular() || f.stat.Size > Limit {
		return nil, &fs.PathError{Op: "read", Path: dir.Join(name),
			Err: errors.New("it is no settings file: no regular file, or too large")}
	}
	f.Exists = true
	if f.xattrs, err = dir.XattrsOf(in, name); err != nil {
		return nil, err
	}
	f.Data, err = io.ReadAll(io.LimitReader(in, Limit+1))
	return f, err
}

// Owner is the account the file belongs to; meaningless if it does not exist.
func (f *File) Owner() uint32 { return f.stat.UID }

// Names is how many names the file has.
func (f *File) Names() uint32 { return uint32(f.stat.Nlink) }

// Mtime is when the file was written last.
func (f *File) Mtime() handle.Time { return f.stat.Mtime }

// Sum is the SHA-256 digest of a file's content; empty for one that is not
// there.
func (f *File) Sum() string {
	if !f.Exists {
		return ""
	}
	return Sum(f.Data)
}

// Sum is the SHA-256 digest of data, in hexadecimal digits.
func Sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

// A Writing says how a settings file is written.
type Writing struct {
	Tmp      string       // name of a private directory beside it, the run's own, where it is made
	UID, GID uint32       // who gets a file that did not exist
	Mtime    *handle.Time // what its time is set to; nil leaves it
}

// Write replaces the file in one act, keeping its mode, owner and attributes.
// It is on the device when Write returns. [ErrRewritten] if the file is not
// as it was read any more.
func (f *File) Write(data []byte, w Writing) (err error) {
	if f.values != nil {
		return f.writeValue(data)
	}
	private, err := f.dir.Private(w.Tmp, false)
	if err != nil {
		return err
	}
	defer private.Release()
	made, err := f.make(private, data, w)
	if err == nil {
		err = f.unchanged()
	}
	if err == nil {
		var old *handle.Stat
		if f.Exists {
			old = &f.stat
		}
		err = f.dir.PlaceFrom(private, f.name, &made, old)
	}
	if errors.Is(err, handle.ErrReplaced) || !f.Exists && errors.Is(err, fs.ErrExist) {
		err = ErrRewritten
	}
	if err = errors.Join(err, f.dir.DropPrivate(w.Tmp, private)); err != nil {
		return err
	}
	return f.dir.Sync()
}

// make writes the new file in a directory that nobody else can enter, and
// describes it through its own descriptor.
func (f *File) make(private *handle.Dir, data []byte, w Writing) (made handle.Stat, err error) {
	out, err := private.Create(handle.InPrivate, 0o600)
	if err != nil {
		return made, err
	}
	_, err = out.Write(data)
	mode, uid, gid := uint32(0o644), w.UID, w.GID
	if f.Exists {
		mode, uid, gid = f.stat.Perm(), f.stat.UID, f.stat.GID
	}
	if err == nil && (os.Geteuid() == 0 || f.Exists && gid != uint32(os.Getegid())) {
		// An account that is in the group no more can't give it the file.
		if err = out.Chown(uid, gid); os.Geteuid() != 0 && errors.Is(err, fs.ErrPermission) {
			err = nil
		}
	}
	if err == nil {
		err = out.Chmod(mode)
	}
	if err == nil && f.Exists {
		err = f.attributes(private, out)
	}
	if err == nil && w.Mtime != nil {
		err = out.SetTimes(*w.Mtime, *w.Mtime)
	}
	if err == nil {
		err = out.Sync()
	}
	if err == nil {
		made, err = out.Stat()
	}
	return made, errors.Join(err, out.Close())
}

// Remove takes the file away, which did not exist before the run.
// [ErrRewritten] if it is not as it was read.
func (f *File) Remove(w Writing) error {
	if f.values != nil {
		if err := f.unchangedValue(); err != nil {
			return err
		}
		return f.values.Delete(f.name)
	}
	if err := f.unchanged(); err != nil || !f.Exists {
		return err
	}
	err := f.dir.RemoveSeen(f.name, &f.stat, w.Tmp)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ErrRewritten
	case errors.Is(err, handle.ErrReplaced):
		return errors.Join(ErrRewritten, err) // with what kept it from getting its name again
	}
	if err != nil {
		return err
	}
	return f.dir.Sync()
}

// attributes gives the new file those that the old one had when it was read.
func (f *File) attributes(private *handle.Dir, out *handle.File) error {
	for _, x := range f.xattrs {
		if err := private.SetXattrOf(out, handle.InPrivate, x); err != nil && !errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("keeping the attribute %s: %w", x.Name, err)
		}
	}
	return nil
}

func (f *File) unchanged() error {
	now, err := f.dir.Stat(f.name)
	if errors.Is(err, fs.ErrNotExist) {
		if f.Exists {
			return ErrRewritten
		}
		return nil
	}
	if err != nil {
		return err
	}
	if !f.Exists || !now.SameInode(&f.stat) || now.Mtime != f.stat.Mtime || now.Ctime != f.stat.Ctime ||
		now.Size != f.stat.Size {
		return ErrRewritten
	}
	return nil
}
