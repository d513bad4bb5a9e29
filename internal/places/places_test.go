//go:build linux

package places

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/ledger"
	"nexlin/test/lab"
)

// A name is the one that its directory has, however it was typed.
func TestNamesAsOnDisk(t *testing.T) {
	dune, _ := lab.FuseDrive(t, "exfat", "DUNE", 16)
	lab.Tree{"Ines/Field Notes/a: x"}.Make(t, dune)
	require.Equal(t, filepath.Join(dune, "Ines/Field Notes"), Resolved(filepath.Join(dune, "INES/field notes")))
	require.Equal(t, filepath.Join(dune, "Ines/new/Deep"), ResolvedDir(filepath.Join(dune, "ines/new/Deep")))
	require.Equal(t, filepath.Join(dune, "Ines"), Resolved(filepath.Join(dune, "Ines")))
	same := t.TempDir()
	lab.Tree{"a/x: x", "A/x: x", "1/x: x"}.Make(t, same)
	for _, name := range []string{"a", "A", "1", "none"} {
		require.Equal(t, filepath.Join(same, name), Resolved(filepath.Join(same, name)))
	}
}

var basalt = ledger.DriveRef{ID: "b-id", UUID: "b-uuid", Label: "BASALT", Mount: "/media/ines/BASALT", TagPlace: "."}

