//go:build linux

package lab

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// A Fault is what a faulty drive does to one of its files, by its name.
// Offsets are in bytes.
type Fault struct {
	File       string
	FlipAt     int64 // reading flips a bit of the byte there; -1 for none
	WriteErrAt int64 // writing beyond it is an input/output error; -1 for none
	ReadErrAt  int64 // reading beyond it is one; -1 for none
	Short      bool  // each write takes half of what it gets, and says so
	Lie        bool  // each write takes half of what it gets, and says all
	SyncErr    bool  // flushing it is an input/output error
}

// NoFault is a drive without faults, to set some from.
func NoFault(file string) Fault {
	return Fault{File: file, FlipAt: -1, WriteErrAt: -1, ReadErrAt: -1}
}

// A FaultyDrive is a FUSE file system over a directory that does what the
// fault in force says.
type FaultyDrive struct {
	At string // where it is mounted

	mu    sync.Mutex
	fault Fault
}

// Set puts another fault in force.
func (d *FaultyDrive) Set(f Fault) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.fault = f
}

func (d *FaultyDrive) of(name string) Fault {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fault.File == name {
		return d.fault
	}
	return NoFault("")
}

// Faulty mounts one over a fresh directory; it goes away with the test.
func Faulty(t testing.TB) *FaultyDrive {
	t.Helper()
	Root(t)
	if !Exists("/dev/fuse") {
		Skip(t, "there is no /dev/fuse")
	}
	dir := t.TempDir()
	below := filepath.Join(dir, "below")
	d := &FaultyDrive{At: filepath.Join(dir, "faulty"), fault: NoFault("")}
	for _, p := range []string{below, d.At} {
		if err := os.Mkdir(p, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	// In memory: what is flushed here file by file would wait for the disk each time.
	Mount(t, below, "-t", "tmpfs", "-o", "size=64M", "none")
	var st syscall.Stat_t
	if err := syscall.Stat(below, &st); err != nil {
		t.Fatal(err)
	}
	root := &fs.LoopbackRoot{Path: below, Dev: st.Dev}
	top := &faultyNode{LoopbackNode: fs.LoopbackNode{RootData: root}, drive: d}
	root.RootNode = top
	server, err := fs.Mount(d.At, top, &fs.Options{MountOptions: fuse.MountOptions{
		DirectMountStrict: true, AllowOther: true, FsName: "faulty", Name: "faulty",
	}})
	if err != nil {
		Skip(t, "FUSE can't be mounted here: "+err.Error())
	}
	t.Cleanup(func() {
		if err := server.Unmount(); err != nil {
			Run(t, "umount", "-l", d.At)
		}
	})
	return d
}

type faultyNode struct {
	fs.LoopbackNode
	drive *FaultyDrive
}

// WrapChild gives every entry the drive's faults.
func (n *faultyNode) WrapChild(_ context.Context, child fs.InodeEmbedder) fs.InodeEmbedder {
	return &faultyNode{LoopbackNode: fs.LoopbackNode{RootData: child.(*fs.LoopbackNode).RootData}, drive: n.drive}
}

// loopbackFile is what a file of the file system below can do.
type loopbackFile interface {
	fs.FileReader
	fs.FileWriter
	fs.FileGetattrer
	fs.FileSetattrer
	fs.FileFlusher
	fs.FileFsyncer
	fs.FileReleaser
	fs.FileLseeker
}

type faultyFile struct {
	loopbackFile
	node *faultyNode
}

func (n *faultyNode) name() string {
	name, _ := n.EmbeddedInode().Parent()
	return name
}

func (n *faultyNode) wrap(f fs.FileHandle) fs.FileHandle {
	return &faultyFile{f.(loopbackFile), n}
}

// Open implements [fs.NodeOpener]. Reads past the page cache are aligned for
// the mount, not for what lies below.
func (n *faultyNode) Open(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	f, how, errno := n.LoopbackNode.Open(ctx, flags&^unix.O_DIRECT)
	if errno != 0 {
		return nil, 0, errno
	}
	return n.wrap(f), how, 0
}

// Create implements [fs.NodeCreater].
func (n *faultyNode) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (*fs.Inode,
	fs.FileHandle, uint32, syscall.Errno) {
	in, f, how, errno := n.LoopbackNode.Create(ctx, name, flags, mode, out)
	if errno != 0 {
		return nil, nil, 0, errno
	}
	return in, in.Operations().(*faultyNode).wrap(f), how, 0
}

func (f *faultyFile) fault() Fault { return f.node.drive.of(f.node.name()) }

// Read implements [fs.FileReader].
func (f *faultyFile) Read(ctx context.Context, dest []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	fault := f.fault()
	end := off + int64(len(dest))
	if fault.ReadErrAt >= 0 && end > fault.ReadErrAt {
		return nil, syscall.EIO
	}
	res, errno := f.loopbackFile.Read(ctx, dest, off)
	if errno != 0 || fault.FlipAt < off || fault.FlipAt >= end {
		return res, errno
	}
	buf, status := res.Bytes(make([]byte, len(dest)))
	res.Done()
	if status != fuse.OK {
		return nil, syscall.EIO
	}
	if at := fault.FlipAt - off; at < int64(len(buf)) {
		buf[at] ^= 0x10
	}
	return fuse.ReadResultData(buf), 0
}

// Write implements [fs.FileWriter].
func (f *faultyFile) Write(ctx context.Context, data []byte, off int64) (uint32, syscall.Errno) {
	fault := f.fault()
	switch {
	case fault.WriteErrAt >= 0 && off+int64(len(data)) > fault.WriteErrAt:
		return 0, syscall.EIO
	case fault.Short && len(data) > 1:
		return f.loopbackFile.Write(ctx, data[:len(data)/2], off)
	case fault.Lie && len(data) > 1:
		// The rest reads as zeros: the size is right.
		liar := append(append([]byte{}, data[:len(data)/2]...), make([]byte, len(data)-len(data)/2)...)
		return f.loopbackFile.Write(ctx, liar, off)
	}
	return f.loopbackFile.Write(ctx, data, off)
}

// Fsync implements [fs.FileFsyncer].
func (f *faultyFile) Fsync(ctx context.Context, flags uint32) syscall.Errno {
	if f.fault().SyncErr {
		return syscall.EIO
	}
	return f.loopbackFile.Fsync(ctx, flags)
}
