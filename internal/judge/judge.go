// Package judge holds folders against each other and against what was recorded of them, byte
// by byte: what may go, what would be lost, what is not as it was. It changes nothing.
package judge

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/late"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// A Verdict says of one held original what of it is proven to be in the
// live folder. Counts are of files and links.
type Verdict struct {
	Bare   bool // it was held without being copied
	File   bool // it is an archive
	Held   ledger.Held
	Live   string // the folder in use that it is held against
	Proven int64
	Bytes  int64 // size of what is proven
	Frees  int64 // bytes that deleting it gives back, in blocks of 4 KiB
	Cases  map[finding.Code]*Listing
	Codes  []uint8 // by ordinal of the spool: what became of the entry, as an index into verdicts
	Late   *late.Writes
	Plan   *plan.Plan // of the run that holds it
	Left   bool       // something of it stays
	Meta   bool       // what is beside the content counts, too: the held original is to be deleted
}

// Verdicts are what may become of an entry; the first means it is proven.
var Verdicts = []finding.Code{"", finding.Rot, finding.ChangedSince, finding.ChangedQuiet, finding.GoneAtTarget,
	finding.MetaDiffers}

type Listing struct {
	Count int64
	Frees int64 // bytes that deleting them gives back
	Paths []string
}

// Told is the finding about what became of some entries; false if of none.
// text goes on after their number and has a place for the live folder.
func (v *Verdict) Told(code finding.Code, text, live string, about finding.Subject) (finding.Finding, bool) {
	l := v.Cases[code]
	if l == nil {
		return finding.Finding{}, false
	}
	slices.Sort(l.Paths)
	return finding.New(code, l.Paths[0], "%s "+text, pathtext.Entries(l.Count), live).About(about).Listing(int(l.Count),
		l.Paths), true
}

// judge holds the live folder against the manifest frozen at the switch,
// reading every file of it. What counts is that nothing of the held
// original is lost without a word.
type judge struct {
	*Verdict
	mu       sync.Mutex
	root     *handle.Dir // the live folder; nil if it is gone
	progress transfer.Progress
	readers  sync.Pool
	digests  sync.Pool // readers for records that have no sums, only digests

	lot  *lot      // not handed to the readers yet
	most int       // files of a lot
	lots sync.Pool // of those that were read
}

// A reading is a file whose content is to be judged.
type reading struct {
	rec transfer.Record
	now inventory.Entry // its directory is retained
}

// A lot is what one reader takes at once.
type lot struct {
	of    []reading
	files []transfer.ReadFile // the same while they are read
	size  int64               // bytes of that
}

// How many files one reader takes at once: small ones are read side by side.
const (
	lotFiles = 32
	lotBytes = 1 << 20
)

// hand gives the gathered files to a reader.
func (j *judge) hand(ctx context.Context, group *errgroup.Group) {
	full := j.lot
	if len(full.of) == 0 {
		return
	}
	j.lot = j.lots.Get().(*lot)
	group.Go(func() error {
		defer j.lots.Put(full)
		defer full.release()
		return j.contents(ctx, full)
	})
}

// release gives up what the files of a lot keep open, and leaves it empty.
func (l *lot) release() {
	for i := range l.of {
		l.of[i].now.Dir.Release()
	}
	l.of, l.size = l.of[:0], 0
}

// Judging says how a folder is read; the zero value reads all of it.
type Judging struct {
	from int64                                      // ordinals below this are not looked at
	mark func(next int64) error                     // called now and then: all below next is judged; may be nil
	pace func(ctx context.Context, bytes int) error // see transfer.Reader; may be nil
}

// markEvery is how often a long reading notes how far it got.
const markEvery = time.Second

