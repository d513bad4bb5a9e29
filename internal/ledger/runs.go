package ledger

import (
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/handle"
)

// States of a run.
const (
	Going   = "going"
	Stopped = "stopped"
	Done    = "done"
	Undone  = "undone"
	Refused = "refused"
)

// A RunRow is a run as the ledger has it. A run that is Going while nobody
// holds its lock was stopped: [Ledger.Runs] says so.
type RunRow struct {
	ID       string
	Kind     string
	Redirect string
	State    string
	Plan     json.RawMessage
	Started  time.Time
	Ended    time.Time
	Message  string
}

// An Act is one journaled act of a run.
type Act struct {
	Seq    int64
	Name   string
	Data   json.RawMessage
	Intent time.Time
	Done   time.Time // zero if it is not known to be done
}

// ErrBusy reports a run that is going on in another process.
var ErrBusy = errors.New("another Nexlin is at work on this")

const runColumns = "id, kind, redirect, state, plan, started, ended, message"

func (l *Ledger) scanRun(s scanner) (RunRow, error) {
	var r RunRow
	var started, ended string
	var plan []byte
	if err := s.Scan(&r.ID, &r.Kind, &r.Redirect, &r.State, &plan, &started, &ended, &r.Message); err != nil {
		return r, err
	}
	r.Plan, r.Started, r.Ended = plan, parseTime(started), parseTime(ended)
	return r, nil
}

// Runs lists all runs, newest first.
func (l *Ledger) Runs() ([]RunRow, error) {
	if l.db == nil {
		return nil, nil
	}
	rows, err := l.db.Query("SELECT " + runColumns + " FROM runs ORDER BY rowid DESC") // the order of rows: a clock may jump
	out, err := collect(rows, err, l.scanRun)
	for i := range out {
		l.settle(&out[i])
	}
	return out, err
}

// Unfinished lists the runs that were stopped, newest first.
func (l *Ledger) Unfinished() ([]RunRow, error) {
	if l.db == nil {
		return nil, nil
	}
	rows, err := l.db.Query("SELECT "+runColumns+" FROM runs WHERE state IN (?, ?) ORDER BY rowid DESC", Going, Stopped)
	all, err := collect(rows, err, l.scanRun)
	var out []RunRow
	for i := range all {
		l.settle(&all[i])
		if all[i].State == Stopped {
			out = append(out, all[i])
		}
	}
	return out, err
}

// settle turns going into stopped where no process holds the run's lock.
func (l *Ledger) settle(r *RunRow) {
	if r.State == Going && !l.locked(r.ID) {
		r.State = Stopped
	}
}

// Run gives one; ErrNotFound if there is none of this id.
func (l *Ledger) Run(id string) (RunRow, error) {
	if l.db == nil {
		return RunRow{}, ErrNotFound
	}
	r, err := l.scanRun(l.db.QueryRow("SELECT "+runColumns+" FROM runs WHERE id = ?", id))
	if err == nil {
		l.settle(&r)
	}
	return r, notFound(err)
}

const actColumns = "seq, act, data, intent, done"

func scanAct(s scanner) (Act, error) {
	var a Act
	var intent, done string
	var data []byte
	err := s.Scan(&a.Seq, &a.Name, &data, &intent, &done)
	a.Data, a.Intent, a.Done = data, parseTime(intent), parseTime(done)
	return a, err
}

// Acts lists the journal of a run in its order.
func (l *Ledger) Acts(run string) ([]Act, error) {
	if l.db == nil {
		return nil, nil
	}
	rows, err := l.db.Query("SELECT "+actColumns+" FROM acts WHERE run = ? ORDER BY seq", run)
	return collect(rows, err, scanAct)
}

// ActsCalled lists the acts of that name, of any run.
func (l *Ledger) ActsCalled(name string) ([]Act, error) {
	if l.db == nil {
		return nil, nil
	}
	rows, err := l.db.Query("SELECT "+actColumns+" FROM acts WHERE act = ? ORDER BY run, seq", name)
	return collect(rows, err, scanAct)
}

// A Run is a run that this process carries out: it holds the run's lock.
type Run struct {
	RunRow
	l    *Ledger
	lock *os.File
}

// NewRunID makes an id: the day, and five letters that nobody else has.
func NewRunID(now time.Time) string {
	var b [4]byte
	rand.Read(b[:])
	return now.UTC().Format("20060102-") + strings.ToLower(base32.StdEncoding.EncodeToString(b[:])[:5])
}

// RunDir is where a run keeps what belongs to it.
func (l *Ledger) RunDir(id string) string { return filepath.Join(l.dir, "runs", id) }