// known makes places with a ledger that knows one redirect on BASALT.
func known(t *testing.T) (*Places, ledger.Redirect) {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	l, err := ledger.Open(filepath.Join(dir, "state"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	home := filepath.Join(dir, "home/ines")
	require.NoError(t, os.MkdirAll(home, 0o755))
	r := ledger.Redirect{Name: "charts", State: ledger.Linked, Link: filepath.Join(home, "Charts"),
		Target: "/media/ines/BASALT/ines/Charts", Drive: basalt, Run: "20260503-abcde"}
	require.NoError(t, l.Do(func(tx *ledger.Tx) error {
		if err := tx.AddHeld(ledger.Held{Redirect: "charts", Path: filepath.Join(home, ".Charts.held")}); err != nil {
			return err
		}
		return tx.SaveRedirect(r)
	}))
	return &Places{Ledger: l, Drives: &drive.System{}, Homes: []string{"/", home}}, r
}

// Each cause of an absence has its own words, and a command that people can paste.
func TestAbsenceSaysWhatBringsItBack(t *testing.T) {
	p, _ := known(t)
	p.Stopped = func(ledger.RunRow) []Known { return nil }
	other := basalt
	other.ID, other.UUID, other.Mount = "d-id", "d-uuid", "/media/ines/D I"
	require.NoError(t, p.Ledger.Do(func(tx *ledger.Tx) error {
		return tx.SaveRedirect(ledger.Redirect{Name: "other", State: ledger.Linked, Link: "/o",
			Target: "/media/ines/D I/o",
			Drive:  other})
	}))
	contested := basalt
	contested.Mount = other.Mount
	for _, c := range []struct {
		is     Whereabouts
		want   ledger.DriveRef
		code   finding.Code
		remedy string
	}{
		{Whereabouts{}, basalt, finding.DriveAway, "`mount UUID=b-uuid /media/ines/BASALT`"},
		{Whereabouts{Twice: []string{"/a", "/b c"}}, basalt, finding.DriveTwice, "`umount '/b c'`"},
		{Whereabouts{Cover: "/media/ines"}, basalt, finding.Covered, "`umount /media/ines`; the data is below it"},
		{Whereabouts{Older: "/media/old"}, basalt, finding.OlderClone, ""},
		{Whereabouts{Other: &drive.Drive{Label: "DUNE"}}, basalt, finding.DriveSwapped,
			"plug BASALT in, then `mount UUID=b-uuid /media/ines/BASALT`"},
		{Whereabouts{Other: &drive.Drive{Label: "DUNE"}}, contested, finding.DriveSwapped,
			"`mkdir -p -- '/media/ines/D I-2' && mount UUID=b-uuid '/media/ines/D I-2'`"},
	} {
		f := p.Absence(&c.is, "charts", c.want, "/media/ines/BASALT/ines/Charts")
		require.Equal(t, c.code, f.Code)
		require.Contains(t, f.Remedy, c.remedy, c.code)
	}
}

// What the ledger knows on an absent drive is nobody's to write to, whatever stands
// there; so is where a stopped run goes on (I5).
func TestExpected(t *testing.T) {
	p, r := known(t)
	p.Stopped = func(ledger.RunRow) []Known {
		return []Known{{Name: "late", Drive: ledger.DriveRef{ID: "x", UUID: "x", Mount: "/media/x"},
			Path: "/media/x/late"}}
	}
	run, err := p.Ledger.Begin("20260504-abcde", "move", "late", struct{}{}, nil)
	require.NoError(t, err)
	require.NoError(t, run.Set(ledger.Stopped, "killed", nil))
	run.Release()
	for path, away := range map[string]bool{r.Target: true, "/media/ines/BASALT/else": true, "/media/x/late": true,
		filepath.Join(p.Homes[1], "Free"): false} {
		f, err := p.Expected(filepath.Dir(path), path)
		require.NoError(t, err, path)
		require.Equal(t, away, f != nil, path)
		if away {
			require.Equal(t, finding.Blocker, f.Severity)
			require.Equal(t, finding.DriveAway, f.Code)
		}
	}
}

func TestWhatIsNothingToMove(t *testing.T) {
	p, r := known(t)
	home := p.Homes[1]
	for path, free := range map[string]bool{"/": false, "/usr/lib/x": false, "/mnt": false, "/mnt/x": true, home: false,
		filepath.Join(home, "Music"): true, filepath.Join(home, ".Charts.held", "sub"): false,
		p.Ledger.Dir(): false, filepath.Dir(p.Ledger.Dir()): false, "/media/x/.nexlin/notes": false} {
		why, err := p.Protected(path)
		require.NoError(t, err)
		require.Equal(t, free, why == "", "%s: %s", path, why)
	}
	require.Equal(t, home, p.HomeOf(r.Link))
	require.Empty(t, p.HomeOf("/var/lib"))
	is, err := p.ByLink(r.Link)
	require.NoError(t, err)
	require.Equal(t, "charts", is.Name)
	for _, c := range []struct {
		own, link, from string
		code            finding.Code
	}{
		{"", home + "/Other", r.Target, finding.TargetShared},
		{"", home + "/Other", r.Target + "/sub", finding.InsideRedirect},
		{"", home + "/Other", home, finding.HoldsRedirect}, {"charts", r.Link, r.Target, ""},
		{"", home + "/Other", home + "/Other", ""},
	} {
		found, err := p.Nested(c.own, c.link, c.from)
		require.NoError(t, err)
		require.Equal(t, c.code != "", len(found) == 1, c.from)
		if c.code != "" {
			require.Equal(t, c.code, found[0].Code, c.from)
		}
	}
	shared, err := p.Shared("new", r.Target)
	require.NoError(t, err)
	require.Len(t, shared, 1)
}

// Of many redirects that are looked at in one moment the ledger is asked once for all: once it was
// asked, it may be gone.
func TestOneLookAsksTheLedgerOnce(t *testing.T) {
	p, r := known(t)
	now := p.AtOnce()
	for range 2 {
		w, err := now.Whereabouts(r.Drive, r.Target)
		require.NoError(t, err)
		require.Equal(t, finding.DriveAway, now.Absence(&w, r.Name, r.Drive, r.Target).Code)
		held, err := now.Held("charts")
		require.NoError(t, err)
		require.Len(t, held, 1)
		is, err := now.ByLink(r.Link)
		require.NoError(t, err)
		require.Equal(t, "charts", is.Name)
		shared, err := now.Shared("other", r.Target)
		require.NoError(t, err)
		require.Len(t, shared, 1)
		below, err := now.KnownBelow("/media/ines", ledger.DriveRef{})
		require.NoError(t, err)
		require.True(t, below)
		ours, err := now.Ours()
		require.NoError(t, err)
		require.True(t, ours(held[0].Path))
		f, err := now.Expected("/media/ines/BASALT/x", "/media/ines/BASALT/x/y")
		require.NoError(t, err)
		require.NotNil(t, f)
		require.NoError(t, p.Ledger.Close())
	}
	_, err := p.ByLink(r.Link)
	require.Error(t, err, "outside of a look it is asked each time")
}
