// Package ledger keeps what Nexlin must not forget: the redirects, the held
// originals, and the runs with their journals.
//
// It is an SQLite database in the state directory, with full synchronous
// writes; the journal of a run is rows in it: intent first, then the act,
// then done. Beside it each run has a directory of its own for its spool and
// the frozen manifest.
//
// It does not look at drives or folders; what a row means is decided by
// package redirect. The tables are described in format.go.
package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// A Ledger is open until Close. It may be used from several goroutines.
type Ledger struct {
	dir      string
	db       *sql.DB   // nil for the ledger of a state directory that does not exist yet
	prepared *sync.Map // *sql.Stmt by its text: what is asked of each redirect is parsed once
	write    bool
	done     *dones
}

// A StateDirError refuses a state directory that others could write to.
type StateDirError struct {
	Dir string
	Why string
}

func (e *StateDirError) Error() string { return fmt.Sprintf("state directory %s: %s", e.Dir, e.Why) }

// IsDrive reports an error of the ledger's own drive: it is full, can only be
// read, or fails.
func IsDrive(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN:
		return true
	}
	return false
}

// IsFull reports that the ledger's own drive is full.
func IsFull(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_FULL
}

// A DamagedError reports a database that can't be read. What it told of is where
// it was: folders, links, drives, and the records of each run beside the database.
type DamagedError struct {
	File string
	Err  error
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("the records in %s can't be read: %v", e.File, e.Err)
}
func (e *DamagedError) Unwrap() error { return e.Err }

// damaged makes an error about the database a *DamagedError if it says that the
// file is none, or is broken.
func damaged(path string, err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) {
		if c := e.Code() & 0xff; c == sqlite3.SQLITE_NOTADB || c == sqlite3.SQLITE_CORRUPT {
			return &DamagedError{path, err}
		}
	}
	return err
}

// ErrNotFound reports a name or an id that is not in the ledger.
var ErrNotFound = errors.New("not in the ledger")

// Open opens the ledger in dir for writing and makes it if it is missing.
// A directory of another account's, or one that others may write to, is a
// *StateDirError.
func Open(dir string) (*Ledger, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := checkDir(dir); err != nil {
		return nil, err
	}
	l, err := open(dir, true)
	if err == nil {
		l.keepSpare()
		l.sweep()
	}
	return l, err
}

// OpenForReading opens the ledger in dir and changes nothing. One that does
// not exist reads as empty.
func OpenForReading(dir string) (*Ledger, error) {
	if _, err := os.Stat(filepath.Join(dir, dbName)); errors.Is(err, fs.ErrNotExist) {
		return &Ledger{dir: dir}, nil
	} else if err != nil {
		return nil, err
	}
	if err := checkDir(dir); err != nil {
		return nil, err
	}
	// A commit that was cut off is rolled back first: the database says nothing
	// sure before.
	if fi, err := os.Stat(filepath.Join(dir, dbName+"-journal")); err == nil && fi.Size() > 0 {
		if err := touch(dir); err != nil {
			return nil, err
		}
	}
	l, err := open(dir, false)
	if !errors.Is(err, errOlder) {
		return l, err
	}
	if err = touch(dir); IsDrive(err) { // where it can't be written to, it may do as it is
		return openFrom(dir, false, readable)
	}
	if err != nil {
		return nil, err
	}
	return open(dir, false)
}

// errOlder reports a ledger that an older Nexlin has written.
var errOlder = errors.New("it is of an older version")

// touch opens the database for writing, which rolls back what was cut off and
// brings an older one up to date.
func touch(dir string) error {
	l, err := open(dir, true)
	if err != nil {
		return err
	}
	return l.Close()
}

// Again opens a ledger that did not exist when it was opened for reading, if it
// does now: for a process that stays.
func (l *Ledger) Again() error {
	if l.db != nil {
		return nil
	}
	now, err := OpenForReading(l.dir)
	if err == nil {
		*l = *now
	}
	return err
}

