package compare

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nexlin/internal/handle"
)

type listing []string

func (l *listing) Peek() *string {
	if len(*l) == 0 {
		return nil
	}
	return &(*l)[0]
}
func (l *listing) Next() { *l = (*l)[1:] }

func same(s *string) string { return *s }

// Of any two listings, each path is told once: as one's own or as both's, in order.
func TestEveryPathIsToldOnce(t *testing.T) {
	path := rapid.StringMatching(`[ab.-]{1,2}(/[ab]){0,2}`)
	paths := rapid.Map(rapid.SliceOfDistinct(path, func(s string) string { return s }), func(l []string) []string {
		slices.SortFunc(l, handle.Compare)
		return l
	})
	rapid.Check(t, func(t *rapid.T) {
		left, right := paths.Draw(t, "left"), paths.Draw(t, "right")
		l := listing(slices.Clone(left))
		var told, want []string
		alone := func(s *string) error { told = append(told, "left "+*s); return nil }
		for _, p := range right {
			both, err := To(&l, new(string), same, p, alone)
			require.NoError(t, err)
			if both != nil {
				require.Equal(t, p, *both)
				told = append(told, "both "+p)
			} else {
				told = append(told, "right "+p)
			}
		}
		require.NoError(t, Rest(&l, new(string), alone))
		all := slices.Concat(left, right)
		slices.SortFunc(all, handle.Compare)
		for _, p := range slices.Compact(all) {
			switch side := slices.Contains(left, p); {
			case side && slices.Contains(right, p):
				want = append(want, "both "+p)
			case side:
				want = append(want, "left "+p)
			default:
				want = append(want, "right "+p)
			}
		}
		require.Equal(t, strings.Join(want, "\n"), strings.Join(told, "\n"))
	})
}

func TestAnErrorEndsIt(t *testing.T) {
	stop := errors.New("stop")
	l := listing{"a", "b", "c"}
	_, err := To(&l, new(string), same, "c", func(*string) error { return stop })
	require.ErrorIs(t, err, stop)
	require.Equal(t, listing{"b", "c"}, l)
	require.ErrorIs(t, Rest(&l, new(string), func(*string) error { return stop }), stop)
	at, err := To(&l, new(string), same, "c", nil)
	require.NoError(t, err)
	require.Equal(t, "c", *at)
}
