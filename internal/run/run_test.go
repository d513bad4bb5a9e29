package run

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/ledger"
	"nexlin/internal/setting"
)

// journal is that of a run that has just begun; again opens it as another process
// would after a stop.
func journal(t *testing.T) (j *Journal, again func() *Journal) {
	t.Helper()
	l, err := ledger.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	id := ledger.NewRunID(time.Now())
	j = NewJournal(l, id, nil)
	j.Run, err = l.Begin(id, "move", "documents", struct{}{}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { j.Run.Release() })
	return j, func() *Journal { return NewJournal(l, id, nil) }
}

// What is known of an act after a stop: that it was about to be done, with its data,
// and that it is done only where it is.
func TestActsAreKnownAfterAStop(t *testing.T) {
	ctx := context.Background()
	j, again := journal(t)
	failed := errors.New("the drive is gone")
	require.ErrorIs(t, j.Act(ctx, "place", "part", func() error { return failed }, nil), failed)

	var data string
	known, err := again().Last("place", &data)
	require.NoError(t, err)
	require.True(t, known)
	require.Equal(t, "part", data)
	done, err := again().Finished("place")
	require.NoError(t, err)
	require.False(t, done)

	wrote := false
	also := func(*ledger.Tx) error { wrote = true; return nil }
	require.NoError(t, j.Act(ctx, "place", "the same part", func() error { return nil }, also))
	require.True(t, wrote)
	done, err = again().Finished("place")
	require.NoError(t, err)
	require.True(t, done)
	_, err = again().Last("place", &data)
	require.NoError(t, err)
	require.Equal(t, "the same part", data, "the newest counts")

	known, err = again().Last("switch", &data)
	require.NoError(t, err)
	require.False(t, known)

	// An end of the context comes between the acts, never in one.
	ended, cancel := context.WithCancel(ctx)
	require.ErrorIs(t, j.Act(ended, "switch", nil, func() error { cancel(); return nil }, nil), context.Canceled)
	done, err = again().Finished("switch")
	require.NoError(t, err)
	require.False(t, done, "it may have been done: the disks tell")
}

func TestOnceIsDoneOnce(t *testing.T) {
	j, _ := journal(t)
	times, failed := 0, errors.New("not yet")
	act := func(err error) error {
		return j.Once(context.Background(), "before.0", nil, func() error { times++; return err })
	}
	require.ErrorIs(t, act(failed), failed)
	require.NoError(t, act(nil))
	require.NoError(t, act(failed))
	require.Equal(t, 2, times)
}

func TestPhases(t *testing.T) {
	j, again := journal(t)
	require.Empty(t, j.Phase())
	require.NoError(t, j.Begin("copy", 3, 30))
	require.NoError(t, j.Begin("switch", 0, 0))
	require.Equal(t, "switch", j.Phase())
	require.NoError(t, j.End(ledger.Done))
	require.NoError(t, j.End(ledger.Done), "once is enough")
	var got []string
	for _, p := range j.Phases() {
		require.False(t, p.Ended.Before(p.Started))
		got = append(got, p.Name+" "+p.State)
	}
	require.Equal(t, []string{"copy done", "switch done"}, got)
	for phase, want := range map[string]bool{"copy": true, "switch": true, "try": false} {
		begun, err := again().Begun(phase)
		require.NoError(t, err)
		require.Equal(t, want, begun, phase)
	}
}

// Steps and facts of cards, with real commands.
func TestCommands(t *testing.T) {
	ctx, home := context.Background(), t.TempDir()
	who := Actor{UID: uint32(os.Getuid()), GID: uint32(os.Getgid()), Name: "ines", Home: home}
	c := &Commands{Env: []string{"PATH=" + os.Getenv("PATH"), "HOME=/elsewhere"}}
	sh := func(script string) []string { return []string{"sh", "-c", script} }

	out, err := c.Run(ctx, who, sh(`printf "%s %s" "$HOME" "$USER"`), 0)
	require.NoError(t, err)
	require.Equal(t, home+" ines", out, "the account's home, not ours")

	require.NoError(t, c.Do(ctx, who, Step{Args: sh("echo it is at rest"), Answer: "at rest"}))
	var step *StepError
	require.ErrorAs(t, c.Do(ctx, who, Step{Args: sh("echo busy"), Answer: "at rest"}), &step)
	require.ErrorIs(t, step, ErrAnswer)
	require.ErrorIs(t, c.Do(ctx, who, Step{Ask: "quit it"}), ErrNotDone, "nobody is there")
	c.Ask = func(_ context.Context, q string) error { require.Equal(t, "quit it", q); return nil }
	require.NoError(t, c.Do(ctx, who, Step{Ask: "quit it"}))

	limit, conf := filepath.Join(home, "limit"), filepath.Join(home, "conf.json")
	require.NoError(t, os.WriteFile(limit, []byte("16"), 0o600))
	require.NoError(t, os.WriteFile(conf, []byte(`{"store": "/a"}`), 0o600))
	facts := []Fact{
		{Name: "job limit", Args: sh("cat " + limit), Set: []string{"sh", "-c", "printf {value} >" + limit}},
		{Name: "store", Place: &setting.Place{File: conf, Format: setting.JSON, At: "/store"}},
	}
	before := map[string]string{}
	for _, f := range facts {
		before[f.Name], err = c.Value(ctx, who, f)
		require.NoError(t, err)
	}
	require.Equal(t, "16", before["job limit"])
	require.NoError(t, os.WriteFile(limit, []byte("4"), 0o600))
	got, err := c.SameFacts(ctx, who, facts, before)
	require.NoError(t, err)
	require.Equal(t, FactResult{Name: "job limit", Before: "16", After: "16", Set: true}, got[0])

	facts[0].Set = nil
	require.NoError(t, os.WriteFile(limit, []byte("4"), 0o600))
	_, err = c.SameFacts(ctx, who, facts, before)
	var differs *FactError
	require.ErrorAs(t, err, &differs)
	require.Equal(t, FactError{Name: "job limit", Is: "4", MustBe: "16"}, *differs)
}
