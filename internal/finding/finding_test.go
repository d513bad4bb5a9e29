package finding

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestListIsWhole(t *testing.T) {
	seen := map[Code]bool{}
	for _, k := range list {
		require.False(t, seen[k.Code], "%s stands twice", k.Code)
		seen[k.Code] = true
		require.NotEmpty(t, k.Meaning)
		require.NotEmpty(t, k.Remedy)
		require.Regexp(t, `^[a-z]+(-[a-z]+)*$`, string(k.Code))
	}
	for system, all := range onSystem {
		for code, own := range all {
			require.True(t, seen[code], "%s on %s", code, system)
			require.Equal(t, own, remedy(code, system))
		}
	}
	require.Equal(t, kinds[Immutable].Remedy, remedy(Immutable, "linux"))
	require.Panics(t, func() { New("no-such-code", "", "") })
}

func TestRemedyNamesTheSubject(t *testing.T) {
	f := New(RunStopped, "/x", "m").About(Subject{Name: "documents", Run: "20260101-abcde"})
	require.Contains(t, f.Remedy, "nexlin resume 20260101-abcde")
	require.Contains(t, New(DriveAway, "/x", "m").OnDrive("BASALT").Remedy, "mount BASALT")
}

func TestWorstOrdersForReading(t *testing.T) {
	a, b, c := New(Rot, "", ""), New(LateWrite, "", ""), New(BackupReminder, "", "")
	require.Equal(t, []Finding{a, b, c}, Worst([]Finding{c, b, a}))
	require.Equal(t, []Finding{a}, Blockers([]Finding{c, b, a}))
	require.True(t, Has([]Finding{c}, BackupReminder))
	require.False(t, Acceptable(Rot))
	require.True(t, Acceptable(ChangedSince))
}

// docs/findings.md is written from the list: NEXLIN_WRITE_DOCS=1 go test.
func TestDocs(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Findings\n\nWhat inspect, check and discard can notice, by code. Written from the list " +
		"in\n`internal/finding/codes.go`.\n\n")
	b.WriteString("| code | severity | meaning | remedy | `--accept` |\n| --- | --- | --- | --- | --- |\n")
	for _, k := range Kinds() {
		accept := ""
		if k.Acceptable {
			accept = "yes"
		}
		b.WriteString("| `" + string(k.Code) + "` | " + string(k.Severity) + " | " + k.Meaning + " | " + k.Remedy +
			" | " + accept + " |\n")
	}
	const file = "../../docs/findings.md"
	if os.Getenv("NEXLIN_WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	have, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "NEXLIN_WRITE_DOCS=1 go test ./internal/finding writes it anew")
}
