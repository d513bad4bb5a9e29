package screen

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
)

// What hinders several in one way is told once, and so is what hinders one twice; what is
// each one's own stays apart.
func TestCausesAreToldOnce(t *testing.T) {
	at := func(name string, fs ...finding.Finding) *health.Report {
		for i := range fs {
			fs[i] = fs[i].Named(name)
		}
		return &health.Report{Redirect: ledger.Redirect{Name: name, Drive: ledger.DriveRef{UUID: "1", Label: "DUNE"}},
			Findings: fs}
	}
	mounts := finding.New(finding.Unseen, "/proc/self/mountinfo", "it can't be looked at")
	only := finding.New(finding.NoOtherCopy, "/t", "DUNE holds the only copy of this one").As(finding.Warning)
	reports := []*health.Report{
		at("rec", only, mounts, mounts, finding.New(finding.SpaceLow, "/d", "nearly full")),
		at("pictures", finding.New(finding.Unseen, "/p", "another can't"), finding.New(finding.SpaceLow, "/d", "nearly full")),
		at("mail", mounts, finding.New(finding.TrialFailed, "/m", "no test file came through")),
		at("music", finding.New(finding.TrialFailed, "/u", "no test file came through"), only),
	}
	type told struct {
		message string
		of      []string
	}
	var got []told
	for _, c := range Causes(reports, true) {
		got = append(got, told{c.Found.Message, c.Names()})
	}
	require.Equal(t, []told{
		{"DUNE holds the only copy of 2 folders: no archive of them was made lately", []string{"rec", "music"}},
		{"it can't be looked at", []string{"rec", "mail"}},
		{"nearly full", []string{"rec", "pictures"}},
		{"another can't", []string{"pictures"}},
		{"no test file came through", []string{"mail"}},
		{"no test file came through", []string{"music"}},
	}, got)
}

// A cause that concerns very many names the first of them, and all if they are asked for.
func TestACauseIsNoWall(t *testing.T) {
	none, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	defer none.Close()
	for _, c := range []struct {
		many    int
		verbose bool
		named   int
		says    string
	}{{1, false, 1, ""}, {20, false, 20, ""}, {21, false, 20, "and 1 more (-v names all)"},
		{1000, false, 20, "and 980 more (-v names all)"}, {1000, true, 1000, ""}} {
		var out bytes.Buffer
		a := Lines{Out: &out, RawOut: none, Verbose: c.verbose}
		cause := &Cause{Found: finding.New(finding.HeldWaiting, "/h", "it waits")}
		for i := range c.many {
			cause.Of = append(cause.Of, &health.Report{Redirect: ledger.Redirect{Name: fmt.Sprintf("n%04d", i)}})
		}
		a.ShowCause(cause, true)
		text := ansi.Strip(out.String())
		require.Contains(t, text, fmt.Sprintf("n%04d", c.named-1))
		require.NotContains(t, text, fmt.Sprintf("n%04d", c.named))
		if require.Contains(t, text, c.says); c.says == "" {
			require.NotContains(t, text, "more (-v")
		}
	}
}
