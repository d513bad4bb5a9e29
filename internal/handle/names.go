package handle

import (
	"iter"
	"slices"
	"strings"
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
	err = l.dir.eachBlock(func(names iter.Seq[[]byte]) error {
		l.take(names)
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
func (l *lister) take(names iter.Seq[[]byte]) {
	for name := range names {
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

// EachStat looks at every entry in d in no order and calls f with what
// [Dir.Stat] says of it. Name and stat are valid during the call only. The
// first error of f ends it.
func (d *Dir) EachStat(f func(name []byte, st *Stat, err error) error) error {
	var st Stat
	return d.eachBlock(func(names iter.Seq[[]byte]) error {
		for name := range names {
			err := statListed(d.fd, name, &st)
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
