package ledger

import (
	"maps"
	"sync"
)

// An actKey names one act.
type actKey struct {
	run string
	seq int64
}

// dones are the acts of this process that are done and not said to be so in the database
// yet: that goes with whatever is written next. Lost with the process it says no more than
// a process that was killed just before: whoever goes on looks at the disks.
type dones struct {
	mu sync.Mutex
	at map[actKey]string // when, as it stands in the ledger
}

func (d *dones) add(k actKey, at string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.at[k] = at
}

func (d *dones) all() map[actKey]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return maps.Clone(d.at)
}

// written forgets those that are in the database.
func (d *dones) written(these map[actKey]string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for k := range these {
		delete(d.at, k)
	}
}

// told completes acts that were read by what is not written yet.
func (d *dones) told(run string, acts []Act) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range acts {
		if at, ok := d.at[actKey{run, acts[i].Seq}]; ok {
			acts[i].Done = parseTime(at)
		}
	}
}

func (t *Tx) say(these map[actKey]string) error {
	for k, at := range these {
		if _, err := t.tx.Exec("UPDATE acts SET done = ? WHERE run = ? AND seq = ?", at, k.run, k.seq); err != nil {
			return err
		}
	}
	return nil
}