// Begin records a new run as going and takes its lock. The plan is kept as
// JSON. ErrBusy if another process carries out a run of the same redirect.
func (l *Ledger) Begin(id, kind, redirect string, plan any) (*Run, error) {
	b, err := json.Marshal(plan)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(l.RunDir(id), 0o700); err != nil {
		return nil, err
	}
	r := &Run{RunRow: RunRow{ID: id, Kind: kind, Redirect: redirect, State: Going, Plan: b, Started: time.Now()}, l: l}
	if err := r.takeLock(); err != nil {
		return nil, err
	}
	err = l.Do(func(t *Tx) error {
		rows, err := t.tx.Query("SELECT id FROM runs WHERE redirect = ? AND state = ? AND id <> ?", redirect, Going, id)
		others, err := collect(rows, err, func(s scanner) (id string, err error) {
			err = s.Scan(&id)
			return id, err
		})
		if err != nil {
			return err
		}
		if slices.ContainsFunc(others, l.locked) {
			return ErrBusy
		}
		_, err = t.tx.Exec("INSERT INTO runs (id, kind, redirect, state, plan, started) VALUES (?,?,?,?,?,?)",
			id, kind, redirect, Going, b, timeText(r.Started))
		return err
	})
	if err != nil {
		r.lock.Close()
		return nil, err
	}
	return r, nil
}

// Take takes up a run that was stopped. ErrBusy if another process has it,
// ErrNotFound if there is none.
func (l *Ledger) Take(id string) (*Run, error) {
	row, err := l.Run(id)
	if err != nil {
		return nil, err
	}
	r := &Run{RunRow: row, l: l}
	if err := r.takeLock(); err != nil {
		return nil, err
	}
	return r, nil
}

func (r *Run) takeLock() error {
	f, err := os.OpenFile(filepath.Join(r.l.RunDir(r.ID), "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err := lockFile(f, true); err != nil {
		f.Close()
		return err
	}
	r.lock = f
	return nil
}

func (l *Ledger) locked(id string) bool {
	f, err := os.Open(filepath.Join(l.RunDir(id), "lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(lockFile(f, false), ErrBusy)
}

// Dir is the run's own directory.
func (r *Run) Dir() string { return r.l.RunDir(r.ID) }

// Release gives the lock up; the run stays as it is in the ledger.
func (r *Run) Release() { r.lock.Close() }

// Intend journals an act before it is done and returns its number.
func (r *Run) Intend(act string, data any) (seq int64, err error) {
	b, err := json.Marshal(data)
	if err != nil {
		return 0, err
	}
	err = r.l.Do(func(t *Tx) error {
		if err := t.tx.QueryRow("SELECT coalesce(max(seq), 0) + 1 FROM acts WHERE run = ?", r.ID).Scan(&seq); err != nil {
			return err
		}
		_, err := t.tx.Exec("INSERT INTO acts (run, seq, act, data, intent) VALUES (?,?,?,?,?)", r.ID, seq, act, b, timeText(time.Now()))
		return err
	})
	return seq, err
}

// Did journals that an act is done, with whatever else f records in the
// same transaction; f may be nil.
func (r *Run) Did(seq int64, f func(*Tx) error) error {
	return r.l.Do(func(t *Tx) error {
		if _, err := t.tx.Exec("UPDATE acts SET done = ? WHERE run = ? AND seq = ?", timeText(time.Now()), r.ID, seq); err != nil {
			return err
		}
		if f == nil {
			return nil
		}
		return f(t)
	})
}

// Set gives the run a state and a message, with whatever else f records in
// the same transaction; f may be nil.
func (r *Run) Set(state, message string, f func(*Tx) error) error {
	ended := time.Time{}
	if state != Going {
		ended = time.Now()
	}
	err := r.l.Do(func(t *Tx) error {
		_, err := t.tx.Exec("UPDATE runs SET state = ?, message = ?, ended = ? WHERE id = ?", state, message, timeText(ended), r.ID)
		if err == nil && f != nil {
			err = f(t)
		}
		return err
	})
	if err == nil {
		r.State, r.Message, r.Ended = state, message, ended
	}
	return err
}

// Reserve keeps room on the ledger's drive, in bytes, until Unreserve: a
// copy onto or from a full drive must not take the journal's room.
func (r *Run) Reserve(bytes int64) error {
	path := filepath.Join(r.Dir(), "reserve")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	err = allocate(f, bytes)
	if err != nil {
		err = &fs.PathError{Op: "reserve", Path: path, Err: err}
	}
	return errors.Join(err, f.Close())
}

// Unreserve gives the room back.
func (r *Run) Unreserve() error {
	err := os.Remove(filepath.Join(r.Dir(), "reserve"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// CheckRoom reports how many bytes are free for the ledger in its directory
// or the nearest one above that exists.
func CheckRoom(dir string) (free int64, err error) {
	for {
		room, err := handle.RoomAt(dir)
		if err == nil {
			return room.Free, nil
		}
		if up := filepath.Dir(dir); errors.Is(err, fs.ErrNotExist) && up != dir {
			dir = up
			continue
		}
		return 0, fmt.Errorf("measuring %s: %w", dir, err)
	}
}
