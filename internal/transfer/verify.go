package transfer

import (
	"context"
	"os"
	"runtime"
	"sync"
	"unsafe"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// Verify walks the part against the spool of the last pass: every entry is
// there, nothing else is, the metadata is the source's, and every file that
// is not yet Verified reads back with its digest. The caller has flushed
// the part before, so that what is read comes from the device; the tally
// says how often that could be seen to be so.
//
// After a nil error each entry of the spool is Copied and Verified. A
// *DiffError names the first entry that differs; all that do are marked to
// be copied again by the next pass.
func Verify(ctx context.Context, p *Part, spool *Spool, workers int, progress Progress) (*Tally, error) {
	v := &verify{part: p, spool: spool, cur: Read(spool), tally: &Tally{}, progress: progress}
	if workers == 0 {
		workers = 2 * runtime.GOMAXPROCS(0)
	}
	group, ctx := errgroup.WithContext(ctx)
	v.ctx = ctx
	v.tasks = make(chan readTask, 64)
	for range workers {
		group.Go(v.work)
	}
	group.Go(func() error {
		defer close(v.tasks)
		if err := inventory.Walk(ctx, p.Dir, v); err != nil {
			return err
		}
		return v.missing(nil)
	})
	err := group.Wait()
	if err == nil && v.first != nil {
		err = v.first
	}
	v.tally.ReadBack, v.tally.FromDevice = v.tally.readBack.Load(), v.tally.device.Load()
	return v.tally, err
}

type verify struct {
	ctx      context.Context
	part     *Part
	spool    *Spool
	cur      *Cursor
	tally    *Tally
	tasks    chan readTask
	progress Progress
	mu       sync.Mutex
	first    *DiffError
}

type readTask struct {
	dir  *handle.Dir
	name string
	rec  Record
}

// differs marks an entry to be copied again. The walk goes on, so that one
// more pass mends everything.
func (v *verify) differs(r *Record, what string) error {
	v.mu.Lock()
	if v.first == nil {
		v.first = &DiffError{Path: r.Path, What: what}
	} else {
		v.first.More++
	}
	v.mu.Unlock()
	r.Fact.Flags = Again
	return v.spool.Put(r.Ord, &r.Fact)
}

// missing marks what the spool has before e and the part has not; all that
// is left if e is nil.
func (v *verify) missing(e *inventory.Entry) error {
	for r := v.cur.Peek(); r != nil && (e == nil || handle.Compare(r.Path, e.Path) < 0); r = v.cur.Peek() {
		rec := *r
		v.cur.Next()
		if err := v.differs(&rec, "it is missing"); err != nil {
			return err
		}
	}
	return nil
}

// Visit implements [inventory.Visitor].
func (v *verify) Visit(e *inventory.Entry) (bool, error) {
	if err := v.missing(e); err != nil {
		return false, err
	}
	r := v.cur.Peek()
	if r == nil || r.Path != e.Path {
		return false, v.stranger(e)
	}
	rec := *r
	v.cur.Next()
	if e.Depth == 0 {
		return true, nil
	}
	now := SnapOf(&e.Stat, e.Xattrs)
	what := rec.Fact.Source.differs(&now)
	switch {
	case rec.Fact.Flags&Copied == 0:
		what = "its copy is not finished"
	case what == "" && e.Link != rec.Link:
		what = "link text"
	}
	if what != "" {
		return e.Stat.IsDir(), v.differs(&rec, what)
	}
	if e.Stat.IsRegular() && rec.Fact.Flags&Verified == 0 {
		select {
		case v.tasks <- readTask{e.Dir.Retain(), e.Name, rec}:
		case <-v.ctx.Done():
			return false, v.ctx.Err()
		}
	}
	return e.Stat.IsDir(), nil
}

// Leave implements [inventory.Visitor].
func (v *verify) Leave(*inventory.Entry) error { return nil }

// stranger moves an entry that this run did not make out of the part, and
// puts back the times of the directory it lay in.
func (v *verify) stranger(e *inventory.Entry) error {
	before, err := e.Dir.Self()
	if err != nil {
		return err
	}
	if err := v.part.putAside(e.Dir, e.Name, e.Path); err != nil {
		return err
	}
	v.tally.Aside = append(v.tally.Aside, e.Path)
	return e.Dir.SetTimes(before.Atime, before.Mtime)
}

func (v *verify) work() error {
	for t := range v.tasks {
		err := v.read(&t)
		t.dir.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

func (v *verify) read(t *readTask) error {
	f, err := t.dir.OpenFile(t.name)
	if err != nil {
		return err
	}
	defer f.Close()
	digest, st, device, err := ReadBack(v.ctx, f)
	if err != nil {
		return err
	}
	if device {
		v.tally.device.Add(1)
	}
	now := SnapOf(&st, t.rec.Xattrs)
	if digest != t.rec.Fact.Digest {
		return v.differs(&t.rec, "content")
	}
	t.rec.Fact.Flags |= Verified
	t.rec.Fact.Copy = now
	v.tally.readBack.Add(1)
	if v.progress != nil {
		v.progress.Advance(1, st.Size)
	}
	return v.spool.Put(t.rec.Ord, &t.rec.Fact)
}

// ReadBack is [Digest] of a file that was flushed, read from the device where
// its pages can be seen to be gone from the page cache; device says so.
func ReadBack(ctx context.Context, f *os.File) (sum [32]byte, st handle.Stat, device bool, err error) {
	device = dropPages(f)
	sum, st, err = Digest(ctx, f)
	return sum, st, device, err
}

// dropPages takes the flushed pages of a file out of the page cache
// (posix_fadvise(2), POSIX_FADV_DONTNEED) and looks whether they are gone
// (cachestat(2)). False where some remain or the kernel can't tell.
func dropPages(f *os.File) bool {
	fd := int(f.Fd())
	if unix.Fadvise(fd, 0, 0, unix.FADV_DONTNEED) != nil {
		return false
	}
	const sysCachestat = 451 // the same number on every architecture
	span := [2]uint64{0, 0}  // all of the file
	var stat [5]uint64       // cached, dirty, written back, evicted, recently evicted
	_, _, e := unix.Syscall6(sysCachestat, uintptr(fd),
		uintptr(unsafe.Pointer(&span)), uintptr(unsafe.Pointer(&stat)), 0, 0, 0)
	return e == 0 && stat[0] == 0
}
