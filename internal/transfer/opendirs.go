package transfer

import (
	"sync"

	"nexlin/internal/handle"
)

// openDirs are the directories that pieces of work have in hand. What one that fails did
// not come to is let go with it: a handle has a lock.
type openDirs struct {
	mu   sync.Mutex
	uses map[*handle.Dir]int
}

// retain takes d once more for a piece of work.
func (o *openDirs) retain(d *handle.Dir) *handle.Dir { return o.own(d.Retain()) }

// own takes over a reference that there is.
func (o *openDirs) own(d *handle.Dir) *handle.Dir {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.uses == nil {
		o.uses = map[*handle.Dir]int{}
	}
	o.uses[d]++
	return d
}

// release gives one of them up.
func (o *openDirs) release(d *handle.Dir) {
	o.mu.Lock()
	if o.uses[d]--; o.uses[d] <= 0 {
		delete(o.uses, d)
	}
	o.mu.Unlock()
	d.Release()
}

// releaseAll gives up what is left once nobody works any more.
func (o *openDirs) releaseAll() {
	for d, n := range o.uses {
		for range n {
			d.Release()
		}
	}
	o.uses = nil
}
