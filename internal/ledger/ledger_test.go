//go:build linux

package ledger

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/pathtext"
	"nexlin/test/lab"
)

func fresh(t *testing.T) *Ledger {
	t.Helper()
	l, err := Open(filepath.Join(t.TempDir(), "state"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}

func TestReadingMakesNothing(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	l, err := OpenForReading(dir)
	require.NoError(t, err)
	all, err := l.Redirects(true)
	require.NoError(t, err)
	require.Empty(t, all)
	_, err = l.Redirect("x")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = l.Run("x")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoDirExists(t, dir)
}

func TestUnsafeDirectories(t *testing.T) {
	dir := t.TempDir()
	for _, mode := range []os.FileMode{0o770, 0o707, 0o777} {
		require.NoError(t, os.Chmod(dir, mode))
		_, err := Open(dir)
		var state *StateDirError
		require.ErrorAs(t, err, &state)
	}
	require.NoError(t, os.Chmod(dir, 0o700))
	l, err := Open(dir)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	// A ledger of a newer Nexlin is left alone.
	db, err := sql.Open("sqlite", filepath.Join(dir, dbName))
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 999")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(dir)
	require.ErrorContains(t, err, "newer Nexlin")
	_, err = OpenForReading(dir)
	require.ErrorContains(t, err, "newer Nexlin")
}

func TestRedirectsAndHeldKeepEveryByte(t *testing.T) {
	l := fresh(t)
	want := Redirect{
		Name: "documents", State: Linked, Link: "/home/ines/Doc\xff\numents", Target: "/media/b/Doc\xfe",
		Methods: []string{"symlink"},
		Account: "ines", UID: 1000,
		Drive: DriveRef{ID: "x", Label: "BASALT", UUID: "u", Mount: "/media/\xff", TagPlace: "."},
		Bytes: 1 << 40, Files: 3, Created: time.Now().UTC().Truncate(time.Nanosecond), Run: "r",
	}
	held := Held{Redirect: "documents", Run: "r", Path: "/home/ines/.Doc\xff", Copy: true, Ino: 1<<63 + 5, Bytes: 7,
		Drive: want.Drive, Since: want.Created}
	for range 2 { // saying it twice is saying it once
		require.NoError(t, l.Do(func(t *Tx) error {
			if err := t.SaveRedirect(want); err != nil {
				return err
			}
			return t.AddHeld(held)
		}))
	}
	got, err := l.Redirect("documents")
	require.NoError(t, err)
	require.Equal(t, want, got)
	text, err := pathtext.Marshal(want)
	require.NoError(t, err)
	var inPlan Redirect
	require.NoError(t, pathtext.Unmarshal(text, &inPlan))
	require.Equal(t, want, inPlan, "in a plan, too")
	hs, err := l.HeldOf("documents")
	require.NoError(t, err)
	require.Len(t, hs, 1)
	held.ID = hs[0].ID
	require.Equal(t, held, hs[0])
	// A transaction that fails leaves nothing.
	require.Error(t, l.Do(func(t *Tx) error {
		if err := t.RemoveRedirect("documents"); err != nil {
			return err
		}
		return os.ErrInvalid
	}))
	_, err = l.Redirect("documents")
	require.NoError(t, err)
	require.NoError(t, l.Do(func(t *Tx) error { return t.HeldGone("r", held.Path) }))
	hs, err = l.HeldOf("")
	require.NoError(t, err)
	require.Empty(t, hs)
}

// A drive that is read once for many rows is what each of them says.
func TestDrivesOfManyRows(t *testing.T) {
	sly := `BASALT","counter":9}`
	d := driveRefs{}
	for _, want := range []DriveRef{
		{ID: "x", Label: "BASALT", Counter: 1}, {ID: "x", Label: "BASALT", Counter: 1 << 62}, {ID: "x", Label: "BASALT"},
		{ID: "x", Label: "SKERRY", Counter: 1}, {ID: "x", Label: "BASALT", Counter: -3},
		{ID: "x", Label: sly}, {ID: "x", Label: sly, Counter: 4}, {ID: "x", Label: sly, Mount: "/media/\xff", Counter: 5},
	} {
		text, err := pathtext.Marshal(want)
		require.NoError(t, err)
		for range 2 {
			var got DriveRef
			require.NoError(t, d.read(text, &got))
			require.Equal(t, want, got)
		}
	}
	text, err := pathtext.Marshal(DriveRef{ID: "x", Label: "BASALT", Counter: 1})
	require.NoError(t, err)
	known := strings.TrimSuffix(string(text), "1}")
	for _, bad := range []string{``, `{`, `{"id":"x","counter":}`, `{"id":"x","counter":1`, `{"id":"x","counter":"1"}`,
		known, known + `}`, known + `1`, known + `"1"}`, known + `+1}`, known + `01}`,
		known + `1}}`} {
		require.Error(t, d.read([]byte(bad), new(DriveRef)), bad)
	}
}

// That an act is done is known to this process at once, and to others with the next thing
// that is written, or once the run is let go; what is said with it is written at once. A
// process that is killed before leaves an act that may have been done.
func TestDoneIsSaidWithTheNext(t *testing.T) {
	dir := t.TempDir()
	l, err := Open(dir)
	require.NoError(t, err)
	r, err := l.Begin(NewRunID(time.Now()), "move", "documents", nil, nil)
	require.NoError(t, err)
	done := func(l *Ledger) (done []bool) {
		acts, err := l.Acts(r.ID)
		require.NoError(t, err)
		for _, a := range acts {
			done = append(done, !a.Done.IsZero())
		}
		return done
	}
	other, err := Open(dir)
	require.NoError(t, err)
	defer other.Close()
	act := func(f func(*Tx) error) {
		seq, err := r.Intend("switch", "data")
		require.NoError(t, err)
		require.NoError(t, r.Did(seq, f))
	}
	act(nil)
	require.Equal(t, []bool{true}, done(l))
	require.Equal(t, []bool{false}, done(other))
	act(nil)
	require.Equal(t, []bool{true, true}, done(l))
	require.Equal(t, []bool{true, false}, done(other))
	require.ErrorContains(t, l.Do(func(*Tx) error { return errors.New("no") }), "no")
	require.Equal(t, []bool{true, false}, done(other), "taken back with the rest")
	act(func(*Tx) error { return nil })
	require.Equal(t, []bool{true, true, true}, done(other))
	act(nil)
	r.Release()
	require.Equal(t, []bool{true, true, true, true}, done(other))

	r, err = l.Take(r.ID)
	require.NoError(t, err)
	act(nil)
	require.NoError(t, l.Close()) // killed
	r.Release()
	require.Equal(t, []bool{true, true, true, true, false}, done(other))
}

// A run that is going while nobody holds its lock was stopped.
func TestRunsAndTheirLocks(t *testing.T) {
	l := fresh(t)
	id := NewRunID(time.Now())
	r, err := l.Begin(id, "move", "documents", map[string]int{"a": 1}, nil)
	require.NoError(t, err)
	row, err := l.Run(id)
	require.NoError(t, err)
	require.Equal(t, Going, row.State)
	_, err = l.Take(id)
	require.ErrorIs(t, err, ErrBusy)
	seq, err := r.Intend("switch", "data")
	require.NoError(t, err)
	require.NoError(t, r.Reserve(1<<20))
	r.Release() // the process died

	row, err = l.Run(id)
	require.NoError(t, err)
	require.Equal(t, Stopped, row.State)
	stopped, err := l.Unfinished()
	require.NoError(t, err)
	require.Len(t, stopped, 1)
	again, err := l.Take(id)
	require.NoError(t, err)
	defer again.Release()
	acts, err := l.Acts(id)
	require.NoError(t, err)
	require.Len(t, acts, 1)
	require.Equal(t, "switch", acts[0].Name)
	require.True(t, acts[0].Done.IsZero())
	require.NoError(t, again.Did(seq, nil))
	require.NoError(t, again.Unreserve())
	require.NoError(t, again.Set(Done, "", nil))
	acts, err = l.Acts(id)
	require.NoError(t, err)
	require.False(t, acts[0].Done.IsZero())
	stopped, err = l.Unfinished()
	require.NoError(t, err)
	require.Empty(t, stopped)
}

// What is asked again and again reads no row for each run and redirect that there ever was.
func TestAskedOftenIsIndexed(t *testing.T) {
	l := fresh(t)
	_, err := l.Unfinished()
	require.NoError(t, err)
	_, err = l.HeldOf("documents")
	require.NoError(t, err)
	_, err = l.Redirect("documents")
	require.ErrorIs(t, err, ErrNotFound)
	asked := 0
	l.prepared.Range(func(query, _ any) bool {
		asked++
		args := make([]any, strings.Count(query.(string), "?"))
		rows, err := l.db.Query("EXPLAIN QUERY PLAN "+query.(string), args...)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var id, parent, unused int
			var step string
			require.NoError(t, rows.Scan(&id, &parent, &unused, &step))
			require.NotRegexp(t, "^SCAN", step, query)
		}
		return true
	})
	require.Equal(t, 3, asked)
}

// A ledger of an earlier version is brought up to date, also by looking.
func TestOlderLedger(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	all := migrations
	migrations = all[:1]
	l, err := Open(dir)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	migrations = all
	l, err = OpenForReading(dir)
	require.NoError(t, err)
	defer l.Close()
	counters, err := l.Counters()
	require.NoError(t, err)
	require.Empty(t, counters)
}

// Also where nothing more can be written: a full drive is what people ask it about, and a ledger of the
// version before can be read as it is.
func TestOlderLedgerWithoutRoom(t *testing.T) {
	at := lab.MemoryDrive(t, "SKERRY", 24)
	dir := filepath.Join(at, "state")
	all := migrations
	migrations = all[:readable]
	l, err := Open(dir)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	migrations = all
	require.FileExists(t, l.sparePath())
	require.Error(t, os.WriteFile(filepath.Join(at, "fill"), make([]byte, 32<<20), 0o600))
	require.NoError(t, unix.Mount("", at, "", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	l, err = OpenForReading(dir)
	require.NoError(t, err)
	_, err = l.HeldOf("")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	require.NoError(t, unix.Mount("", at, "", unix.MS_REMOUNT, ""))
	l, err = OpenForReading(dir)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	require.NoFileExists(t, l.sparePath(), "its room was given up")
}

// What a drive's tag counted is known also when its redirects are gone.
func TestCounters(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700))
	l, err := Open(dir)
	require.NoError(t, err)
	defer l.Close()
	for _, n := range []int64{3, 7, 5} {
		require.NoError(t, l.Do(func(tx *Tx) error {
			return tx.SaveRedirect(Redirect{Name: "notes", State: Linked, Drive: DriveRef{ID: "basalt", Counter: n}})
		}))
	}
	require.NoError(t, l.Do(func(tx *Tx) error { return tx.RemoveRedirect("notes") }))
	counters, err := l.Counters()
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"basalt": 7}, counters)
}

// What is asked of each redirect, or each run, reads the rows of that one alone.
func TestNoQuestionReadsEveryRow(t *testing.T) {
	l := fresh(t)
	_, err := l.HeldOf("charts")
	require.NoError(t, err)
	_, err = l.ActsOf("charts", "erase")
	require.NoError(t, err)
	_, err = l.Acts("run")
	require.NoError(t, err)
	_, err = l.Run("run")
	require.ErrorIs(t, err, ErrNotFound)
	_, err = l.Redirect("charts")
	require.ErrorIs(t, err, ErrNotFound)
	l.prepared.Range(func(query, _ any) bool {
		if query == "SELECT id FROM runs" { // once, when it is opened
			return true
		}
		rows, err := l.db.Query("EXPLAIN QUERY PLAN "+query.(string), "charts", "erase")
		steps, err := collect(rows, err, func(s scanner) (detail string, err error) {
			var id, parent, unused int
			err = s.Scan(&id, &parent, &unused, &detail)
			return detail, err
		})
		require.NoError(t, err)
		require.NotContains(t, strings.Join(steps, "; "), "SCAN", query)
		return true
	})
}
