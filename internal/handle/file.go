package handle

import (
	"errors"
	"io"
	"io/fs"
	"syscall"
)

// A File is an open regular file. It is a bare descriptor: an os.File asks
// the system several times per file whether it can be polled, which regular
// files can't, and that is felt over a hundred thousand of them. ReadAt and
// WriteAt may be called from several goroutines, Read and Write not.
type File struct {
	fd       descriptor
	in, name string // where it was opened, for messages only; in may be empty
	disk     bool   // it lies on a file system that reads a disk of this machine, see [Batch]
	blocks   bool   // it is read past the system's cache, which wants whole blocks: see [directly]
	at       int64  // where [File.Read] goes on, in bytes, if so
}

var (
	_ io.ReadWriteCloser = (*File)(nil)
	_ io.ReaderAt        = (*File)(nil)
	_ io.WriterAt        = (*File)(nil)
)

// Name is where f was opened, for messages.
func (f *File) Name() string {
	if f.in == "" {
		return f.name
	}
	return join(f.in, f.name)
}

// Fd is the descriptor, valid until Close; on Windows the handle.
func (f *File) Fd() uintptr { return uintptr(f.fd) }

func (f *File) err(op string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: f.Name(), Err: err}
}

// Read implements [io.Reader].
func (f *File) Read(b []byte) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	if f.blocks {
		n, err := f.ReadOnce(b, f.at)
		f.at += int64(n)
		return n, err
	}
	n, err := callFor("read", func() (int, error) { return sysRead(f.fd, b) })
	if n == 0 && err == nil {
		return 0, io.EOF
	}
	return max(n, 0), f.err("read", err)
}

// Write implements [io.Writer].
func (f *File) Write(b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		var k int
		k, err = callFor("write", func() (int, error) { return sysWrite(f.fd, b[n:]) })
		n += max(k, 0)
	}
	return n, f.err("write", err)
}

// WriteString implements [io.StringWriter].
func (f *File) WriteString(s string) (int, error) { return f.Write([]byte(s)) }

// ReadAt implements [io.ReaderAt].
func (f *File) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) {
		k, err := f.ReadOnce(b[n:], at+int64(n))
		n += k
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// ReadOnce is [File.ReadAt] that takes what one call gives: fewer bytes than
// b holds do not mean the end of the file, io.EOF does.
func (f *File) ReadOnce(b []byte, at int64) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	n, err := callFor("pread", func() (int, error) {
		if f.blocks {
			return directly(func(b []byte, at int64) (int, error) { return sysPread(f.fd, b, at) }, b, at)
		}
		return sysPread(f.fd, b, at)
	})
	if n == 0 && err == nil {
		return 0, io.EOF
	}
	return max(n, 0), f.err("read", err)
}

// WriteAt implements [io.WriterAt]. A call that takes nothing is an error,
// so that a file system that lies can't hold the loop for ever.
func (f *File) WriteAt(b []byte, at int64) (n int, err error) {
	for n < len(b) {
		k, err := callFor("pwrite", func() (int, error) { return sysPwrite(f.fd, b[n:], at+int64(n)) })
		if err == nil && k == 0 {
			err = io.ErrShortWrite
		}
		if err != nil {
			return n, f.err("write", err)
		}
		n += k
	}
	return n, nil
}

// Close gives the descriptor up. The error may be of a write before.
func (f *File) Close() error {
	err := fault("close")
	return f.err("close", errors.Join(sysClose(f.fd), err))
}

// Sync flushes content and metadata (fsync(2)).
func (f *File) Sync() error {
	return f.err("sync", call("fsync", func() error { return sysSync(f.fd) }))
}

// Flush hands content and metadata over to the drive, as [File.Sync] does, which may keep
// them in a cache of its own until [Dir.SyncAll]: for many files, one after the other.
func (f *File) Flush() error {
	return f.err("sync", call("fsync", func() error { return sysFlush(f.fd) }))
}

// Created gives the file the time at which another one was made, where the system keeps such a
// time and lets it be set; it comes after the other times, which may move it. A drive that
// keeps none is no error: it is no part of what is compared.
func (f *File) Created(as *File) error {
	return f.err("utimens", created(sysCreated(f.fd, as.fd)))
}

// Truncate makes the file so many bytes long; what is added is a hole where
// the file system has them.
func (f *File) Truncate(size int64) error {
	return f.err("truncate", call("ftruncate", func() error { return sysTruncate(f.fd, size) }))
}

// Clone makes the file share the content of another one on the same file
// system (ioctl FICLONE). A file system that can't answers EOPNOTSUPP.
func (f *File) Clone(from *File) error {
	return f.err("clone", call("ficlone", func() error { return sysClone(f.fd, from.fd) }))
}

// Chown gives the file an owner and a group.
func (f *File) Chown(uid, gid uint32) error {
	return f.err("chown", call("fchown", func() error { return sysChown(f.fd, uid, gid) }))
}

// Chmod sets the twelve permission bits.
func (f *File) Chmod(mode uint32) error {
	return f.err("chmod", call("fchmod", func() error { return sysChmod(f.fd, mode) }))
}

// SetTimes sets access and modification time.
func (f *File) SetTimes(atime, mtime Time) error {
	return f.err("utimens", call("utimensat", func() error { return sysSetTimes(f.fd, atime, mtime) }))
}

// Uncache has flushed content of the file leave the system's cache, n bytes
// from off on, 0 to the end, and looks whether it did: a read that follows
// comes from the device then. It comes before the first [File.Read].
func (f *File) Uncache(off, n int64) bool { return sysUncache(f, off, n) }

// bounce is how much is read at once for a caller whose memory is not aligned. Bytes.
const bounce = 256 << 10

// directly reads past the cache, which takes places, lengths and memory in whole blocks alone: what
// the caller asks for otherwise is read into a buffer between. At the end pread gives what there is.
func directly(pread func([]byte, int64) (int, error), b []byte, at int64) (int, error) {
	skip := at % alignment
	if skip == 0 && len(b) >= alignment && isAligned(b) {
		return pread(b[:len(b)/alignment*alignment], at)
	}
	n := min(int(skip)+len(b), bounce)
	buf := Aligned((n + alignment - 1) / alignment * alignment)
	n, err := pread(buf, at-skip)
	if err != nil || int64(n) <= skip {
		return 0, err
	}
	return copy(b, buf[skip:n]), nil
}

// Stat looks at the open file through its descriptor.
func (f *File) Stat() (Stat, error) {
	var s Stat
	return s, f.err("stat", statOpen(f.fd, &s))
}

// NextExtent finds the next data at or after at: where it starts and ends.
// Both are size if only a hole follows (lseek(2), SEEK_DATA and SEEK_HOLE). A
// file system that can't tell has no holes.
func (f *File) NextExtent(at, size int64) (start, end int64, err error) {
	if start, err = f.next(at, size, false, at); err != nil || start >= size {
		return start, size, err
	}
	if end, err = f.next(start, size, true, size); end <= start {
		end = size
	}
	return start, end, err
}

// next seeks what begins at or after at; none is the answer where the file
// system can't tell.
func (f *File) next(at, size int64, hole bool, none int64) (int64, error) {
	var off int64
	err := call("lseek", func() (err error) {
		off, err = sysSeek(f.fd, at, hole)
		return err
	})
	switch {
	case err == nil:
		return min(off, size), nil
	case errors.Is(err, syscall.ENXIO):
		return size, nil
	case errors.Is(err, syscall.EINVAL), errors.Is(err, syscall.ENOSYS), errors.Is(err, syscall.EOPNOTSUPP):
		return none, nil
	}
	return 0, f.err("seek", err)
}
