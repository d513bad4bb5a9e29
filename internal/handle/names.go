package handle

import (
	"bytes"
	"cmp"
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
	return d.eachName(batch, nil, func(name string, _ bool) error { return f(name) })
}

// EachTyped is [Dir.EachName]; mayBeDir is false for what the directory says is
// none (getdents64(2)).
func (d *Dir) EachTyped(f func(name string, mayBeDir bool) error) error {
	return d.eachName(batch, nil, f)
}

// EachNameBy is [Dir.EachName] in the order of a key; names with the same
// key come one after the other.
func (d *Dir) EachNameBy(key func(string) string, f func(name string) error) error {
	return d.eachName(batch, key, func(name string, _ bool) error { return f(name) })
}

func (d *Dir) eachName(limit int, key func(string) string, f func(name string, mayBeDir bool) error) error {
	l := lister{dir: d, limit: limit, order: key}
	for more := true; more; {
		var err error
		if more, err = l.next(); err != nil {
			return err
		}
		for _, it := range l.items {
			if err := f(string(l.name(it)), it.mayBeDir); err != nil {
				return err
			}
		}
		if n := len(l.items); n > 0 {
			l.last = l.place(l.items[n-1])
		}
	}
	return nil
}

// A lister reads a directory so many names at a time.
type lister struct {
	dir   *Dir
	limit int
	order func(string) string // nil orders by the name alone
	last  place               // the names up to this one were given out
	below place               // once set, only smaller ones can be next
	items []item
	text  []byte // keys and names of the items; as strings of their own they would take three times as much
}

// A place is where a name stands in the order.
type place struct{ key, name string }

// An item is a name in the text of its lister, behind the key that it is ordered
// by before its own bytes.
type item struct {
	at        uint32
	key, name uint16 // their lengths
	mayBeDir  bool
}

func (l *lister) key(it item) []byte  { return l.text[it.at : it.at+uint32(it.key)] }
func (l *lister) name(it item) []byte { return l.text[it.at+uint32(it.key):][:it.name] }
func (l *lister) place(it item) place { return place{string(l.key(it)), string(l.name(it))} }

func (l *lister) compare(a, b item) int {
	return cmp.Or(bytes.Compare(l.key(a), l.key(b)), bytes.Compare(l.name(a), l.name(b)))
}

// next reads the directory from its start and keeps the first names after
// last; more says that there are others behind them.
func (l *lister) next() (more bool, err error) {
	l.items, l.text, l.below = l.items[:0], l.text[:0], place{}
	err = l.dir.eachBlock(func(names iter.Seq2[[]byte, bool]) error {
		l.take(names)
		if len(l.items) >= 2*l.limit {
			more = true
			l.cut()
			l.below = l.place(l.items[len(l.items)-1])
		}
		return nil
	})
	more = more || len(l.items) > l.limit
	l.cut()
	return more, err
}

// cut leaves the first names in their order.
func (l *lister) cut() {
	slices.SortFunc(l.items, l.compare)
	if len(l.items) <= l.limit {
		return
	}
	l.items = l.items[:l.limit]
	text := make([]byte, 0, len(l.text))
	for i := range l.items {
		it := &l.items[i]
		at := len(text)
		text = append(text, l.text[it.at:][:int(it.key)+int(it.name)]...)
		it.at = uint32(at)
	}
	l.text = text
}

// take keeps the names of a block that come next.
func (l *lister) take(names iter.Seq2[[]byte, bool]) {
	for name, mayBeDir := range names {
		key := ""
		if l.order != nil {
			key = l.order(string(name))
		}
		if l.last.name != "" && l.last.compare(key, name) >= 0 ||
			l.below.name != "" && l.below.compare(key, name) <= 0 {
			continue
		}
		l.items = append(l.items, item{uint32(len(l.text)), uint16(len(key)), uint16(len(name)), mayBeDir})
		l.text = append(append(l.text, key...), name...)
	}
}

// compare tells where a name with that key stands: after p if it is less than 0.
func (p place) compare(key string, name []byte) int {
	if c := strings.Compare(p.key, key); c != 0 {
		return c
	}
	switch {
	case p.name == string(name):
		return 0
	case p.name < string(name):
		return -1
	}
	return 1
}

// EachStat looks at every entry in d in no order and calls f with what
// [Dir.Stat] says of it. Name and stat are valid during the call only. The
// first error of f ends it.
func (d *Dir) EachStat(f func(name []byte, st *Stat, err error) error) error {
	var st Stat
	return d.eachBlock(func(names iter.Seq2[[]byte, bool]) error {
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
