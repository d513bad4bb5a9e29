package transfer

import (
	"context"
	"os"
	"runtime"
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
// *DiffError names the first entry that differs; it is marked to be copied
// again.
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
		if r := v.cur.Peek(); r != nil {
			return v.differs(r, "it is missing")
		}
		return nil
	})
	err := group.Wait()
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
}

type readTask struct {
	dir  *handle.Dir
	name string
	rec  Record
}

func (v *verify) differs(r *Record, what string) error {
	r.Fact.Flags = Again
	if err := v.spool.Put(r.Ord, &r.Fact); err != nil {
		return err
	}
	return &DiffError{r.Path, what}
}

// Visit implements [inventory.Visitor].
func (v *verify) Visit(e *inventory.Entry) (bool, error) {
	r := v.cur.Peek()
	if r == nil || handle.Compare(e.Path, r.Path) < 0 {
		return false, v.stranger(e)
	}
	if r.Path != e.Path {
		return false, v.differs(r, "it is missing")
	}
	rec := *r
	v.cur.Next()
	if rec.Fact.Flags&Copied == 0 {
		return false, v.differs(&rec, "its copy is not finished")
	}
	if e.Depth == 0 {
		return true, nil
	}
	now := SnapOf(&e.Stat, e.Xattrs)
	if what := rec.Fact.Source.differs(&now); what != "" {
		return false, v.differs(&rec, what)
	}
	if e.Link != rec.Link {
		return false, v.differs(&rec, "link text")
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
	if dropPages(f) {
		v.tally.device.Add(1)
	}
	digest, st, err := Digest(v.ctx, f)
	if err != nil {
		return err
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
