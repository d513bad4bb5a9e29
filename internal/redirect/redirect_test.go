//go:build linux

package redirect

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/test/lab"
)

// A saved plan, however damaged, leads no run out of the directories that it
// names.
func FuzzPlan(f *testing.F) {
	f.Add(
		[]byte(
			`{"run":"20261129-abcde","kind":"move","name":"a","link":"/h/a","target":"/d/a","from":"/h/a","into":"/d","final":"a","held_in":"/h","held":".a.held-20261129-abcde","settings":[{"file":"/h/s"}],"store":{"store":"s"},"before":{"Name":"a","Link":"/h/a","Target":"/d/a","Settings":null}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := plan.Of(ledger.RunRow{ID: "20261129-abcde", Plan: b})
		if err != nil {
			return
		}
		for _, at := range []string{p.Copy(), p.HeldPath()} {
			require.NotContains(t, at, "/../")
		}
		require.NotContains(t, naming.Part(p.Run), "/")
		_, _, _ = p.Linkless(), p.Exchanges(), p.FolderAway()
		_, err = pathtext.Marshal(p)
		require.NoError(t, err)
	})
}

// The proof through both paths catches a link that leads elsewhere, and
// leaves no trace.
func TestTry(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"data/a: 1", "other/b: 2", "good => data", "bad => other", "gone => nowhere"}.Make(t, dir)
	target, err := handle.Open(filepath.Join(dir, "data"))
	require.NoError(t, err)
	defer target.Release()
	before := lab.Print(t, dir)
	leads := func(link string) error {
		_, err := execute.Try(ledger.Redirect{Link: filepath.Join(dir, link), Target: filepath.Join(dir, "data")}, target)
		return err
	}
	require.NoError(t, leads("good"))
	for _, bad := range []string{"bad", "gone", "data/a"} {
		var trial *execute.TrialError
		require.ErrorAs(t, leads(bad), &trial)
	}
	require.Equal(t, before, lab.Print(t, dir))
}

func TestRefusedErrorKnowsItsCause(t *testing.T) {
	f := func(c finding.Code) finding.Finding { return finding.New(c, "/x", "m") }
	busy := plan.Refused(f(finding.InUse), f(finding.BackupReminder))
	require.True(t, busy.OnlyBusy())
	require.False(t, busy.OnlyAway())
	both := plan.Refused(f(finding.InUse), f(finding.SpaceShort))
	require.False(t, both.OnlyBusy())
	require.True(t, (plan.Refused(f(finding.DriveAway))).OnlyAway())
	require.False(t, (&plan.RefusedError{}).OnlyAway())
}

// The core has no interface code, and imports point down only: the floors are
// those of the table in docs/architecture.md.
func TestImportsPointDown(t *testing.T) {
	doc, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	floors := map[string]int{}
	for _, row := range regexp.MustCompile("(?m)^\\| `(\\w+)` \\|.*\\| (\\w+) \\|$").FindAllStringSubmatch(
		string(doc), -1) {
		floors[row[1]] = slices.Index([]string{"cellar", "ground", "1", "2", "3", "4", "5", "6", "7", "beside"}, row[2])
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}",
		"nexlin/internal/...").Output()
	require.NoError(t, err)
	floor := func(pkg string) int {
		n, known := floors[strings.TrimPrefix(pkg, "nexlin/internal/")]
		require.True(t, known && n >= 0, "%s stands on no floor", pkg)
		return n
	}
	seen := 0
	for line := range strings.SplitSeq(strings.TrimSpace(string(out)), "\n") {
		w := strings.Fields(line)
		seen++
		for _, imp := range w[1:] {
			if w[0] != "nexlin/internal/cli" {
				require.NotContains(t, []string{"github.com/spf13/cobra", "nexlin/internal/standin"}, imp, w[0])
			}
			if strings.HasPrefix(imp, "nexlin/internal/") && imp != "nexlin/internal/standin" {
				require.Less(t, floor(imp), floor(w[0]), "%s imports %s", w[0], imp)
			}
		}
	}
	require.Len(t, floors, seen, "rooms of the table that are not there")
}
