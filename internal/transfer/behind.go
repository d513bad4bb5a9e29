package transfer

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"
)

// How much is flushed and read back in one go behind the copying: enough
// that flushing is rare, little enough that handles and memory stay few.
const (
	behindFiles = 1024
	behindBytes = 64 << 20
	behindDirs  = 128
)

// behind gathers copied files; once they are flushed they are read back.
type behind struct {
	reading
	flushes chan []readTask
	groups  chan []readTask

	mu      sync.Mutex
	pending []readTask
	bytes   int64
	dirs    int
}

// readBehind starts reading back behind the copying; nil without Overlap.
// It ends by itself when all has been copied.
func (p *pass) readBehind(group *errgroup.Group, copying *sync.WaitGroup) *behind {
	if !p.Overlap {
		return nil
	}
	quiet := p.Job
	quiet.Progress = nil // the copying tells it
	b := &behind{
		reading: reading{Job: &quiet, ctx: p.ctx, tally: &Tally{}},
		flushes: make(chan []readTask), groups: make(chan []readTask, p.Workers),
	}
	p.behind = b
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
func (b *behind) copied(ctx context.Context, t *task, f *Fact) error {
	if b == nil || f.Flags&Copied == 0 || f.Flags&(Again|Verified) != 0 {
		return nil
	}
	b.mu.Lock()
	if n := len(b.pending); n == 0 || b.pending[n-1].dir != t.node.dst {
		b.dirs++
	}
	b.pending = append(b.pending, readTask{t.node.dst.Retain(), t.as, t.path, t.ord, f.Copy, *f})
	b.bytes += f.Source.Size
	b.mu.Unlock()
	return b.send(ctx, b.take(false))
}

// take gives what was gathered, if it is enough or nothing more comes.
func (b *behind) take(all bool) []readTask {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !all && len(b.pending) < behindFiles && b.bytes < behindBytes && b.dirs < behindDirs {
		return nil
	}
	out := b.pending
	b.pending, b.bytes, b.dirs = nil, 0, 0
	return out
}

func (b *behind) send(ctx context.Context, tasks []readTask) error {
	if len(tasks) == 0 {
		return nil
	}
	select {
	case b.flushes <- tasks:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// flush flushes the whole copy for each lot and hands it on to be read.
// Where every file was flushed by itself, nothing is left to flush.
func (b *behind) flush() error {
	for tasks := range b.flushes {
		if !b.SyncEach {
			if err := b.Part.Dir.SyncAll(); err != nil {
				return err
			}
		}
		for len(tasks) > 0 {
			n := min(len(tasks), groupFiles)
			select {
			case b.groups <- tasks[:n]:
				tasks = tasks[n:]
			case <-b.ctx.Done():
				return b.ctx.Err()
			}
		}
	}
	return nil
}
