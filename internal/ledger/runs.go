package ledger

import (
	"context"
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
	"nexlin/internal/pathtext"
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

func scanRun(s scanner) (RunRow, error) {
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
	// the order of rows: a clock may jump
	out, err := list(l, scanRun, "SELECT "+runColumns+" FROM runs ORDER BY rowid DESC")
	for i := range out {
		l.settle(&out[i])
	}
	return out, err
}

// Unfinished lists the runs that were stopped, newest first.
func (l *Ledger) Unfinished() ([]RunRow, error) {
	// With the states as values the index would not do.
	all, err := list(l, scanRun,
		"SELECT "+runColumns+" FROM runs WHERE state IN ('"+Going+"', '"+Stopped+"') ORDER BY rowid DESC")
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
	r, err := one(l, scanRun, "SELECT "+runColumns+" FROM runs WHERE id = ?", id)
	if err == nil {
		l.settle(&r)
	}
	return r, err
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
	acts, err := list(l, scanAct, "SELECT "+actColumns+" FROM acts WHERE run = ? ORDER BY seq", run)
	if l.done != nil {
		l.done.told(run, acts)
	}
	return acts, err
}

// ActsOf lists the acts of that name in the runs of a redirect. One that this process has
// just done may not be said to be done yet.
func (l *Ledger) ActsOf(redirect, act string) ([]Act, error) {
	return list(l, scanAct, "SELECT "+actColumns+" FROM runs JOIN acts ON acts.run = runs.id "+
		"WHERE runs.redirect = ? AND act = ? ORDER BY run, seq", redirect, act)
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
// Behind the lock check, which may be nil, looks at what the ledger says by now;
// with an error of its own nothing is recorded.
func (l *Ledger) Begin(id, kind, redirect string, plan any, check func(*Tx) error) (*Run, error) {
	b, err := pathtext.Marshal(plan)
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
		others, err := collect(rows, err, scanText)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(others, l.locked) {
			return ErrBusy
		}
		if check != nil {
			if err := check(t); err != nil {
				return err
			}
		}
		_, err = t.tx.Exec("INSERT INTO runs (id, kind, redirect, state, plan, started) VALUES (?,?,?,?,?,?)",
			id, kind, redirect, Going, b, timeText(r.Started))
		return err
	})
	if err != nil {
		r.lock.Close()
		return nil, errors.Join(err, os.RemoveAll(r.Dir()))
	}
	return r, nil
}

// UnfinishedOf lists the runs of a redirect that were begun and have not ended,
// whether or not a process is at work on them.
func (t *Tx) UnfinishedOf(redirect string) ([]RunRow, error) {
	rows, err := t.tx.Query("SELECT "+runColumns+
		" FROM runs WHERE redirect = ? AND state IN (?, ?) ORDER BY rowid DESC", redirect, Going, Stopped)
	return collect(rows, err, scanRun)
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
	f, err := lockAt(filepath.Join(r.l.RunDir(r.ID), "lock"))
	r.lock = f
	return err
}

// lockAt takes the lock of a file of ours, which is made. ErrBusy if another process has it.
func lockAt(path string) (*os.File, error) {
	if err := noFile(path); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := lockFile(f, true); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// pollEvery is how often a lock that another process has is tried again.
const pollEvery = 200 * time.Millisecond

// Alone lets one process at a time do what a word names, until it calls release. While
// another one does it, ErrBusy; with waiting, which is called once then, it waits, at most
// until ctx ends.
func (l *Ledger) Alone(ctx context.Context, what string, waiting func()) (release func(), err error) {
	for told := false; ; told = true {
		f, err := lockAt(filepath.Join(l.dir, what+".lock"))
		if err == nil {
			return func() { f.Close() }, nil
		}
		if !errors.Is(err, ErrBusy) || waiting == nil {
			return nil, err
		}
		if !told {
			waiting()
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pollEvery):
		}
	}
}

