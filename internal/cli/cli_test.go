//go:build linux

package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/screen"
	"nexlin/internal/swap"
)

func found(codes ...finding.Code) []finding.Finding {
	var out []finding.Finding
	for _, c := range codes {
		out = append(out, finding.New(c, "/home/ines/x", string(c), finding.Subject{}))
	}
	return out
}

// Every kind of error has its status, says in which state things are, and
// what to do next where there is something to do.
func TestExplain(t *testing.T) {
	a := &app{Screen: &screen.Screen{Lines: screen.Lines{Home: "/home/ines"}}, command: "move", topic: "move"}
	stopped := func(err error, switched bool) error {
		return &plan.StoppedError{Run: "20261123-abcde", Kind: plan.KindMove, Phase: "copy",
			Link: "/home/ines/Pictures", Switched: switched, Err: err, Drive: "BASALT", At: "/media/b/x"}
	}
	at := func(err error) error { return &fs.PathError{Op: "write", Path: "/media/b/x", Err: err} }
	for _, c := range []struct {
		err     error
		exit    int
		code    string
		message string
		state   string
		next    string
	}{
		{screen.Usage("wrong"), screen.ExitUsage, "usage", "wrong", screen.Untouched, "nexlin help move"},
		{&plan.NameError{Name: "docs", Near: []string{"documents"}}, screen.ExitUsage, "no-such-redirect", `"docs"`,
			screen.Untouched, "did you mean documents?"},
		{&drive.NotFoundError{Ref: "BASLAT", Known: []string{"BASALT", "DUNE"}}, screen.ExitAway, "no-such-drive",
			"BASLAT",
			screen.Untouched, "did you mean BASALT?"},
		{&plan.RefusedError{Findings: found(finding.SpaceShort, finding.InUse)}, screen.ExitRefused, "space-short",
			"space-short", screen.Untouched, "free room there"},
		{&plan.RefusedError{Findings: found(finding.InUse)}, screen.ExitBusy, "in-use", "in-use", screen.Untouched,
			"quit the program"},
		{&plan.RefusedError{Findings: found(finding.DriveAway)}, screen.ExitAway, "drive-away", "drive-away",
			screen.Untouched,
			"plug in"},
		{screen.ErrDeclined, screen.ExitRefused, "declined", "stopped", screen.Untouched, ""},
		{stopped(at(unix.ENOSPC), false), screen.ExitStopped, "stopped", "BASALT is full, at /media/b/x",
			"~/Pictures is as it was", "nexlin resume 20261123-abcde"},
		{stopped(at(unix.EROFS), true), screen.ExitStopped, "stopped", "can only be read", "leads to the new place",
			"nexlin undo 20261123-abcde"},
		{stopped(at(unix.EIO), false), screen.ExitStopped, "stopped", "input/output error", "as it was", "resume"},
		{stopped(context.Canceled, false), screen.ExitStopped, "stopped", "interrupted", "as it was", "resume"},
		{stopped(fmt.Errorf("%w: log", plan.ErrStillChanging), false), screen.ExitBusy, "still-changing",
			"keeps changing", "as it was", "resume"},
		{&swap.BrokenError{Path: "/x", Found: "a"}, screen.ExitFailed, "not-as-left", "nothing was touched",
			screen.Untouched,
			"nexlin check"},
		{&ledger.StateDirError{Dir: "/s", Why: "w"}, screen.ExitRefused, "state-directory", "/s", screen.Untouched,
			"--state-dir"},
		{ledger.ErrBusy, screen.ExitBusy, "busy", "another Nexlin", screen.Untouched, "wait"},
		{plan.ErrNothingStopped, screen.ExitRefused, "nothing-stopped", "no run is stopped", screen.Untouched,
			"nexlin history"},
		{fmt.Errorf("%w: no answer", screen.ErrConsent), screen.ExitRefused, "consent-missing", "no answer",
			screen.Untouched, ""},
		{at(unix.EACCES), screen.ExitFailed, "permission", "permission denied", screen.Untouched, "administrator"},
		{errors.New("a name with \x1b[31m in it"), screen.ExitFailed, "failed", `\u001b`, screen.Untouched, ""},
	} {
		f := a.explain(c.err)
		require.Equal(t, c.exit, f.Exit, c.err)
		require.Equal(t, c.code, f.Code, c.err)
		require.Contains(t, f.Message, c.message)
		require.Contains(t, f.State, c.state)
		if c.next == "" {
			require.Empty(t, f.Next, c.err)
		} else {
			require.Contains(t, fmt.Sprint(f.Next), c.next)
		}
	}
}

// With several results the gravest status counts, in whatever order they
// come: 5, 1, 7, 6, 4, 3, 0.
func TestGravestStatus(t *testing.T) {
	order := []int{screen.ExitStopped, screen.ExitFailed, screen.ExitAway, screen.ExitBusy, screen.ExitProblems,
		screen.ExitRefused, screen.ExitDone}
	for i, worst := range order {
		rest := append([]int{}, order[i:]...)
		rand.Shuffle(len(rest), func(a, b int) { rest[a], rest[b] = rest[b], rest[a] })
		a := &app{Screen: &screen.Screen{}}
		for _, code := range rest {
			a.grave(code)
		}
		require.Equal(t, worst, a.exit, "%v", rest)
	}
}

// A check is 7 only if its single cause is a drive that is away.
func TestCheckExit(t *testing.T) {
	for want, codes := range map[int][]finding.Code{
		screen.ExitDone: {finding.BackupReminder}, screen.ExitAway: {finding.DriveAway, finding.DriveAway},
		screen.ExitProblems: {finding.DriveAway, finding.LinkMissing},
	} {
		require.Equal(t, want, screen.CheckExit(&health.Report{Findings: found(codes...)}), "%v", codes)
	}
	require.Equal(t, screen.ExitDone, screen.CheckExit(&health.Report{}))
}

func TestTextForPeople(t *testing.T) {
	a := &app{Screen: &screen.Screen{Lines: screen.Lines{Home: "/home/ines"}}}
	for in, want := range map[string]string{"/home/ines": "~", "/home/ines/a b": "~/a b",
		"/home/inesx": "/home/inesx", "/x\n": `/x\n`} {
		require.Equal(t, want, a.Path(in))
	}
	require.Equal(t, "~/'a b'", a.Typed("/home/ines/a b"))
	require.Equal(t, "1 file", pathtext.Files(1))
	require.Equal(t, "1,204 files", pathtext.Files(1204))
	require.Equal(t, "▓▓▓▓▓░░░░░", screen.Gauge(100, 50))
	require.Equal(t, "0.3 s", screen.Seconds(0.31))
	require.Equal(t, "1m5s", screen.Seconds(65.2))
	_, err := codes([]string{"rot"})
	require.Error(t, err, "losses of content are never acceptable")
	for _, bad := range []moveFlags{{name: "a b"}, {as: ".."}, {as: "a/b"}, {as: ".nexlin"}, {as: ".nexlin-part-x"}} {
		require.Error(t, checkNames(bad))
	}
	require.NoError(t, checkNames(moveFlags{name: "documents", as: "My Documents"}))
}