// noFile refuses what is there and is no file: a FIFO would keep whoever opens it
// waiting for ever.
func noFile(path string) error {
	if fi, err := os.Lstat(path); err == nil && !fi.Mode().IsRegular() {
		return &StateDirError{filepath.Dir(path), filepath.Base(path) + " is no file"}
	}
	return nil
}

func checkDir(dir string) error {
	fi, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if !fi.IsDir() {
		return &StateDirError{dir, "it is no directory"}
	}
	return checkOwner(dir)
}

// open opens the database. Its rollback journal is truncated and flushed to commit: one
// that is deleted may be there again after a power cut, and takes the last commit back,
// of which something was done already.
func open(dir string, write bool) (*Ledger, error) { return openFrom(dir, write, len(migrations)) }

// openFrom is [open] of a ledger that may be of that version when it is only read.
func openFrom(dir string, write bool, oldest int) (*Ledger, error) {
	q := url.Values{"_pragma": {"busy_timeout(10000)", "synchronous(FULL)", "journal_mode(TRUNCATE)",
		"foreign_keys(1)"},
		"_txlock": {"immediate"}}
	if !write {
		q.Set("mode", "ro")
	}
	path := filepath.Join(dir, dbName)
	if err := errors.Join(noFile(path), noFile(path+"-journal")); err != nil {
		return nil, err
	}
	if fi, err := os.Stat(path); err == nil && fi.Size() == 0 {
		if runs, err := os.ReadDir(filepath.Join(dir, "runs")); err == nil && len(runs) > 0 {
			return nil, &DamagedError{path, errors.New("it is empty, although there were runs")}
		}
	}
	uri := filepath.ToSlash(path)
	if filepath.VolumeName(path) != "" {
		uri = "/" + uri // file:///C:/…
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: uri, RawQuery: q.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	l := &Ledger{dir: dir, db: db, prepared: &sync.Map{}, write: write,
		done: &dones{at: map[actKey]string{}}}
	if err := l.migrate(oldest); err != nil {
		db.Close()
		return nil, damaged(path, fmt.Errorf("ledger %s: %w", path, err))
	}
	return l, nil
}

// Close closes the database.
func (l *Ledger) Close() error {
	if l.db == nil {
		return nil
	}
	return l.db.Close()
}

// Dir is the state directory.
func (l *Ledger) Dir() string { return l.dir }

func (l *Ledger) migrate(oldest int) error {
	var have int
	if err := l.db.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	if have > len(migrations) {
		return fmt.Errorf("it was written by a newer Nexlin (version %d, this one knows %d)", have, len(migrations))
	}
	if have == len(migrations) || !l.write && have >= oldest {
		return nil
	}
	if !l.write {
		if have == 0 { // made, and not yet filled, by a run that is starting
			l.db.Close()
			l.db = nil
			return nil
		}
		return errOlder
	}
	_ = l.UseSpare() // the drive may be full, and the way out of that be asked for
	return l.Do(func(tx *Tx) error {
		// Another process may have been quicker.
		if err := tx.tx.QueryRow("PRAGMA user_version").Scan(&have); err != nil {
			return err
		}
		for _, m := range migrations[min(have, len(migrations)):] {
			if _, err := tx.tx.Exec(m); err != nil {
				return err
			}
		}
		_, err := tx.tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", len(migrations)))
		return err
	})
}

// A Tx is one transaction: all of it or nothing is in the ledger.
type Tx struct{ tx *sql.Tx }

// Do runs f in a transaction. When it returns nil, the rows are on the
// device.
func (l *Ledger) Do(f func(*Tx) error) error {
	tx, err := l.db.Begin()
	if err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	t, done := &Tx{tx}, l.done.all()
	err = t.say(done)
	if err == nil {
		err = f(t)
	}
	if err != nil {
		return errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	l.done.written(done)
	return nil
}

// timeText is how times stand in the ledger: RFC 3339 in UTC.
func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func parseTime(s string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return time.Time{} // the empty text: not yet
	}
	return t
}
