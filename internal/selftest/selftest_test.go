package selftest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
)

// Whatever differs between two folders shows in their pictures, down to what both drives keep.
func TestPicturesTellWhatDiffers(t *testing.T) {
	at := t.TempDir()
	file := filepath.Join(at, "nest")
	require.NoError(t, os.WriteFile(file, []byte("eggs"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(at, "empty"), 0o755))
	all := drive.Abilities{Modes: true, Xattrs: true, TimeStep: time.Nanosecond}
	coarse := drive.Abilities{TimeStep: 2 * time.Second}
	look := func(a *drive.Abilities) picture {
		p, err := viewerOf(&all, a).of(at)
		require.NoError(t, err)
		return p
	}
	exact, rough := look(&all), look(&coarse)
	require.Empty(t, exact.differs(look(&all)))
	st, err := os.Stat(file)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(file, st.ModTime(), st.ModTime().Truncate(2*time.Second)))
	require.NoError(t, os.Chmod(file, 0o644))
	require.Contains(t, exact.differs(look(&all)), `"nest" is`)
	require.Empty(t, rough.differs(look(&coarse)), "permissions, and a time within its step, are not kept there")
	require.NoError(t, os.WriteFile(file, []byte("Eggs"), 0o600))
	require.Contains(t, rough.differs(look(&coarse)), `"nest" is`)
	require.NoError(t, os.Remove(file))
	require.Equal(t, `"nest" is missing`, rough.differs(look(&coarse)))
	require.NoError(t, os.WriteFile(filepath.Join(at, "more"), nil, 0o600))
	require.Equal(t, `"more" is there and should not be`, rough.differs(look(&coarse)))
}

// A report names nobody.
func TestReportsNameNobody(t *testing.T) {
	p := &play{o: &Options{Home: "/home/ines", Into: "/media/BASALT/birds"},
		at: &place{source: "/home/ines/nexlin-selftest", target: "/media/BASALT/birds/nexlin-selftest"}}
	said := strings.NewReplacer(p.private()...).Replace("/home/ines/nexlin-selftest/home: busy; " +
		"/media/BASALT/birds/nexlin-selftest/x and /media/BASALT/birds; /home/ines; ines may not")
	require.Equal(t, "FOLDER/home: busy; TARGET/x and DIR; HOME; ACCOUNT may not", said)
}

// The record of a self-test that was killed is read as hostile.
func FuzzRecord(f *testing.F) {
	f.Add(`{"nexlin_selftest": 1, "targets": [{"path": "/x/nexlin-selftest", "id": "a", "drive": "b"}]}`)
	f.Add(`{"nexlin_selftest": 2}`)
	f.Add(strings.Repeat("[", 20_000))
	f.Fuzz(func(t *testing.T, text string) {
		at := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(at, record), []byte(text), 0o600))
		d, err := handle.Open(at)
		require.NoError(t, err)
		defer d.Release()
		if r, err := readRecord(d); err == nil {
			require.Equal(t, 1, r.Version)
		}
	})
}
