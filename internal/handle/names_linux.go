package handle

import (
	"bytes"
	"encoding/binary"
	"iter"
	"sync"

	"golang.org/x/sys/unix"
)

// dirents gives the names in a block of getdents64(2) records, without "."
// and "..", and whether each may be a directory: inode 8, offset 8, length 2, type
// 1, name up to a zero byte.
func dirents(block []byte) iter.Seq2[[]byte, bool] {
	return func(yield func([]byte, bool) bool) {
		for len(block) >= direntName {
			size := int(binary.NativeEndian.Uint16(block[16:]))
			if size < direntName || size > len(block) {
				return
			}
			name, kind := block[direntName:size], block[direntName-1]
			if i := bytes.IndexByte(name, 0); i >= 0 {
				name = name[:i]
			}
			block = block[size:]
			if string(name) == "." || string(name) == ".." {
				continue
			}
			if !yield(name, kind == unix.DT_DIR || kind == unix.DT_UNKNOWN) {
				return
			}
		}
	}
}

// direntName is where the name begins in a record.
const direntName = 19

var blocks = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// eachBlock reads d from its start and gives the names in blocks, as
// getdents64(2) does, each valid during the call. The first error of f ends it.
func (d *Dir) eachBlock(f func(names iter.Seq2[[]byte, bool]) error) error {
	return d.readBlocks(func(block []byte) error { return f(dirents(block)) })
}

func (d *Dir) readBlocks(f func(block []byte) error) error {
	if _, err := unix.Seek(d.fd, 0, 0); err != nil {
		return d.err("read", ".", err)
	}
	buf := blocks.Get().(*[]byte)
	defer blocks.Put(buf)
	for {
		n, err := callFor("getdents", func() (int, error) { return unix.Getdents(d.fd, *buf) })
		if err != nil {
			return d.err("read", ".", err)
		}
		if n == 0 {
			return nil
		}
		if err := f((*buf)[:n]); err != nil {
			return err
		}
	}
}

// EachEntry reads d from its start and gives every name in it with its inode
// number; mayBeDir is false for what the directory says is none (getdents64(2)).
// The first error of f ends it.
func (d *Dir) EachEntry(f func(name string, ino uint64, mayBeDir bool) error) error {
	return d.readBlocks(func(block []byte) error {
		for len(block) >= direntName {
			size := int(binary.NativeEndian.Uint16(block[16:]))
			for name, mayBeDir := range dirents(block[:min(size, len(block))]) {
				if err := f(string(name), binary.NativeEndian.Uint64(block), mayBeDir); err != nil {
					return err
				}
			}
			if size < direntName || size > len(block) {
				break
			}
			block = block[size:]
		}
		return nil
	})
}

// statListed looks at an entry by a name that [Dir.eachBlock] gave: the zero
// byte follows it in the block.
func statListed(fd descriptor, name []byte, out *Stat) error {
	return statxAt(fd, &name[0], 0, out)
}
