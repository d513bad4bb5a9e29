package handle

import (
	"bytes"
	"encoding/binary"
	"iter"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// batch is how many names of a directory are held at once. A directory with
// more is read several times, each time for the next so many names in order:
// that needs no temporary file and the same memory for a million names as
// for this many.
const batch = 100_000

// Names lists the names in d in byte order, without "." and "..", all at
// once: for directories of Nexlin's own. The list is read from the start at
// each call.
func (d *Dir) Names() ([]string, error) {
	var all []string
	err := d.EachName(func(name string) error { all = append(all, name); return nil })
	return all, err
}

// EachName calls f for every name in d in byte order. Memory does not grow
// with the directory above some hundred thousand names. Names that come or
// go meanwhile may be missed or met. The first error of f ends it.
func (d *Dir) EachName(f func(name string) error) error {
	return d.eachName(batch, nil, f)
}

// EachNameBy is [Dir.EachName] in the order of a key; names with the same
// key come one after the other.
func (d *Dir) EachNameBy(key func(string) string, f func(name string) error) error {
	return d.eachName(batch, key, f)
}

// An item is a name with what it is ordered by before its own bytes.
type item struct{ key, name string }

func (a item) compare(b item) int {
	if c := strings.Compare(a.key, b.key); c != 0 {
		return c
	}
	return strings.Compare(a.name, b.name)
}

func (d *Dir) eachName(limit int, key func(string) string, f func(name string) error) error {
	l := lister{dir: d, limit: limit, key: key}
	for more := true; more; {
		var err error
		if more, err = l.next(); err != nil {
			return err
		}
		for _, n := range l.items {
			if err := f(n.name); err != nil {
				return err
			}
		}
		if n := len(l.items); n > 0 {
			l.last = l.items[n-1]
		}
	}
	return nil
}

// A lister reads a directory so many names at a time.
type lister struct {
	dir   *Dir
	limit int
	key   func(string) string // nil orders by the name alone
	last  item                // the items up to this one were given out
	below item                // once set, only smaller ones can be next
	items []item
}

// next reads the directory from its start and keeps the first items after
// last; more says that there are others behind them.
func (l *lister) next() (more bool, err error) {
	l.items, l.below = l.items[:0], item{}
	err = l.dir.eachBlock(func(block []byte) error {
		l.take(block)
		if len(l.items) >= 2*l.limit {
			more = true
			l.cut()
			l.below = l.items[len(l.items)-1]
		}
		return nil
	})
	more = more || len(l.items) > l.limit
	l.cut()
	return more, err
}

func (l *lister) cut() {
	slices.SortFunc(l.items, item.compare)
	l.items = l.items[:min(len(l.items), l.limit)]
}

// take keeps the names of a block that come next.
func (l *lister) take(block []byte) {
	for name := range dirents(block) {
		if l.key == nil && (string(name) <= l.last.name || l.below.name != "" && string(name) >= l.below.name) {
			continue
		}
		it := item{name: string(name)}
		if l.key != nil {
			it.key = l.key(it.name)
			if l.last.name != "" && it.compare(l.last) <= 0 || l.below.name != "" && it.compare(l.below) >= 0 {
				continue
			}
		}
		l.items = append(l.items, it)
	}
}

// dirents gives the names in a block of getdents64(2) records, without "."
// and "..": inode 8, offset 8, length 2, type 1, name up to a zero byte.
func dirents(block []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for len(block) >= 19 {
			size := int(binary.NativeEndian.Uint16(block[16:]))
			if size < 19 || size > len(block) {
				return
			}
			name := block[19:size]
			if i := bytes.IndexByte(name, 0); i >= 0 {
				name = name[:i]
			}
			block = block[size:]
			if string(name) == "." || string(name) == ".." {
				continue
			}
			if !yield(name) {
				return
			}
		}
	}
}

var blocks = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// eachBlock reads d from its start in blocks of getdents64(2) records, each
// valid during the call. The first error of f ends it.
func (d *Dir) eachBlock(f func(block []byte) error) error {
	if _, err := unix.Seek(d.fd, 0, 0); err != nil {
		return d.err("read", ".", err)
	}
	buf := blocks.Get().(*[]byte)
	defer blocks.Put(buf)
	for {
		n, err := callInt("getdents", func() (int, error) { return unix.Getdents(d.fd, *buf) })
		if err != nil {
			return d.err("read", ".", err)
		}
		if n == 0 {
			return nil
		}
		if err := f((*buf)[:n]); err != nil {
			return err
		}
	}
}

// EachStat looks at every entry in d in no order and calls f with what
// [Dir.Stat] says of it. Name and stat are valid during the call only. The
// first error of f ends it.
func (d *Dir) EachStat(f func(name []byte, st *Stat, err error) error) error {
	var st Stat
	return d.eachBlock(func(block []byte) error {
		for name := range dirents(block) {
			err := statxAt(d.fd, &name[0], 0, &st) // the zero byte follows in the block
			if err != nil {
				err = d.err("stat", string(name), err)
			}
			if err := f(name, &st, err); err != nil {
				return err
			}
		}
		return nil
	})
}
