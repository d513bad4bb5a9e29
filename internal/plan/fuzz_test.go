package plan

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
)

// A saved plan, however damaged, leads no run out of the directories that it
// names.
func FuzzPlan(f *testing.F) {
	f.Add(
		[]byte(
			`{"run":"20261129-abcde","kind":"move","name":"a","link":"/h/a","target":"/d/a","from":"/h/a","into":"/d","final":"a","held_in":"/h","held":".a.held-20261129-abcde","settings":[{"file":"/h/s"}],"store":{"store":"s"},"before":{"Name":"a","Link":"/h/a","Target":"/d/a","Settings":null}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Of(ledger.RunRow{ID: "20261129-abcde", Plan: b})
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
