package preflight

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/inventory"
)

// What sleeps on a mount without setuid or devices does not wake unasked.
func TestRightsDoNotGrow(t *testing.T) {
	for _, c := range []struct {
		from, into string
		found      int
	}{
		{"rw,nosuid,nodev", "rw,relatime", 2}, {"rw,nosuid", "rw", 1}, {"rw,nodev", "rw,nosuid", 1}, {"rw", "rw", 0},
		{"rw,nosuid,nodev", "rw,nodev,nosuid", 0}, {"rw,nosuidx", "rw", 0},
	} {
		facts := &inventory.Facts{Setuid: inventory.Listing{Count: 1, Paths: []string{"s"}},
			Devices: inventory.Listing{Count: 1, Paths: []string{"d"}}}
		found := Rights("/h/Docs", facts, &drive.Drive{Options: c.from}, &drive.Drive{Mount: "/mnt", Options: c.into})
		require.Len(t, found, c.found, "%s to %s", c.from, c.into)
		require.Len(t, finding.Blockers(found), c.found)
	}
}

func TestSingular(t *testing.T) {
	for many, one := range map[string]string{
		"have a name that DUNE can't keep": "has a name that DUNE can't keep",
		"are symbolic links that x":        "is a symbolic link that x",
		"belong to accounts":               "belongs to accounts", "are larger than": "is larger than",
		"have names that are one": "has a name that is one",
	} {
		require.Equal(t, one, singular(many))
	}
}

func TestBreaks(t *testing.T) {
	move := &Leaving{From: "/h/Docs", Link: "/h/Docs", First: true}
	on := &Leaving{From: "/mnt/b/Docs", Link: "/h/Docs"}
	for _, c := range []struct {
		folder    *Leaving
		dir, text string
		breaks    bool
	}{
		{move, "/h", "Docs/x", false}, {move, "/h", "/h/Docs", false}, {move, "/h", "Docs/../x", true},
		{move, "/h/bin", "../Docs/a/../b", false},
		{move, "/h/bin", "/h/Docs/a/../../x", true}, {move, "/h", "../h/./Docs/..", true},
		{move, "/h", "Documents/../x", false},
		{on, "/h", "/mnt/b/Docs/x", true}, {on, "/h", "Docs/x", false}, {on, "/h", "../mnt/b/Docs", true},
		{on, "/h", "/mnt/b/Docs2", false},
	} {
		require.Equal(t, c.breaks, c.folder.breaks(c.dir, c.text), "%s: %s => %s", c.folder.From, c.dir, c.text)
	}
}
