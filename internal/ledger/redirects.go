package ledger

import (
	"bytes"
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"nexlin/internal/pathtext"
)

// What the ledger itself knows of a redirect; whether it is good is found
// out by looking.
const (
	Linked   = "linked"
	Detached = "detached"
	Ended    = "ended" // brought back; kept for its held originals
)

// A DriveRef is by what a drive is known again.
type DriveRef struct {
	ID       string `json:"id"` // drive tag, or UUID where there is no tag
	Label    string `json:"label"`
	UUID     string `json:"uuid"`
	Mount    string `json:"mount"`             // where it was mounted
	TagPlace string `json:"tag_place"`         // directory of the tag, relative to the mount; "." is its root
	Counter  int64  `json:"counter,omitempty"` // what the tag counted after the run; 0 where that is not known
}

// Identity is what the drive is called by in documents, as drive.Drive has it.
func (d *DriveRef) Identity() string { return cmp.Or(d.UUID, d.ID) }

// A Redirect is a row of the ledger. Bytes and Files are those of the move.
type Redirect struct {
	Name    string
	State   string
	Link    string
	Target  string
	Methods []string
	Account string
	UID     uint32
	Drive   DriveRef // of the target
	// LinkDrive is the drive that the link stands on; without a mount point
	// where an older build did not note it.
	LinkDrive DriveRef
	Bytes     int64
	Files     int64
	Created   time.Time
	Run       string
	// Settings is what was changed in settings files, as JSON of package
	// redirect; nil if nothing was.
	Settings json.RawMessage `json:",omitempty"`
	Card     string          // the card it was made by; empty without one
	Text     string          // what a junction says, see package link; empty: the link says the target's path
}

// Equal reports whether two rows say the same.
func (r *Redirect) Equal(o *Redirect) bool {
	a, err := pathtext.Marshal(r)
	b, err2 := pathtext.Marshal(o)
	return err == nil && err2 == nil && string(a) == string(b)
}

// Live is where the data of r is in use, and the drive of that: at the target, or
// at the link path once it was brought back.
func (r *Redirect) Live() (path string, on DriveRef) {
	if r.State == Ended {
		return r.Link, r.LinkDrive
	}
	return r.Target, r.Drive
}

// LinkText is what the link of r says.
func (r *Redirect) LinkText() string {
	if r.Text != "" {
		return r.Text
	}
	return r.Target
}

// A Held is a held original: the folder as it was, or after a bring-back
// the target, set aside until a person discards it.
type Held struct {
	ID       int64
	Redirect string
	Run      string
	Path     string
	Copy     bool // the copy that the run made, set aside; else what the run copied
	Ino      uint64
	Bytes    int64 // blocks it takes
	Files    int64
	Drive    DriveRef
	Since    time.Time
	Gone     time.Time // zero while it is held
}

// HeldBytes is what several take together.
func HeldBytes(hs []Held) (n int64) {
	for _, h := range hs {
		n += h.Bytes
	}
	return n
}

const redirectColumns = "name, state, link, target, methods, account, uid, drive, bytes, files, created, run, " +
	"settings, card, link_text, link_drive"

type scanner interface{ Scan(...any) error }

// driveRefs are drives as rows name them, read once each: a thousand rows name the same two,
// and differ in what their tags counted. They are without that here.
type driveRefs map[string]DriveRef

func (d driveRefs) read(text []byte, into *DriveRef) error {
	head, counter := cutCounter(text)
	known, ok := d[string(head)]
	if !ok {
		if err := pathtext.Unmarshal(text, into); err != nil {
			return err
		}
		d[string(head)] = *into
		return nil
	}
	*into = known
	into.Counter = counter
	return nil
}

// cutCounter takes off the counter of a drive as [Tx.SaveRedirect] writes it, last; no string can
// look like that, since its quotation marks are escaped. Without one all of it is the head.
func cutCounter(text []byte) (head []byte, counter int64) {
	head, rest, found := bytes.Cut(text, []byte(`,"counter":`))
	digits, whole := bytes.CutSuffix(rest, []byte("}"))
	n, err := strconv.ParseInt(string(digits), 10, 64)
	if !found || !whole || err != nil || strconv.FormatInt(n, 10) != string(digits) {
		return text, 0 // JSON says what is no number
	}
	return head, n
}

