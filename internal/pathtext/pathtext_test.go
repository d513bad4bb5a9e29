package pathtext

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func TestShow(t *testing.T) {
	for in, want := range map[string]string{
		"plain":         "plain",
		"mit Leerraum":  "mit Leerraum",
		"a\nb":          `a\nb`,
		"\x1b[31mred":   `\u001b[31mred`,
		"\xff\xfe":      `\xff\xfe`,
		"a\u202egpj":    `a\u202egpj`,
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

func FuzzCodec(f *testing.F) {
	f.Add("a\xffb")
	f.Add("\x00base64:YQ==")
	f.Add("{\"base64\":\"YQ==\"}")
	f.Fuzz(func(t *testing.T, s string) {
		type inner struct{ A any }
		type all struct {
			S    string `json:"s"`
			L    []string
			M    map[string]string
			P    *string
			I    any
			In   inner
			Raw  json.RawMessage
			T    time.Time
			Skip string `json:"-"`
			B    []byte
		}
		raw, err := Marshal(s)
		require.NoError(t, err)
		in := all{s, []string{"x", s}, map[string]string{"k": s}, &s, s, inner{[]any{s, 1.5, nil}}, raw,
			time.Unix(5, 0).UTC(), "", []byte(s)}
		b, err := Marshal(in)
		require.NoError(t, err)
		require.True(t, json.Valid(b))
		require.True(t, utf8.Valid(b))
		var out all
		require.NoError(t, UnmarshalStrict(b, &out))
		var again string
		require.NoError(t, Unmarshal(out.Raw, &again))
		require.Equal(t, s, again)
		in.Raw, out.Raw = nil, nil
		if s == "" {
			in.B, out.B = nil, nil
		}
		require.Equal(t, in, out)
	})
}

// The form is that of ledgers and notes written before.
func TestCodecKeepsItsForm(t *testing.T) {
	for s, want := range map[string]string{"plain": `"plain"`, "a\xffb": `{"base64":"Yf9i"}`, "<&>": `"<&>"`} {
		b, err := Marshal(s)
		require.NoError(t, err)
		require.Equal(t, want, string(b))
	}
	var got struct{ A string }
	require.NoError(t, Unmarshal([]byte("{\n \"A\": {\n  \"base64\": \"Yf9i\"\n }\n}"), &got))
	require.Equal(t, "a\xffb", got.A)
	require.Error(t, Unmarshal([]byte(`{"A":{"base64":5}}`), &got))
	require.Error(t, UnmarshalStrict([]byte(`{"A":"","B":""}`), &got))
}

func TestCodecRefusesOtherObjects(t *testing.T) {
	var p string
	for _, s := range []string{`{}`, `{"base64": 3}`, `3`, `{"base64":"§"}`, `{"base64":"A"}`} {
		require.Error(t, Unmarshal([]byte(s), &p), s)
	}
}

// A quoted name, typed into a shell, is the name.
func TestQuoteForTheShell(t *testing.T) {
	for _, s := range []string{"plain", "a b", "it's", "$HOME `id`", "new\nline", "tab\t'q'\\", "\x1b[0m", "", "-rf",
		"ünï", "\xff"} {
		out, err := exec.Command("bash", "-c", "printf %s "+Quote(s)).Output()
		require.NoError(t, err)
		require.Equal(t, s, string(out), Quote(s))
		require.False(t, strings.ContainsAny(Quote(s), "\n\x1b"))
	}
}

// Both shells of Windows read what is quoted as the name itself.
func TestQuotesOfWindows(t *testing.T) {
	for s, want := range map[string]string{
		`C:\Users\ines`: `C:\Users\ines`, `D:\`: `D:\`, `D:\Field notes`: `"D:\Field notes"`, `D:\my x\`: `"D:\my x\\"`,
		"": `""`, `D:\a&b`: `"D:\a&b"`, `D:\it's`: `"D:\it's"`, `D:\$x`: `'D:\$x'`, "D:\\`x it's": "'D:\\`x it''s'",
		`D:\Vögel`: `D:\Vögel`, `D:\50% off`: `"D:\50% off"`,
	} {
		require.Equal(t, want, QuoteWindows(s), s)
	}
}
