package junction

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// golden vectors, written by hand from the published structure: tag, length,
// reserved, offset and length of both names, the names with their ends.
var golden = []struct {
	target, hex, substitute, print string
}{
	{`D:\x`, "030000a0" + "2400" + "0000" + "0000" + "1000" + "1200" + "0800" +
		"5c003f003f005c00" + "44003a005c007800" + "0000" + "44003a005c007800" + "0000", `\??\D:\x`, `D:\x`},
	{`E:\`, "030000a0" + "2000" + "0000" + "0000" + "0e00" + "1000" + "0600" +
		"5c003f003f005c00" + "45003a005c00" + "0000" + "45003a005c00" + "0000", `\??\E:\`, `E:\`},
	{`C:\ö`, "030000a0" + "2400" + "0000" + "0000" + "1000" + "1200" + "0800" +
		"5c003f003f005c00" + "43003a005c00f600" + "0000" + "43003a005c00f600" + "0000", `\??\C:\ö`, `C:\ö`},
	{`\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\`, "030000a0" + "d000" + "0000" + "0000" + "6200" + "6400" +
		"6200" +
		"5c003f003f005c00" + volumeHex + "0000" + "5c005c003f005c00" + volumeHex + "0000",
		`\??\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\`, `\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\`},
}

// Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\ in UTF-16.
const volumeHex = "56006f006c0075006d0065007b00" + "3000660031006500320064003300630" + "02d00" + "3400620035006100" +
	"2d00" +
	"3600390037003800" + "2d00" + "3800370039003600" + "2d00" + "610035006200340063003300640032006500310066003000" +
	"7d00" + "5c00"

func TestGoldenBytes(t *testing.T) {
	for _, g := range golden {
		want, err := hex.DecodeString(g.hex)
		require.NoError(t, err)
		got, err := Encode(g.target)
		require.NoError(t, err)
		require.Equal(t, want, got, g.target)
		l, err := Decode(want)
		require.NoError(t, err)
		require.Equal(t, Link{Tag: Tag, Substitute: g.substitute, Print: g.print}, l)
		require.Equal(t, g.target, l.Target())
	}
}

// A symbolic link as the system writes it: four bytes of flags more, and the
// names the other way round.
func TestSymlinkBytes(t *testing.T) {
	b, err := hex.DecodeString("0c0000a0" + "1800" + "0000" + "0600" + "0600" + "0000" + "0600" + "01000000" +
		"61005c006200" + "61005c006200")
	require.NoError(t, err)
	l, err := Decode(b)
	require.NoError(t, err)
	require.Equal(t, Link{Tag: SymlinkTag, Substitute: `a\b`, Print: `a\b`, Relative: true}, l)
	require.Equal(t, `a\b`, l.Target())
}

func TestTargets(t *testing.T) {
	for target, want := range map[string]string{
		`d:/ines/Documents/`:   `D:\ines\Documents`,
		`\\?\D:\ines`:          `D:\ines`,
		`D:`:                   `D:\`,
		`D:\..`:                "",
		`D:\a\\b`:              "",
		`D:ines`:               "",
		`ines`:                 "",
		`\ines`:                "",
		`\\server\share\ines`:  "",
		`\\?\UNC\server\share`: "",
		`\\.\PhysicalDrive0`:   "",
		`D:\a:stream`:          "",
		"D:\\a\nb":             "",
		"D:\\\xff":             "",
		`\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}`:    "",
		`\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1fg}\a`:  "",
		`\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\a\`: `\\?\Volume{0f1e2d3c-4b5a-6978-8796-a5b4c3d2e1f0}\a`,
		`D:\` + strings.Repeat("x", 3000):                     `D:\` + strings.Repeat("x", 3000),
		`D:\` + strings.Repeat(strings.Repeat("x", 250)+`\`, 24): `D:\` +
			strings.TrimSuffix(strings.Repeat(strings.Repeat("x", 250)+`\`, 24), `\`),
	} {
		got, err := Clean(target)
		if want == "" {
			require.ErrorIs(t, err, ErrTarget, target)
			_, err = Encode(target)
			require.ErrorIs(t, err, ErrTarget, target)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, want, got)
		b, err := Encode(target)
		require.NoError(t, err)
		l, err := Decode(b)
		require.NoError(t, err)
		require.Equal(t, want, l.Target(), "also where there is no room for the name that people are shown")
	}
	_, err := Encode(`D:\` + strings.Repeat("x", 9000))
	require.ErrorIs(t, err, ErrTarget)
}

func TestEncodeDecode(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.StringMatching(`[^\\/:*?"<>|\x00-\x1f.]{1,40}`), 0, 30).Draw(t, "parts")
		root := rapid.SampledFrom([]string{`C:\`, `Z:\`, `\\?\Volume{00112233-4455-6677-8899-aabbccddeeff}\`}).Draw(t,
			"root")
		target := root + strings.Join(parts, `\`)
		b, err := Encode(target)
		require.NoError(t, err)
		l, err := Decode(b)
		require.NoError(t, err)
		require.Equal(t, target, l.Target())
		require.Equal(t, uint32(Tag), l.Tag)
		// A byte less, or one more, is never read as a whole.
		_, err = Decode(b[:len(b)-1])
		require.ErrorIs(t, err, ErrMalformed)
		_, err = Decode(append(b, 0))
		require.ErrorIs(t, err, ErrMalformed)
	})
}

func FuzzDecode(f *testing.F) {
	for _, g := range golden {
		b, err := hex.DecodeString(g.hex)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Decode(b)
		if err != nil {
			require.ErrorIs(t, err, ErrMalformed)
			return
		}
		require.NotEmpty(t, l.Substitute)
		if again, err := Encode(l.Target()); err == nil && l.Tag == Tag {
			back, err := Decode(again)
			require.NoError(t, err)
			clean, err := Clean(l.Target())
			require.NoError(t, err)
			require.Equal(t, clean, back.Target())
		}
	})
}