// JudgeAll fills in the verdict; live is the folder that Live names, nil if it is gone: then
// everything is.
func (v *Verdict) JudgeAll(ctx context.Context, live *handle.Dir, runDir string, spool *transfer.Spool,
	progress transfer.Progress, o Judging) error {
	j := &judge{Verdict: v, root: live, progress: progress, most: lotFiles}
	if o.pace != nil {
		j.most = 1 // what is slow is noted, and stops, after every file
	}
	paced := func(r *transfer.Reader) any {
		r.Pace = o.pace
		return r
	}
	j.readers.New = func() any { return paced(transfer.NewReader()) }
	j.lots.New = func() any { return &lot{of: make([]reading, 0, j.most)} }
	j.lot = j.lots.Get().(*lot)
	j.digests.New = func() any { return paced(transfer.NewDigester(v.digest())) }
	// Meanwhile: what is read counts only if the two witnesses agree.
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	agreed := make(chan error, 1)
	go func() {
		err := j.readFrozen(runDir, spool)
		if err != nil {
			stop()
		}
		agreed <- err
	}()
	err := j.all(ctx, live, spool, o)
	if broken := <-agreed; broken != nil {
		return broken
	}
	return err
}

// all judges every entry that the spool has.
func (j *judge) all(ctx context.Context, live *handle.Dir, spool *transfer.Spool, o Judging) error {
	v := j.Verdict
	group, reading := readersAtOnce(ctx)
	marked := time.Now()
	err := transfer.Match(ctx, live, spool, func(rec *transfer.Record, now *inventory.Entry) error {
		if rec == nil {
			return nil // new at the target: nothing of the held original
		}
		if err := reading.Err(); err != nil || rec.Ord < o.from {
			return err // a reader has failed, or it was read before
		}
		if o.mark != nil && time.Since(marked) > markEvery {
			j.hand(reading, group)
			if err := group.Wait(); err != nil {
				return err
			}
			group, reading = readersAtOnce(ctx)
			marked = time.Now()
			if err := o.mark(rec.Ord); err != nil {
				return err
			}
		}
		if v.Late.Brings(rec.Path) {
			// The held one is newer: it is brought over first, and all is judged again.
			j.set(rec, "")
			return nil
		}
		if v.Plan != nil && v.Plan.Traits().Merges && live != nil {
			beside, err := v.keptBeside(live, rec.Path)
			if err != nil {
				return err
			}
			if beside != nil {
				defer beside.Dir.Release()
				now = beside
			}
		}
		if now == nil {
			j.set(rec, finding.GoneAtTarget)
			return nil
		}
		return j.one(reading, group, rec, now)
	})
	if err == nil {
		j.hand(reading, group)
	}
	j.lot.release() // of a walk that failed
	return errors.Join(group.Wait(), err)
}

// readersAtOnce begins a stretch of reading; its context ends with the first
// failure, and with the stretch.
func readersAtOnce(ctx context.Context) (*errgroup.Group, context.Context) {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	return g, ctx
}

// keptBeside finds an entry that a merge had to keep beside another one; nil
// if it has its own name. The caller releases its directory.
func (v *Verdict) keptBeside(live *handle.Dir, path string) (*inventory.Entry, error) {
	at := v.Plan.BesidePath(live, path)
	if at == path {
		return nil, nil
	}
	dir, name, err := live.Parent(at)
	if err != nil {
		return nil, handle.IgnoreMissing(err)
	}
	st, err := dir.Stat(name)
	e := &inventory.Entry{Path: at, Name: name, Stat: st, Dir: dir}
	if err == nil && st.IsSymlink() {
		e.Link, err = dir.Readlink(name)
	}
	if err != nil {
		dir.Release()
		return nil, handle.IgnoreMissing(err)
	}
	return e, nil
}

// readFrozen wants the frozen manifest and the spool, two witnesses, to say
// the same; one alone is not trusted with a deletion.
func (j *judge) readFrozen(runDir string, spool *transfer.Spool) error {
	entries := 0
	err := engine.Agree(runDir, spool, func() { entries++ })
	j.mu.Lock()
	defer j.mu.Unlock()
	j.grow(entries)
	return err
}

func blocks(size int64) int64 { return (size + 4095) / 4096 * 4096 }

// grow has the verdict know at least so many entries.
func (j *judge) grow(entries int) {
	if more := entries - len(j.Codes); more > 0 {
		j.Codes = append(j.Codes, make([]uint8, more)...)
	}
}