func (d driveRefs) redirect(s scanner) (Redirect, error) {
	var r Redirect
	var link, target, drive, settings, linkDrive []byte
	var methods, created string
	err := s.Scan(&r.Name, &r.State, &link, &target, &methods, &r.Account, &r.UID, &drive, &r.Bytes, &r.Files,
		&created, &r.Run, &settings, &r.Card, &r.Text, &linkDrive)
	if err != nil {
		return r, err
	}
	if string(settings) != "[]" {
		r.Settings = settings
	}
	r.Link, r.Target, r.Methods, r.Created = string(link), string(target), strings.Split(methods, "+"),
		parseTime(created)
	if err := d.read(linkDrive, &r.LinkDrive); err != nil {
		return r, err
	}
	return r, d.read(drive, &r.Drive)
}

// Redirects lists the redirects by name; with ended also those that were
// brought back.
func (l *Ledger) Redirects(ended bool) ([]Redirect, error) {
	return list(l, driveRefs{}.redirect,
		"SELECT "+redirectColumns+" FROM redirects WHERE ? OR state <> ? ORDER BY name", ended, Ended)
}

// Redirect gives one; ErrNotFound if there is none of this name.
func (l *Ledger) Redirect(name string) (Redirect, error) {
	return one(l, driveRefs{}.redirect, "SELECT "+redirectColumns+" FROM redirects WHERE name = ?", name)
}

// Redirect gives one; ErrNotFound if there is none of this name.
func (t *Tx) Redirect(name string) (Redirect, error) {
	r, err := driveRefs{}.redirect(t.tx.QueryRow("SELECT "+redirectColumns+" FROM redirects WHERE name = ?", name))
	if errors.Is(err, sql.ErrNoRows) {
		return r, ErrNotFound
	}
	return r, err
}

// SaveRedirect inserts a redirect or replaces the one of its name, and
// remembers what the tag of its drive counts: a copy of the drive is known by
// that also when no redirect is left on it.
func (t *Tx) SaveRedirect(r Redirect) error {
	drive, err := pathtext.Marshal(r.Drive)
	if err != nil {
		return err
	}
	linkDrive, err := pathtext.Marshal(r.LinkDrive)
	if err != nil {
		return err
	}
	settings := r.Settings
	if len(settings) == 0 || string(settings) == "null" {
		settings = json.RawMessage("[]")
	}
	_, err = t.tx.Exec("INSERT OR REPLACE INTO redirects ("+redirectColumns+
		") VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
		r.Name, r.State, []byte(r.Link), []byte(r.Target), strings.Join(r.Methods, "+"), r.Account, r.UID, drive,
		r.Bytes, r.Files, timeText(r.Created), r.Run, []byte(settings), r.Card, r.Text, linkDrive)
	if err != nil || r.Drive.ID == "" || r.Drive.Counter == 0 {
		return err
	}
	_, err = t.tx.Exec("INSERT INTO drives (id, counter) VALUES (?,?) ON CONFLICT (id) DO UPDATE SET counter = "+
		"max(counter, excluded.counter)", r.Drive.ID, r.Drive.Counter)
	return err
}

// Counters gives the highest count of runs that was seen on each drive, by the
// id of its tag.
func (l *Ledger) Counters() (map[string]int64, error) {
	type counted struct {
		id string
		n  int64
	}
	all, err := list(l, func(s scanner) (c counted, err error) {
		err = s.Scan(&c.id, &c.n)
		return c, err
	}, "SELECT id, counter FROM drives")
	out := map[string]int64{}
	for _, c := range all {
		out[c.id] = c.n
	}
	return out, err
}

// Forget takes a redirect out, with what is held of it and the runs of these
// ids. Archives that were made of it stay known.
func (t *Tx) Forget(name string, runs []string) error {
	for _, id := range runs {
		for _, q := range []string{"DELETE FROM acts WHERE run = ?", "DELETE FROM runs WHERE id = ?"} {
			if _, err := t.tx.Exec(q, id); err != nil {
				return err
			}
		}
	}
	if _, err := t.tx.Exec("DELETE FROM held WHERE redirect = ?", name); err != nil {
		return err
	}
	return t.RemoveRedirect(name)
}

// RemoveRedirect takes a redirect out: its move was undone.
func (t *Tx) RemoveRedirect(name string) error {
	_, err := t.tx.Exec("DELETE FROM redirects WHERE name = ?", name)
	return err
}

