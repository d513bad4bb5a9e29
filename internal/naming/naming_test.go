package naming

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		"Documents": "documents", "My Photos": "my-photos", "  -- ": "folder", "\xff\xfe": "folder",
		"Ünï!Code": "ünï-code", ".hidden": "hidden",
	} {
		require.Equal(t, want, Default(in))
	}
	rapid.Check(t, func(t *rapid.T) {
		base := string(rapid.SliceOfN(rapid.Byte().Filter(func(c byte) bool { return c != 0 && c != '/' }), 1,
			255).Draw(t, "base"))
		require.True(t, Valid(Default(base)), "%q makes %q", base, Default(base))
		held := Held(base, "20261123-abcde")
		require.LessOrEqual(t, len(held), Max)
		require.True(t, strings.HasPrefix(held, "."))
		require.True(t, strings.HasSuffix(held, ".held-20261123-abcde"))
	})
	for _, bad := range []string{"", ".x", "-x", "a b", "a/b", "a\x00", strings.Repeat("x", 61), "a'b"} {
		require.False(t, Valid(bad), bad)
	}
	require.True(t, Near("documnets", "documents"))
	require.True(t, Near("doc", "documents"))
	require.False(t, Near("music", "documents"))
	require.Equal(t, 3, distance("kitten", "sitting"))
	require.True(t, IsOwn(Held("Documents", "20261123-abcde")))
	require.True(t, IsOwn(Part("20261123-abcde")))
	require.False(t, IsOwn(".nexlinger"))
}
