package ea

import (
	"encoding/binary"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// chain joins attributes as the system answers them, each at a multiple of four.
func chain(t testing.TB, all ...Attribute) (out []byte) {
	for i, a := range all {
		b, err := Encode(a)
		require.NoError(t, err)
		if i < len(all)-1 {
			b = append(b, make([]byte, (4-len(b)%4)%4)...)
			binary.LittleEndian.PutUint32(b, uint32(len(b)))
		}
		out = append(out, b...)
	}
	return out
}

func TestAttributesComeBackAsTheyWere(t *testing.T) {
	all := []Attribute{{"$LXUID", []byte{0xe8, 3, 0, 0}}, {"$LXMOD", []byte{0xa4, 0x81, 0, 0}}, {"A", []byte("b")}}
	got, err := Parse(chain(t, all...))
	require.NoError(t, err)
	require.Equal(t, all, got)
	for what, bad := range map[string][]byte{
		"nothing": nil, "a head alone": make([]byte, head), "no name": append(make([]byte, head), 0),
		"cut off":        chain(t, all...)[:20],
		"points at once": binary.LittleEndian.AppendUint32(nil, 1),
	} {
		_, err := Parse(bad)
		require.ErrorIs(t, err, ErrMalformed, what)
	}
	for _, a := range []Attribute{{}, {Name: strings.Repeat("n", 255)}, {Name: "a\x00b"}, {"n", make([]byte, 1<<16)}} {
		_, err := Encode(a)
		require.ErrorIs(t, err, ErrMalformed)
	}
	require.True(t, SystemsOwn("$Kernel.Purge.x"))
	require.False(t, SystemsOwn("$LXUID"))
}

func FuzzAttributes(f *testing.F) {
	f.Add(chain(f, Attribute{"$LXUID", []byte{1, 2, 3, 4}}, Attribute{"B", nil}))
	f.Fuzz(func(t *testing.T, b []byte) {
		all, err := Parse(b)
		if err == nil {
			again, err := Parse(chain(t, all...))
			require.NoError(t, err)
			require.Len(t, again, len(all))
		}
	})
}
