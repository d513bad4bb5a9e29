// Package hardlink remembers which names of a folder are one file.
//
// A [Table] maps an inode to the first name it was met under and counts the
// names. It lies in memory while it is small and in a database file
// afterwards, so that a folder of a million hard links needs no more memory
// than one of some thousand. It does not look at files itself.
package hardlink

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/url"
	"os"
	"sync"

	_ "modernc.org/sqlite" // the driver
)

// held is how many inodes lie in memory: with their paths, a few MiB.
const held = 20_000

// An ID names a file while its file system is mounted: overlays have files of
// several devices.
type ID struct{ Dev, Ino uint64 }

// A Table may be used by several goroutines.
type Table struct {
	dir string

	mu    sync.Mutex
	known map[ID]*inode
	limit int
	db    *sql.DB
	tx    *sql.Tx
	add   *sql.Stmt
	look  *sql.Stmt
}

type inode struct {
	first string
	ord   int64
	names uint32 // names the file has anywhere
	found uint32 // of these, how many were met
}

// New makes an empty table. dir is where its file lies should it outgrow
// memory; the file has no name for longer than it takes to open it. Where
// there is no such directory, as before the first run, the table stays in
// memory.
func New(dir string) *Table { return &Table{dir: dir, known: map[ID]*inode{}, limit: held} }

// Add notes one name of a file that has names names in all, with a number of the
// caller's, and returns the name and number it was met under first: its own if
// this is the first.
func (t *Table) Add(id ID, names uint32, path string, ord int64) (first string, firstOrd int64, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.db == nil {
		if n := t.known[id]; n != nil {
			n.found++
			n.names = max(n.names, names)
			return n.first, n.ord, nil
		}
		if len(t.known) < t.limit {
			t.known[id] = &inode{path, ord, names, 1}
			return path, ord, nil
		}
		err := t.spill()
		if errors.Is(err, fs.ErrNotExist) {
			t.limit = math.MaxInt
			t.known[id] = &inode{path, ord, names, 1}
			return path, ord, nil
		}
		if err != nil {
			return "", 0, t.err(err)
		}
	}
	var stored []byte
	err = t.look.QueryRow(int64(id.Dev), int64(id.Ino)).Scan(&stored, &firstOrd)
	if errors.Is(err, sql.ErrNoRows) {
		stored, firstOrd, err = []byte(path), ord, nil
	}
	if err == nil {
		_, err = t.add.Exec(int64(id.Dev), int64(id.Ino), []byte(path), ord, names)
	}
	return string(stored), firstOrd, t.err(err)
}

func (t *Table) err(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("table of hard links in %s: %w", t.dir, err)
}

// spill moves what is known to a database file.
func (t *Table) spill() error {
	f, err := os.CreateTemp(t.dir, "hard-links-")
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	defer os.Remove(f.Name()) // open by then, or of no use
	// Nothing of it is needed after a stop: no journal, no flushing.
	t.db, err = sql.Open("sqlite", (&url.URL{Scheme: "file", Path: f.Name()}).String())
	if err != nil {
		return err
	}
	t.db.SetMaxOpenConns(1)
	_, err = t.db.Exec(`pragma journal_mode=off; pragma synchronous=off; pragma locking_mode=exclusive;
		create table inodes (dev integer, ino integer, first blob, ord integer, names integer, found integer,
			primary key (ino, dev)) without rowid`)
	if err != nil {
		return err
	}
	if t.tx, err = t.db.Begin(); err != nil {
		return err
	}
	if t.look, err = t.tx.Prepare(`select first, ord from inodes where dev = ? and ino = ?`); err != nil {
		return err
	}
	t.add, err = t.tx.Prepare(
		`insert into inodes values (?, ?, ?, ?, ?, 1)
			on conflict do update set found = found + 1, names = max(names, excluded.names)`)
	if err != nil {
		return err
	}
	for id, n := range t.known {
		if _, err := t.tx.Exec(`insert into inodes values (?, ?, ?, ?, ?, ?)`, int64(id.Dev), int64(id.Ino),
			[]byte(n.first), n.ord, n.names, n.found); err != nil {
			return err
		}
	}
	t.known = nil
	return nil
}

// Outside calls f for every inode of which some names were not met: they
// lie elsewhere. first is the first name that was met.
func (t *Table) Outside(f func(first string)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, n := range t.known {
		if n.found < n.names {
			f(n.first)
		}
	}
	if t.db == nil {
		return nil
	}
	rows, err := t.tx.Query(`select first from inodes where found < names`)
	if err != nil {
		return t.err(err)
	}
	defer rows.Close()
	for rows.Next() {
		var first []byte
		if err := rows.Scan(&first); err != nil {
			return t.err(err)
		}
		f(string(first))
	}
	return t.err(rows.Err())
}

// Close gives the table's file up. A nil table is closed already.
func (t *Table) Close() error {
	if t == nil || t.db == nil {
		return nil
	}
	return errors.Join(t.tx.Commit(), t.db.Close())
}
