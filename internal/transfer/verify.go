package transfer

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// Verify walks the part against the spool of the job's last pass, its New:
// every entry is there, nothing else is, the metadata is the source's as far
// as the job does not allow otherwise, names of one file are one file, and
// every file that is not yet Verified reads back with its sum. The caller
// has flushed the part before, so that what is read comes from the device;
// the tally says how often that could be seen to be so.
//
// After a nil error each entry of the spool is Copied and Verified, or was marked
// Again by the pass, which saw it change or go: the next one redoes it. A
// *DiffError names the first entry that differs; all that do are marked to
// be copied again by the next pass. One in a directory that was lent as it is ends the
// verification with [ErrNotAsLent].
func Verify(ctx context.Context, j *Job) (*Tally, error) {
	v := &verify{reading: reading{Job: j, tally: &Tally{}}, cur: Read(j.New)}
	workers := j.Workers
	if workers == 0 {
		workers = 2 * runtime.GOMAXPROCS(0)
	}
	group, ctx := errgroup.WithContext(ctx)
	v.ctx = ctx
	v.tasks = make(chan []readTask, workers)
	for range workers {
		group.Go(v.work)
	}
	group.Go(func() error {
		defer close(v.tasks)
		if err := inventory.Walk(ctx, j.Part.Dir, v); err != nil {
			return err
		}
		if err := v.cur.Rest(v.missing); err != nil {
			return err
		}
		return v.hand()
	})
	err := errors.Join(group.Wait(), j.New.Flush())
	v.open.releaseAll()
	if err == nil && v.first != nil {
		err = v.first
	}
	v.tally.ReadBack, v.tally.FromDevice = v.tally.readBack.Load(), v.tally.device.Load()
	return v.tally, err
}

type verify struct {
	reading
	cur   *Cursor
	tasks chan []readTask
	group []readTask
	bytes int64  // of the group
	lent  string // the directory that was met last of those taken from the held original
}

// reading is what reading back is done with, in a verification of its own or
// backlog the copying.
type reading struct {
	*Job
	ctx   context.Context
	tally *Tally
	mu    sync.Mutex
	first *DiffError
	open  openDirs
}

type readTask struct {
	dir  *handle.Dir
	name string
	path string
	ord  int64
	now  Snap // the copy as it is
	fact Fact

	large *largeFile // of which this is segment n; nil if it is a file
	n     int
}

// differs marks an entry to be copied again. The work goes on, so that one
// more pass mends everything.
func (v *reading) differs(path string, ord int64, f *Fact, what string) error {
	if f.Flags&Lent != 0 {
		return ErrNotAsLent
	}
	v.mu.Lock()
	if v.first == nil {
		v.first = &DiffError{Path: path, What: what}
	} else {
		v.first.More++
	}
	v.mu.Unlock()
	f.Flags = Again
	return v.New.Put(ord, f)
}

// missing marks what the spool has and the part has not.
func (v *verify) missing(rec *Record) error {
	if rec.Fact.undone() {
		return nil
	}
	return v.differs(rec.Path, rec.Ord, &rec.Fact, "it is missing")
}

// Visit implements [inventory.Visitor].
func (v *verify) Visit(e *inventory.Entry) (bool, error) {
	rec, err := v.cur.To(e.Path, v.missing)
	if err != nil {
		return false, err
	}
	if rec == nil {
		return false, v.stranger(e)
	}
	v.enterLent(rec)
	if e.Depth == 0 || rec.Fact.undone() {
		return e.Stat.IsDir(), nil
	}
	if v.knowsXattrs(rec, e) {
		e.Xattrs = rec.Xattrs
	} else if err := e.ReadXattrs(); errors.Is(err, inventory.ErrGone) {
		return false, v.differs(rec.Path, rec.Ord, &rec.Fact, "it is missing")
	} else if err != nil {
		return false, err
	}
	now := v.made(&e.Stat, e.Xattrs)
	what, err := v.wrong(rec, e, &now)
	if err != nil {
		return false, err
	}
	if what != "" {
		return e.Stat.IsDir(), v.differs(rec.Path, rec.Ord, &rec.Fact, what)
	}
	return v.content(rec, e, &now)
}

// content has the content of an entry that is right in all else read back where it was not
// yet, and says whether to go into it.
func (v *verify) content(rec *Record, e *inventory.Entry, now *Snap) (bool, error) {
	known := rec.Fact.Flags&Verified != 0
	if e.Stat.IsDir() && rec.Fact.Flags&Lent != 0 {
		return true, v.holds(rec.Ord, &rec.Fact, now) // being taken has changed its ctime
	}
	if !e.Stat.IsDir() && (rec.Same != "" || known && e.Stat.Nlink > 1) {
		// The same file as one that is read, or was; more names move its ctime.
		if !known && e.Stat.IsRegular() {
			v.tally.readBack.Add(1)
			v.tally.device.Add(1)
		}
		return false, v.holds(rec.Ord, &rec.Fact, now)
	}
	if !e.Stat.IsRegular() || known {
		return e.Stat.IsDir(), nil
	}
	v.group = append(v.group,
		readTask{dir: v.open.retain(e.Dir), name: e.Name, path: rec.Path, ord: rec.Ord, now: *now, fact: rec.Fact})
	if v.bytes += e.Stat.Size; len(v.group) >= groupFiles || v.bytes >= groupBytes {
		return false, v.hand()
	}
	return false, nil
}