// set records what became of one entry; an empty code means it is proven.
func (j *judge) set(rec *transfer.Record, code finding.Code) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.grow(int(rec.Ord) + 1)
	j.Codes[rec.Ord] = uint8(slices.Index(Verdicts, code))
	j.count(rec, code)
}

// count adds an entry to the numbers and lists.
func (v *Verdict) count(rec *transfer.Record, code finding.Code) {
	frees := blocks(rec.Fact.Source.Size)
	if rec.Same != "" {
		frees = 0 // with the first name of the file
	}
	if code == "" {
		v.Frees += frees
		if !rec.IsDir() {
			v.Proven++
			v.Bytes += rec.Fact.Source.Size
		}
		return
	}
	if v.Cases == nil {
		v.Cases = map[finding.Code]*Listing{}
	}
	l := v.Cases[code]
	if l == nil {
		l = &Listing{}
		v.Cases[code] = l
	}
	l.Count++
	l.Frees += frees
	if len(l.Paths) < finding.Listed {
		l.Paths = append(l.Paths, filepath.Join(v.Live, rec.Path))
	}
}

// LeaveOut counts again without the entries that the held original has not any more: of
// these nothing can be lost, and nothing is freed. spool is the one that was judged by.
func (v *Verdict) LeaveOut(spool *transfer.Spool) {
	v.Proven, v.Bytes, v.Frees, v.Cases = 0, 0, 0, nil
	for c := transfer.Read(spool); c.Peek() != nil; c.Next() {
		rec := c.Peek()
		if rec.Ord >= int64(len(v.Codes)) {
			return
		}
		if v.Late.Lacks(rec.Ord) {
			v.Codes[rec.Ord] = 0
			continue
		}
		v.count(rec, Verdicts[v.Codes[rec.Ord]])
	}
}

func (j *judge) one(ctx context.Context, group *errgroup.Group, rec *transfer.Record, now *inventory.Entry) error {
	switch {
	case rec.IsDir() && now.Stat.IsDir():
		return j.equal(rec, now)
	case rec.Link != "" && now.Stat.IsSymlink() &&
		slices.Contains([]string{rec.LinkOf(engine.SideOf(j.Held).Other()), rec.Link, rec.Origin}, now.Link):
		// As the copy had it, as the held one has it, or as a bring-back put it again.
		return j.equal(rec, now)
	case !rec.IsRegular() && rec.Link == "" && rec.Type() == now.Stat.Type() &&
		(!now.Stat.IsDevice() || rec.Rdev == now.Stat.Rdev):
		return j.equal(rec, now) // a FIFO, socket or device has no content
	case !rec.IsRegular() || !now.Stat.IsRegular():
		j.set(rec, finding.ChangedSince)
	default:
		if len(j.lot.of) > 0 && hasSum(&j.lot.of[0].rec) != hasSum(rec) {
			j.hand(ctx, group)
		}
		one := reading{*rec, *now}
		one.now.Dir = now.Dir.Retain()
		j.lot.of = append(j.lot.of, one)
		if j.lot.size += now.Stat.Size; len(j.lot.of) >= j.most || j.lot.size >= lotBytes {
			j.hand(ctx, group)
		}
	}
	return nil
}

// hasSum reports whether a record tells of a file's content by its sum; one that was
// made from the manifest on the drive has the digest alone.
func hasSum(rec *transfer.Record) bool { return rec.Fact.Sum != transfer.Sum{} }

// contents reads files of the live folder, which are known in the same way.
func (j *judge) contents(ctx context.Context, l *lot) error {
	from := &j.readers
	if !hasSum(&l.of[0].rec) {
		from = &j.digests
	}
	r := from.Get().(*transfer.Reader)
	defer from.Put(r)
	l.files = l.files[:0]
	for i := range l.of {
		now := &l.of[i].now
		l.files = append(l.files, transfer.ReadFile{Dir: now.Dir, Name: now.Name, Size: now.Stat.Size})
	}
	r.ReadBackAll(ctx, l.files)
	for i := range l.of {
		if err := j.content(ctx, &l.of[i], &l.files[i]); err != nil {
			return err
		}
	}
	return nil
}

