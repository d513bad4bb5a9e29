package transfer

import (
	"context"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/handle"
)

// How much is flushed and read back in one go behind the copying: enough
// that flushing is rare, little enough that handles and memory stay few.
const (
	backlogFiles = 1024
	backlogBytes = 64 << 20
	backlogDirs  = 128
)

// backlog gathers copied files; once they are flushed they are read back.
type backlog struct {
	reading
	flushes chan [][]readTask
	groups  chan []readTask

	mu      sync.Mutex
	pending [][]readTask // in groups
	files   int          // and segments
	bytes   int64
	dirs    int
}

// readBacklog starts reading back behind the copying; nil without Overlap.
// It ends by itself when all has been copied.
func (p *pass) readBacklog(group *errgroup.Group, copying *sync.WaitGroup) *backlog {
	if !p.Overlap {
		return nil
	}
	quiet := p.Job
	quiet.Progress = nil // the copying tells it
	b := &backlog{
		reading: reading{Job: &quiet, ctx: p.ctx, tally: &Tally{}},
		flushes: make(chan [][]readTask), groups: make(chan []readTask, p.Workers),
	}
	p.backlog = b
	group.Go(func() error {
		copying.Wait()
		defer close(b.flushes)
		return b.send(p.ctx, b.take(true))
	})
	group.Go(func() error {
		defer close(b.groups)
		return b.flush()
	})
	for range p.Workers {
		group.Go(func() error { return b.readAll(b.groups) })
	}
	return b
}

// copied takes a file that was just copied.
func (b *backlog) copied(ctx context.Context, t *task, f *Fact) error {
	if b == nil || f.Flags&Copied == 0 || f.Flags&(Again|Verified) != 0 {
		return nil
	}
	rt := readTask{dir: t.node.dst, name: t.as, path: t.path, ord: t.ord, now: f.Copy, fact: *f}
	if t.back != nil {
		whole := rt
		t.back.task.Store(&whole)
		return b.landed(t.back)
	}
	b.open.retain(rt.dir)
	return b.add(ctx, rt, f.Source.Size)
}

// segments gives the function that sends the finished segments of a large
// file to be read back while the rest is copied; nil for any other, and where
// a file is flushed only when it is whole.
func (b *backlog) segments(ctx context.Context, t *task, size int64) func(int, Sum) {
	if b == nil || b.flushesEach() || size < 2*segment || t.lent != nil {
		return nil
	}
	t.back = &largeFile{}
	t.back.left.Store(1) // the copying itself
	return func(n int, sum Sum) {
		t.back.left.Add(1)
		// Only the end of the whole pass keeps it from being sent.
		_ = b.add(ctx, readTask{dir: b.open.retain(t.node.dst), name: t.as, path: t.path, large: t.back, n: n,
			now: Snap{Size: min(segment, size-int64(n)*segment)}, fact: Fact{Sum: sum}}, segment)
	}
}

// A largeFile counts what has to come back of a file before it is known to
// be whole: its segments, and the end of its copying.
type largeFile struct {
	left   atomic.Int32
	broken atomic.Bool // a segment came back different
	cached atomic.Bool // or may not have come from the device
	task   atomic.Pointer[readTask]
}

// landed counts one of them; with the last one the file is known to be
// whole, or not.
func (v *reading) landed(l *largeFile) error {
	if l.left.Add(-1) > 0 {
		return nil
	}
	t := l.task.Load()
	if l.broken.Load() {
		return v.differs(t.path, t.ord, &t.fact, "content")
	}
	v.tally.readBack.Add(1)
	if !l.cached.Load() {
		v.tally.device.Add(1)
	}
	return v.holds(t.ord, &t.fact, &t.now)
}

// segment reads one back.
func (v *reading) segment(r *Reader, t *readTask) error {
	sum, device, err := r.readSegment(v.ctx, t.dir, t.name, t.n, t.now.Size)
	if err != nil {
		return err
	}
	if sum != t.fact.Sum {
		t.large.broken.Store(true)
	}
	if !device {
		t.large.cached.Store(true)
	}
	return v.landed(t.large)
}

func (b *backlog) add(ctx context.Context, t readTask, size int64) error {
	b.mu.Lock()
	n := len(b.pending) - 1
	if n < 0 || b.pending[n][len(b.pending[n])-1].dir != t.dir {
		b.dirs++
	}
	if n < 0 || len(b.pending[n]) == groupFiles {
		b.pending = append(b.pending, readLots.empty())
		n++
	}
	b.pending[n] = append(b.pending[n], t)
	b.files++
	b.bytes += size
	b.mu.Unlock()
	return b.send(ctx, b.take(false))
}

// take gives what was gathered, if it is enough or nothing more comes.
func (b *backlog) take(all bool) [][]readTask {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !all && b.files < backlogFiles && b.bytes < backlogBytes && b.dirs < backlogDirs {
		return nil
	}
	out := b.pending
	b.pending, b.files, b.bytes, b.dirs = nil, 0, 0, 0
	return out
}

func (b *backlog) send(ctx context.Context, groups [][]readTask) error {
	if len(groups) == 0 {
		return nil
	}
	return send(ctx, b.flushes, groups)
}

// flush flushes the whole copy for each lot, what was recorded of it first, and
// hands it on to be read.
// Where every file was flushed by itself, nothing is left to flush.
func (b *backlog) flush() error {
	for groups := range b.flushes {
		if !b.flushesEach() {
			if err := handle.InOrder(b.New.SyncMade, b.Part.Dir.SyncAll); err != nil {
				return err
			}
		}
		for _, group := range groups {
			if err := send(b.ctx, b.groups, group); err != nil {
				return err
			}
		}
	}
	return nil
}