// enterLent notes that the walk comes to a directory that was taken from the held original.
func (v *verify) enterLent(rec *Record) {
	if rec.Fact.Flags&Lent != 0 && !v.inLent(rec.Path) {
		v.lent = rec.Path
	}
}

// inLent says that an entry lies in the directory that was met last of those that were
// taken from the held original.
func (v *verify) inLent(path string) bool { return v.lent != "" && handle.Within(path, v.lent) }

// knowsXattrs reports whether the attributes of a copy are known to be the
// wanted ones: they were read from it once it was made, and a change since would show
// in its ctime.
func (v *verify) knowsXattrs(rec *Record, e *inventory.Entry) bool {
	return !v.Unstable && e.Stat.IsRegular() && rec.Fact.Copy.sameStat(&e.Stat) &&
		rec.Fact.Copy.Attrs == attrSum(v.Allow.keep(rec.Xattrs))
}

// wrong says what is wrong with an entry apart from its content; empty if
// nothing is.
func (v *verify) wrong(rec *Record, e *inventory.Entry, now *Snap) (string, error) {
	switch what := v.Allow.Differs(&rec.Fact.Source, now, rec.Xattrs, e.Xattrs); {
	case rec.Fact.Flags&Copied == 0:
		return "its copy is not finished", nil
	case what != "":
		return what, nil
	case e.Link != rec.LinkOf(Copy):
		return "link text", nil
	case e.Stat.IsDevice() && e.Stat.Rdev != rec.Rdev:
		return "device number", nil
	case rec.Same == "":
		return "", nil
	}
	dir, _, first, err := standing(v.Part.Dir, rec.Same)
	if err != nil {
		return "", err
	}
	if dir == nil {
		return "its first name is missing", nil
	}
	dir.Release()
	if !first.SameInode(&e.Stat) {
		return "it is no hard link to " + rec.Same, nil
	}
	return "", nil
}

// holds records that an entry is as it should be.
func (v *reading) holds(ord int64, f *Fact, now *Snap) error {
	f.Flags |= Verified
	f.Copy = *now
	return v.New.Put(ord, f)
}

func (v *verify) hand() error {
	if len(v.group) == 0 {
		return nil
	}
	group := v.group
	v.group, v.bytes = readLots.empty(), 0
	return send(v.ctx, v.tasks, group)
}

// Leave implements [inventory.Visitor].
func (v *verify) Leave(*inventory.Entry) error { return nil }

// stranger moves an entry that this run did not make out of the part, and
// puts back the times of the directory it lay in.
func (v *verify) stranger(e *inventory.Entry) error {
	if v.inLent(e.Path) {
		return ErrNotAsLent
	}
	before, err := e.Dir.Self()
	if err != nil {
		return err
	}
	if err := v.Part.moveOut(e.Dir, e.Name, e.Path); err != nil {
		return err
	}
	v.tally.Aside = append(v.tally.Aside, e.Path)
	return e.Dir.SetTimes(before.Atime, before.Mtime)
}

func (v *verify) work() error { return v.readAll(v.tasks) }

// readAll reads groups of files back until there are no more.
func (v *reading) readAll(groups <-chan []readTask) error {
	r := NewReader()
	var files []ReadFile
	for group := range groups {
		files = files[:0]
		for i := range group {
			if t := &group[i]; t.large == nil {
				files = append(files, ReadFile{Dir: t.dir, Name: t.name, Size: t.now.Size})
			}
		}
		r.ReadBackAll(v.ctx, files)
		rest := files
		for i := range group {
			t := &group[i]
			var err error
			if t.large != nil {
				err = v.segment(r, t)
			} else {
				err = v.read(t, &rest[0])
				rest = rest[1:]
			}
			v.open.release(t.dir)
			if err != nil {
				return err
			}
		}
		readLots.used(group)
	}
	return nil
}

// read judges a file that was read back.
func (v *reading) read(t *readTask, r *ReadFile) error {
	if handle.Absent(r.Err) {
		return v.differs(t.path, t.ord, &t.fact, "it is missing")
	}
	if handle.Damaged(r.Err) && t.fact.Flags&Lent != 0 {
		return ErrNotAsLent
	}
	if r.Err != nil {
		return r.Err
	}
	if r.Device {
		v.tally.device.Add(1)
	}
	if r.Sum != t.fact.Sum {
		return v.differs(t.path, t.ord, &t.fact, "content")
	}
	v.tally.readBack.Add(1)
	if v.Progress != nil {
		v.Progress.Advance(1, t.now.Size)
	}
	return v.holds(t.ord, &t.fact, &t.now)
}