const heldColumns = "id, redirect, run, path, side, ino, bytes, files, drive, since, gone"

func (d driveRefs) held(s scanner) (Held, error) {
	var h Held
	var path, drive []byte
	var since, gone string
	var ino int64 // SQLite's integers are signed; the bits are kept
	err := s.Scan(&h.ID, &h.Redirect, &h.Run, &path, &h.Copy, &ino, &h.Bytes, &h.Files, &drive, &since, &gone)
	if err != nil {
		return h, err
	}
	h.Ino = uint64(ino)
	h.Path, h.Since, h.Gone = string(path), parseTime(since), parseTime(gone)
	return h, d.read(drive, &h.Drive)
}

// HeldOf lists what is still held for a redirect, oldest first; for all
// redirects if name is empty.
func (l *Ledger) HeldOf(name string) ([]Held, error) {
	which, names := "", []any(nil) // an OR of both would leave the index aside
	if name != "" {
		which, names = " AND redirect = ?", []any{name}
	}
	return list(l, driveRefs{}.held, "SELECT "+heldColumns+" FROM held WHERE gone = ''"+which+" ORDER BY id", names...)
}

// AddHeld records a held original. One of the same run and path is replaced,
// so that a resumed run may say it again.
func (t *Tx) AddHeld(h Held) error {
	drive, err := pathtext.Marshal(h.Drive)
	if err != nil {
		return err
	}
	if _, err := t.tx.Exec("DELETE FROM held WHERE run = ? AND path = ?", h.Run, []byte(h.Path)); err != nil {
		return err
	}
	_, err = t.tx.Exec("INSERT INTO held (redirect, run, path, side, ino, bytes, files, drive, since) VALUES "+
		"(?,?,?,?,?,?,?,?,?)",
		h.Redirect, h.Run, []byte(h.Path), h.Copy, int64(h.Ino), h.Bytes, h.Files, drive, timeText(h.Since))
	return err
}

// ResizeHeld records what a held original takes by now.
func (t *Tx) ResizeHeld(h Held) error {
	_, err := t.tx.Exec("UPDATE held SET bytes = ?, files = ? WHERE run = ? AND path = ? AND gone = ''", h.Bytes,
		h.Files, h.Run, []byte(h.Path))
	return err
}

// MoveHeld records that what is held is reached by another path now, since
// its drive is mounted elsewhere.
func (t *Tx) MoveHeld(id int64, path string, on DriveRef) error {
	drive, err := pathtext.Marshal(on)
	if err != nil {
		return err
	}
	_, err = t.tx.Exec("UPDATE held SET path = ?, drive = ? WHERE id = ?", []byte(path), drive, id)
	return err
}

// HeldGone records that what a run held is held no more.
func (t *Tx) HeldGone(run string, path string) error {
	_, err := t.tx.Exec("UPDATE held SET gone = ? WHERE run = ? AND path = ? AND gone = ''", timeText(time.Now()),
		run, []byte(path))
	return err
}

// list reads the rows of a query; none of a ledger that does not exist yet.
func list[T any](l *Ledger, scan func(scanner) (T, error), query string, args ...any) ([]T, error) {
	if l.db == nil {
		return nil, nil
	}
	known, ok := l.prepared.Load(query)
	if !ok {
		stmt, err := l.db.Prepare(query)
		if err != nil {
			return nil, damaged(dbName, fmt.Errorf("ledger: %w", err))
		}
		known, _ = l.prepared.LoadOrStore(query, stmt)
	}
	rows, err := known.(*sql.Stmt).Query(args...)
	return collect(rows, err, scan)
}

// one is the row of a query for one; ErrNotFound if there is none.
func one[T any](l *Ledger, scan func(scanner) (T, error), query string, args ...any) (none T, err error) {
	all, err := list(l, scan, query, args...)
	if err != nil {
		return none, err
	}
	if len(all) == 0 {
		return none, ErrNotFound
	}
	return all[0], nil
}

func collect[T any](rows *sql.Rows, err error, scan func(scanner) (T, error)) ([]T, error) {
	if err != nil {
		return nil, damaged(dbName, fmt.Errorf("ledger: %w", err))
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, damaged(dbName, fmt.Errorf("ledger: %w", err))
		}
		out = append(out, v)
	}
	return out, damaged(dbName, rows.Err())
}
