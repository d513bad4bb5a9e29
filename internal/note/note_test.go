//go:build linux

package note

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
)

func TestNotesAreHostile(t *testing.T) {
	n := Note{Version: 1, Name: "documents", Link: "/home/\xff", Target: "Documents", Account: "ines",
		State: Here, Made: time.Now().UTC()}
	b, err := pathtext.Marshal(n)
	require.NoError(t, err)
	got, err := parseNote(b)
	require.NoError(t, err)
	require.Equal(t, n, *got)
	for _, target := range []string{"", ".", "..", "a/b", "/etc", "a\x00b"} {
		n.Target = target
		b, err := pathtext.Marshal(n)
		require.NoError(t, err)
		_, err = parseNote(b)
		require.ErrorIs(t, err, ErrBad, "%q", target)
	}
	for _, text := range []string{"", "{}", `{"nexlin":2,"name":"a","target":"b"}`,
		`{"nexlin":1,"name":"../a","target":"b"}`, `{"nexlin":1,"name":"a","target":"b","x":1}`} {
		_, err := parseNote([]byte(text))
		require.ErrorIs(t, err, ErrBad, text)
	}
	d, err := handle.Open(t.TempDir())
	require.NoError(t, err)
	defer d.Release()
	_, err = Read(d, "../../etc/passwd")
	require.ErrorIs(t, err, ErrBad)
}

func FuzzNote(f *testing.F) {
	f.Add([]byte(`{"nexlin":1,"name":"a","link":"/l","target":"b","state":"here"}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if n, err := parseNote(b); err == nil {
			require.NotContains(t, n.Target, "/")
			require.True(t, naming.Valid(n.Name))
		}
	})
}
