package pathtext

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
)

func TestShow(t *testing.T) {
	for in, want := range map[string]string{
		"plain":         "plain",
		"mit Leerraum":  "mit Leerraum",
		"a\nb":          `a\nb`,
		"\x1b[31mred":   `\u001b[31mred`,
		"\xff\xfe":      `\xff\xfe`,
		"a‮gpj":         `a\u202egpj`,
		`back\slash`:    `back\slash`,
		"back\\\nslash": `back\\\nslash`,
	} {
		require.Equal(t, want, Show(in))
	}
}

func FuzzShow(f *testing.F) {
	f.Add("a\x1b]0;x\x07")
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Show(s) {
			if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
				t.Fatalf("%q lets %U through", s, r)
			}
		}
	})
}

// What JSON means does not change, and nothing in it acts on a terminal.
func FuzzEscapeJSON(f *testing.F) {
	f.Add("a\u202egpj \u009b31m \x7f \U000e0041 plain")
	f.Fuzz(func(t *testing.T, s string) {
		b, err := json.MarshalIndent(map[string]string{s: s}, "", " ")
		require.NoError(t, err)
		out := EscapeJSON(b)
		var want, got map[string]string
		require.NoError(t, json.Unmarshal(b, &want))
		require.NoError(t, json.Unmarshal(out, &got))
		require.Equal(t, want, got)
		for _, r := range string(out) {
			if r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) {
				t.Fatalf("%q lets %U through", s, r)
			}
		}
	})
}

func FuzzPathJSON(f *testing.F) {
	f.Add("a\xffb")
	f.Add("�")
	f.Fuzz(func(t *testing.T, s string) {
		b, err := json.Marshal(Path(s))
		require.NoError(t, err)
		var back Path
		require.NoError(t, json.Unmarshal(b, &back))
		require.Equal(t, s, string(back))
	})
}

func TestPathRefusesOtherObjects(t *testing.T) {
	var p Path
	for _, s := range []string{`{}`, `{"base64": 3}`, `3`, `{"base64":"§"}`} {
		require.Error(t, json.Unmarshal([]byte(s), &p), s)
	}
}

// A quoted name, typed into a shell, is the name.
func TestQuoteForTheShell(t *testing.T) {
	for _, s := range []string{"plain", "a b", "it's", "$HOME `id`", "new\nline", "tab\t'q'\\", "\x1b[0m", "", "-rf", "ünï", "\xff"} {
		out, err := exec.Command("bash", "-c", "printf %s "+Quote(s)).Output()
		require.NoError(t, err)
		require.Equal(t, s, string(out), Quote(s))
		require.False(t, strings.ContainsAny(Quote(s), "\n\x1b"))
	}
}
