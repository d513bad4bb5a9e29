package handle

import (
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// batchSystem is asynchronous reading as of io_submit(2).
type batchSystem struct {
	context uintptr // io_context_t; 0 if there is none
	refused bool
}

// An iocb is struct iocb of linux/aio_abi.h. What is 0 has no name here: IOCB_CMD_PREAD,
// from the start of the file.
type iocb struct {
	data  uint64
	_     uint64 // aio_key and aio_rw_flags
	_     uint16 // aio_lio_opcode
	_     int16  // aio_reqprio
	fd    uint32
	buf   uint64
	bytes uint64
	_     int64  // aio_offset
	_     uint64 // aio_reserved2
	_     uint32 // aio_flags
	_     uint32 // aio_resfd
}

// An ioEvent is struct io_event of the same.
type ioEvent struct {
	data uint64
	_    uint64 // obj
	res  int64
	_    int64 // res2
}

func (s *batchSystem) read(files []queued) {
	cold := files[:0]
	for _, q := range files {
		// What is in the page cache is had from there, for nothing.
		if !q.Cached || sysUncached(q.File.fd, 0, 0) {
			cold = append(cold, q)
		}
	}
	// One alone is read as well without.
	if len(cold) < 2 || !s.setUp() {
		return
	}
	var (
		blocks [batchFiles]iocb
		asked  [batchFiles]*iocb
		flags  [batchFiles]int // to be put back
	)
	n := 0
	for i := range cold {
		q := &cold[i]
		if flags[i] = q.File.direct(); flags[i] < 0 {
			continue
		}
		blocks[n] = iocb{data: uint64(i), fd: uint32(q.File.fd), bytes: uint64(len(q.buf)),
			buf: uint64(uintptr(unsafe.Pointer(unsafe.SliceData(q.buf))))}
		asked[n] = &blocks[n]
		n++
	}
	s.ask(asked[:n], func(i uint64, res int64) { cold[i].got(res) })
	for i := range cold {
		if flags[i] >= 0 && cold[i].Content == nil {
			_, _ = unix.FcntlInt(uintptr(cold[i].File.fd), unix.F_SETFL, flags[i])
		}
	}
	runtime.KeepAlive(files)
}

// setUp makes the context once. It goes with the memory that it is noted in.
func (s *batchSystem) setUp() bool {
	if s.context != 0 || s.refused {
		return !s.refused
	}
	context := new(uintptr)
	if _, _, errno := unix.Syscall(unix.SYS_IO_SETUP, batchFiles, uintptr(unsafe.Pointer(context)), 0); errno != 0 {
		s.refused = true
		return false
	}
	s.context = *context
	runtime.AddCleanup(s, func(c uintptr) { _, _, _ = unix.Syscall(unix.SYS_IO_DESTROY, c, 0, 0) }, s.context)
	return true
}

// ask has blocks read and tells what each has answered. When it returns, the
// kernel writes to none of the buffers any more.
func (s *batchSystem) ask(blocks []*iocb, answer func(i uint64, res int64)) {
	waiting := 0
	for len(blocks) > 0 {
		n, _, errno := unix.Syscall(unix.SYS_IO_SUBMIT, s.context, uintptr(len(blocks)),
			uintptr(unsafe.Pointer(unsafe.SliceData(blocks))))
		switch {
		case errno == unix.EINTR:
		case errno != 0: // of the first of them
			blocks = blocks[1:]
		default:
			waiting += int(n)
			blocks = blocks[n:]
		}
	}
	var events [batchFiles]ioEvent
	for waiting > 0 {
		n, _, errno := unix.Syscall6(unix.SYS_IO_GETEVENTS, s.context, uintptr(waiting), uintptr(waiting),
			uintptr(unsafe.Pointer(&events)), 0, 0)
		if errno == unix.EINTR {
			continue
		}
		if errno != 0 {
			panic("handle: io_getevents: " + errno.Error()) // the kernel would go on writing to our memory
		}
		for _, e := range events[:n] {
			answer(e.data, e.res)
		}
		waiting -= int(n)
	}
}

// direct has reads of f go past the page cache, and returns the flags that it
// had before; less than 0 if that can't be.
func (f *File) direct() int {
	flags, err := unix.FcntlInt(uintptr(f.fd), unix.F_GETFL, 0)
	if err != nil {
		return -1
	}
	if _, err := unix.FcntlInt(uintptr(f.fd), unix.F_SETFL, flags|unix.O_DIRECT); err != nil {
		return -1
	}
	return flags
}
