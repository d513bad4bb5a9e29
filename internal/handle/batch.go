package handle

import "unsafe"

const (
	// BatchFile is the size up to which a file can be read in a batch. Bytes.
	BatchFile = 64 << 10
	// batchFiles is how many files a batch has at the most.
	batchFiles = 64
	// alignment is what direct reading wants of memory, places and lengths.
	alignment = 4096
)

// Aligned makes a buffer of n bytes that a [Batch] can read into.
func Aligned(n int) []byte {
	b := make([]byte, n+alignment)
	skip := -uintptr(unsafe.Pointer(unsafe.SliceData(b))) % alignment
	return b[skip : int(skip)+n : int(skip)+n]
}

func isAligned(b []byte) bool { return uintptr(unsafe.Pointer(unsafe.SliceData(b)))%alignment == 0 }

// A Batch reads small files side by side: all of them are asked of the device
// before the first answer is waited for, and the kernel joins what lies side
// by side there into one request. That is by io_submit(2) past the page cache
// (O_DIRECT), on file systems of disks; elsewhere nothing is read.
// A Batch is for one goroutine; the zero value is ready.
type Batch struct{ system batchSystem }

// Wanted is a file that is to be read from its start to its end.
type Wanted struct {
	File   *File // nil is passed over
	Size   int64 // that it is expected to have, in bytes
	Cached bool  // what the system has in its cache is left to the caller, who gets it from there

	// Content is what Read gives: the whole file, which has the expected size;
	// valid as long as the buffer. Nil of a file that the caller has to read
	// by itself, whatever hinders: it will meet that there.
	Content []byte
}

// Read reads the first of the files, as many as fit into buf, which [Aligned]
// made and which has to be larger than [BatchFile] by 4 KiB. It returns how many
// it has dealt with, at least one unless there are none.
func (b *Batch) Read(files []Wanted, buf []byte) int {
	n, at := 0, int64(0)
	var queue [batchFiles]queued
	q := queue[:0]
	for ; n < len(files); n++ {
		w := &files[n]
		w.Content = nil
		if w.File == nil || !w.File.disk || w.Size > BatchFile || fault("pread") != nil {
			continue
		}
		// One byte more than is expected shows a file that has grown.
		most := (w.Size/alignment + 1) * alignment
		if len(q) == batchFiles || at+most > int64(len(buf)) {
			break
		}
		q = append(q, queued{w, buf[at : at+most : at+most]})
		at += most
	}
	b.system.read(q)
	return n
}

// Each reads the files, as [Batch.Read] does, batch by batch, and calls f with the place of each
// in files: of a batch first those that have their content, since the caller may take the
// buffer for what it reads by itself. The first error of f ends it.
func (b *Batch) Each(files []Wanted, buf []byte, f func(i int) error) error {
	for from := 0; from < len(files); {
		to := from + b.Read(files[from:], buf)
		for _, read := range []bool{true, false} {
			for i := from; i < to; i++ {
				if (files[i].Content != nil) != read {
					continue
				}
				if err := f(i); err != nil {
					return err
				}
			}
		}
		from = to
	}
	return nil
}

// queued is a file of a batch with the place for its content.
type queued struct {
	*Wanted
	buf []byte
}

// got takes the answer of a read into buf.
func (q *queued) got(n int64) {
	if n == q.Size {
		q.Content = q.buf[:n]
	}
}
