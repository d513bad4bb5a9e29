//go:build linux

package lab

import (
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
)

// A Reader stats and opens files through a link path in a tight loop, as a
// program would that must not notice anything (I1).
type Reader struct {
	stop  atomic.Bool
	count atomic.Int64
	first atomic.Pointer[error]
	done  sync.WaitGroup
}

// Read starts a reader of some files, relative to the folder.
func Read(folder string, files ...string) *Reader {
	r := &Reader{}
	r.done.Go(func() {
		for !r.stop.Load() {
			for _, f := range files {
				if err := readOnce(filepath.Join(folder, f)); err != nil {
					r.first.CompareAndSwap(nil, &err)
				}
				r.count.Add(1)
			}
		}
	})
	return r
}

func readOnce(path string) error {
	if _, err := os.Stat(path); err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Read(make([]byte, 1))
	return err
}

// Stop ends the reader and fails the test if it ever failed.
func (r *Reader) Stop(t testing.TB) {
	t.Helper()
	r.stop.Store(true)
	r.done.Wait()
	if err := r.first.Load(); err != nil {
		t.Errorf("the link path failed: %v", *err)
	}
	if r.count.Load() < 100 {
		t.Errorf("the reader read only %d times; it proves nothing", r.count.Load())
	}
	t.Logf("%d reads through the link path, none failed", r.count.Load())
}