// content judges a file of the live folder that was read.
func (j *judge) content(ctx context.Context, one *reading, read *transfer.ReadFile) error {
	rec, now, err := &one.rec, &one.now, read.Err
	if handle.Missing(err) {
		j.set(rec, finding.GoneAtTarget)
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil && !unreadable(err) {
		return err // says nothing about the file
	}
	if j.progress != nil {
		j.progress.Advance(1, now.Stat.Size)
	}
	same := read.Digest == rec.Fact.Digest
	if hasSum(rec) {
		same = read.Sum == rec.Fact.Sum
	}
	if err == nil && same {
		return j.equal(rec, now)
	}
	j.set(rec, j.why(rec, now, err))
	return nil
}

// equal records an entry whose content is proven: that is all, or what is
// beside the content decides.
func (j *judge) equal(rec *transfer.Record, now *inventory.Entry) error {
	same, err := true, error(nil)
	if j.Meta {
		same, err = j.sameMeta(rec, now)
	}
	switch {
	case handle.Missing(err):
		j.set(rec, finding.GoneAtTarget)
	case err != nil:
		return err
	case same:
		j.set(rec, "")
	default:
		j.set(rec, finding.MetaDiffers)
	}
	return nil
}

// sameMeta reports whether an entry has the permissions, owner, attributes and
// hard links of the held one, as far as the drive can keep them. Times of files
// are not asked for: work moves them.
func (j *judge) sameMeta(rec *transfer.Record, now *inventory.Entry) (bool, error) {
	side := engine.SideOf(j.Held)
	merged := j.Plan.Traits().Merges // of what the target had already its own metadata stayed
	if !merged && rec.Untouched(side.Other(), &now.Stat) {
		return true, nil
	}
	if err := now.ReadXattrs(); err != nil {
		return false, err
	}
	allow := &j.Plan.Allow
	held, is := rec.Fact.Of(side), transfer.SnapOf(&now.Stat, now.Xattrs)
	if allow.MetaDiffers(held, &is, rec.Xattrs, now.Xattrs) != "" {
		return false, nil
	}
	if rec.IsDir() || allow.Links {
		return true, nil
	}
	if rec.Same == "" {
		return held.Nlink > 1 || is.Nlink <= 1, nil
	}
	dir, name, err := j.root.Parent(j.Plan.BesidePath(j.root, rec.Same))
	if err != nil {
		return false, handle.IgnoreMissing(err)
	}
	defer dir.Release()
	first, err := dir.Stat(name)
	return err == nil && first.SameInode(&now.Stat), handle.IgnoreMissing(err)
}

func (v *Verdict) digest() transfer.Digest {
	if v.Plan == nil {
		return transfer.SHA256
	}
	return cmp.Or(v.Plan.Digest, transfer.SHA256)
}

// unreadable tells a drive that can't give the content back from other
// troubles of reading: what read(2) and file systems with checksums answer.
func unreadable(err error) bool {
	return handle.Damaged(err)
}

// why tells a person's work from rot: work moves a time stamp.
func (j *judge) why(rec *transfer.Record, now *inventory.Entry, readErr error) finding.Code {
	made := rec.Fact.Of(engine.SideOf(j.Held).Other()) // the live folder, as it was
	switch {
	case readErr != nil:
		return finding.Rot
	case now.Stat.Size == rec.Fact.Source.Size && now.Stat.Mtime == rec.Fact.Source.Mtime:
		if (made.Ino == 0 || now.Stat.Ino == made.Ino) && now.Stat.Ctime == made.Ctime {
			return finding.Rot
		}
		return finding.ChangedQuiet
	}
	return finding.ChangedSince
}

// MayGo reports whether an entry of the held original may be deleted: it is
// proven, or a person accepted what became of it.
func (v *Verdict) MayGo(rec *transfer.Record, accepted map[finding.Code]bool) bool {
	if rec.Ord >= int64(len(v.Codes)) {
		return false
	}
	code := Verdicts[v.Codes[rec.Ord]]
	return code == "" || accepted[code]
}

// IsArchive says that what is held is an archive, which was read to its end.
func (v *Verdict) IsArchive() bool { return v.File }