func (l *Ledger) locked(id string) bool {
	f, err := handle.OpenRegular(filepath.Join(l.RunDir(id), "lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(lockFile(f, false), ErrBusy)
}

// sweepAfter is how old the records of a run are that no run in the ledger has,
// before they are removed: those of one that is about to begin are younger.
const sweepAfter = time.Hour

// sweep removes the records of runs that were killed before they were in the
// ledger. What can't be removed stays for the next time.
func (l *Ledger) sweep() {
	dirs, err := os.ReadDir(filepath.Join(l.dir, "runs"))
	if err != nil {
		return
	}
	ids, err := list(l, scanText, "SELECT id FROM runs")
	if err != nil {
		return
	}
	known := map[string]bool{}
	for _, id := range ids {
		known[id] = true
	}
	for _, d := range dirs {
		if known[d.Name()] || !d.IsDir() {
			continue
		}
		fi, err := d.Info()
		if err == nil && time.Since(fi.ModTime()) >= sweepAfter && !l.locked(d.Name()) {
			_ = os.RemoveAll(l.RunDir(d.Name())) // the next sweep meets it again
		}
	}
}

// scanText reads a column of text.
func scanText(s scanner) (v string, err error) {
	err = s.Scan(&v)
	return v, err
}

// DropRunDir removes the records of a run that is not in the ledger any more.
func (l *Ledger) DropRunDir(id string) error { return os.RemoveAll(l.RunDir(id)) }

// Dir is the run's own directory.
func (r *Run) Dir() string { return r.l.RunDir(r.ID) }

// Release gives the lock up; the run stays as it is in the ledger.
func (r *Run) Release() {
	if len(r.l.done.all()) > 0 {
		_ = r.l.Do(func(*Tx) error { return nil }) // what can't be said is found on the disks
	}
	r.lock.Close()
}

// Intend journals an act before it is done and returns its number.
func (r *Run) Intend(act string, data any) (seq int64, err error) {
	b, err := pathtext.Marshal(data)
	if err != nil {
		return 0, err
	}
	err = r.l.Do(func(t *Tx) error {
		return t.tx.QueryRow("INSERT INTO acts (run, seq, act, data, intent) "+
			"SELECT ?, coalesce(max(seq), 0) + 1, ?, ?, ? FROM acts WHERE run = ? RETURNING seq", r.ID, act, b,
			timeText(time.Now()), r.ID).Scan(&seq)
	})
	return seq, err
}

// Did journals that an act is done, with whatever else f records in the
// same transaction. Where f is nil that goes with the next thing that is written, and
// costs no flush of its own: after a kill the act counts as one that may have been done.
func (r *Run) Did(seq int64, f func(*Tx) error) error {
	r.l.done.add(actKey{r.ID, seq}, timeText(time.Now()))
	if f == nil {
		return nil
	}
	return r.l.Do(f)
}

// Set gives the run a state and a message, with whatever else f records in
// the same transaction; f may be nil.
func (r *Run) Set(state, message string, f func(*Tx) error) error {
	ended := time.Time{}
	if state != Going {
		ended = time.Now()
	}
	err := r.l.Do(func(t *Tx) error {
		_, err := t.tx.Exec("UPDATE runs SET state = ?, message = ?, ended = ? WHERE id = ?", state, message,
			timeText(ended), r.ID)
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

// SetPlan keeps another plan for the run: what was planned anew on the way.
func (r *Run) SetPlan(plan any) error {
	b, err := pathtext.Marshal(plan)
	if err != nil {
		return err
	}
	err = r.l.Do(func(t *Tx) error {
		_, err := t.tx.Exec("UPDATE runs SET plan = ? WHERE id = ?", b, r.ID)
		return err
	})
	if err == nil {
		r.Plan = b
	}
	return err
}

// Restore gives the run the state, message and end that it had before.
func (r *Run) Restore(was RunRow) error {
	err := r.l.Do(func(t *Tx) error {
		_, err := t.tx.Exec("UPDATE runs SET state = ?, message = ?, ended = ? WHERE id = ?", was.State, was.Message,
			timeText(was.Ended), r.ID)
		return err
	})
	if err == nil {
		r.State, r.Message, r.Ended = was.State, was.Message, was.Ended
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

// spare is room that the ledger always keeps, in bytes: deleting what is held,
// the way out of a full drive, has to be journaled, too.
const spare = 1 << 20

func (l *Ledger) sparePath() string { return filepath.Join(l.dir, "spare") }

// keepSpare keeps the spare room if it is not kept and there is plenty. That it
// can't is no error: then the drive is nearly full.
func (l *Ledger) keepSpare() {
	if _, err := os.Lstat(l.sparePath()); err == nil {
		return
	}
	if free, err := CheckRoom(l.dir); err != nil || free < 16*spare {
		return
	}
	f, err := os.OpenFile(l.sparePath(), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return
	}
	if allocate(f, spare) != nil {
		os.Remove(f.Name()) // nothing is kept
	}
	f.Close() // nothing was written
}

// UseSpare gives the spare room up if the ledger's drive has next to none: for
// what must go on all the same. It is kept again once there is room.
func (l *Ledger) UseSpare() error {
	if free, err := CheckRoom(l.dir); err != nil || free >= spare {
		return err
	}
	if err := os.Remove(l.sparePath()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
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
