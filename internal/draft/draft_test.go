package draft

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nexlin/internal/card"
	"nexlin/internal/setting"
)

// Whatever folders and programs are called, a draft reads as a card that says what was seen.
func TestAnyDraftIsACard(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringOf(rapid.Rune().Filter(func(r rune) bool { return r != 0 && r != '/' && r != '{' && r != '}' }))
		d := &Draft{Name: Named(word.Draw(t, "name")), Folder: "/home/ines/x" + word.Draw(t, "folder"),
			Made: time.Unix(1_800_000_000, 0), Bytes: 100, Recent: rapid.Int64Range(0, 100).Draw(t, "recent"),
			vars: map[string]string{"home": "/home/ines"}}
		if rapid.Bool().Draw(t, "used") {
			d.Programs = []string{"x" + word.Draw(t, "program")}
			d.Services = []string{"x" + word.Draw(t, "service")}
		}
		d.Complete = rapid.Bool().Draw(t, "complete")
		for range rapid.IntRange(0, 3).Draw(t, "settings") {
			d.Settings = append(d.Settings, card.Setting{File: d.short("/home/ines/.config/" + word.Draw(t, "file")),
				Format: setting.JSON, At: "/" + strings.NewReplacer("~", "~0").Replace(word.Draw(t, "at"))})
		}
		c, err := card.Parse("draft.yaml", d.Text())
		if err != nil {
			t.Fatalf("%v\n%s", err, d.Text())
		}
		if len(c.Settings) != len(d.Settings) || len(c.InUse.Programs) != len(d.Programs) || len(c.Folders) != 1 {
			t.Fatalf("%s", d.Text())
		}
		for i, s := range d.Settings {
			if c.Settings[i].File != s.File || c.Settings[i].At != s.At {
				t.Fatalf("%q %q: %s", s.File, s.At, d.Text())
			}
		}
		if len(d.Programs) > 0 && c.InUse.Programs[0] != d.Programs[0] {
			t.Fatalf("%q: %s", d.Programs, d.Text())
		}
	})
}

func TestGrowthAndNames(t *testing.T) {
	for _, c := range []struct {
		bytes, recent int64
		want          float64
	}{{100, 20, 1.4}, {100, 0, 0}, {100, 100, 0}, {0, 0, 0}, {1000, 1, 1}} {
		require.Equal(t, c.want, (&Draft{Bytes: c.bytes, Recent: c.recent}).Growth(), c)
	}
	for folder, want := range map[string]string{"/h/Field Notes": "field-notes", "/h/.roost_2": "roost-2", "/h/Vögel": "v-gel",
		"/h/日本": "folder", "/h/" + strings.Repeat("ab ", 30): strings.Trim(strings.Repeat("ab-", 30)[:40], "-")} {
		require.Equal(t, want, Named(folder))
		require.True(t, card.IsName(Named(folder)))
	}
}
