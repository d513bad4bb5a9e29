package internal

import (
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The core has no interface code, and imports point down only: the floors are
// those of the table in docs/architecture.md.
func TestImportsPointDown(t *testing.T) {
	doc, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	floors := map[string]int{}
	for _, row := range regexp.MustCompile("(?m)^\\| `(\\w+)` \\|.*\\| (\\w+) \\|$").FindAllStringSubmatch(
		string(doc), -1) {
		floors[row[1]] = slices.Index(strings.Fields("cellar ground 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 beside"), row[2])
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
		if w[0] == "nexlin/internal" {
			continue // this test
		}
		seen++
		for _, imp := range w[1:] {
			// The scene is for the demo alone.
			for lib, rooms := range map[string][]string{"github.com/spf13/cobra": {"cli"},
				"nexlin/internal/standin": {"cli", "tour"}} {
				if imp == lib {
					require.Contains(t, rooms, strings.TrimPrefix(w[0], "nexlin/internal/"), imp)
				}
			}
			if strings.HasPrefix(imp, "nexlin/internal/") && imp != "nexlin/internal/standin" {
				require.Less(t, floor(imp), floor(w[0]), "%s imports %s", w[0], imp)
			}
		}
	}
	require.Len(t, floors, seen, "rooms of the table that are not there")
}
