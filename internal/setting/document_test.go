package setting

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

const (
	oldPlace = "/home/ines/Shelf of tiles"
	newPlace = "/mnt/basalt/ines/Tiles & more"
)

// cases are settings files as programs write them, with OLD and NEW for the
// two places as the format writes them.
var cases = []struct {
	name   string
	format Format
	at     string
	file   string
	want   string // empty: file with every OLD replaced by NEW
	old    string // as written; empty: oldPlace
	now    string
	edits  int
}{
	{name: "json", format: JSON, at: "/store/path", edits: 1,
		file: "{\n\t\"a/b\": [1, 2.50, null],\n  \"store\" : { \"path\":\"OLD\", \"other\": \"/home/ines\" },\r\n " +
			"\"x\": \"\\u00e9\"}\n"},
	{name: "json below", format: JSON, at: "/p", edits: 1, file: `{"p":"OLD/cache/x"}`},
	{name: "json list", format: JSON, at: "/shelves/*", edits: 1,
		file: `{"shelves": ["/a", "OLD", "/home/ines/Shelf of tiles 2"]}`},
	{name: "json with comments", format: JSON, at: "/p", edits: 1, file: "// where\n{ /* \"p\" */ \"p\": \"OLD\", " +
		"// the /* shelf\n \"q\": [1,2,], }\n"},
	{name: "json twice", format: JSON, at: "/shelves/*", edits: 1, file: `{"shelves": ["NEW", "OLD", "/b"]}`,
		want: `{"shelves": ["NEW", "/b"]}`},
	{name: "json twice, first", format: JSON, at: "/shelves/*", edits: 1, file: `{"shelves": [ "OLD", "NEW"]}`,
		want: `{"shelves": [ "NEW"]}`},
	{name: "json address with signs", format: JSON, at: "/a~1b/c~0d/1", edits: 1, file: `{"a/b": {"c~d": [3, "OLD"]}}`},
	{name: "json uri", format: JSON, at: "/p", edits: 1, file: `{"p": "OLD"}`,
		old: "file:///home/ines/Shelf%20of%20tiles", now: "file:///mnt/basalt/ines/Tiles%20&%20more"},
	{name: "json home", format: JSON, at: "/p", edits: 1, file: `{"p": "OLD"}`, old: "~/Shelf of tiles"},
	{name: "json another folder", format: JSON, at: "/p", edits: 0,
		file: `{"p": "/home/ines/Shelf of tiles and more"}`},
	{name: "yaml", format: YAML, at: "/store/path", edits: 1,
		file: "# settings\nstore:\n  path: OLD   # where\n  size: 3\nother: [a, b]\n", now: `"` + newPlace + `"`},
	{name: "yaml quoted", format: YAML, at: "/p", edits: 1, file: "é: 'x'\np: 'OLD'\nq: \"a\"\n"},
	{name: "yaml list", format: YAML, at: "/shelves/*", edits: 1,
		file: "shelves:\n  - /a\n  - \"OLD\"   # ours\n  - /c\n"},
	{name: "yaml flow", format: YAML, at: "/shelves/*", edits: 1, file: "shelves: [ '/a', 'OLD' ]\n"},
	{name: "yaml twice", format: YAML, at: "/shelves/*", edits: 1, file: "shelves:\n  - \"NEW\"\n  - \"OLD\"\nx: 1\n",
		want: "shelves:\n  - \"NEW\"\nx: 1\n"},
	{name: "toml", format: TOML, at: "/store/path", edits: 1,
		file: "# top\ntitle = \"é\"\n[store]\npath = \"OLD\" # where\nsize = 1_000\n[[other]]\npath = \"OLD\"\n",
		want: "# top\ntitle = \"é\"\n[store]\npath = \"NEW\" # where\nsize = 1_000\n[[other]]\npath = \"OLD\"\n"},
	{name: "toml literal", format: TOML, at: "/p", edits: 1, file: "p = 'OLD'\n"},
	{name: "toml list", format: TOML, at: "/a/shelves/*", edits: 1,
		file: "[a]\nshelves = [\n  \"/x\", # one\n  \"OLD\",\n]\n"},
	{name: "toml tables", format: TOML, at: "/shelf/*/path", edits: 2,
		file: "[[shelf]]\npath = \"OLD\"\n[[shelf]]\npath = \"/x\"\n[[shelf]]\npath = \"OLD\"\n"},
	{name: "toml inline", format: TOML, at: "/s/path", edits: 1, file: "s = { path = \"OLD\", n = 1 }\n"},
	{name: "toml dotted", format: TOML, at: "/s/a/path", edits: 1, file: "s.a.path = \"OLD\"\ns.b = 1\n"},
	{name: "ini", format: INI, at: "/Store/Path", edits: 1, file: "; top\nkey=1\n[Store]\nPath = OLD\n# Path = " +
		"OLD\n[Other]\nPath = OLD\n",
		want: "; top\nkey=1\n[Store]\nPath = NEW\n# Path = OLD\n[Other]\nPath = OLD\n"},
	{name: "ini quoted, crlf", format: INI, at: "/Store/Path", edits: 1, file: "[Store]\r\nPath=\"OLD\"\r\nX=1\r\n"},
	{name: "ini top", format: INI, at: "/Path", edits: 1, file: "Path: OLD\n"},
	{name: "xml text", format: XML, at: "/config/store/path", edits: 1, now: "/mnt/basalt/ines/Tiles &amp; more",
		file: "<?xml version=\"1.0\"?>\n<!-- c -->\n<config a='1'>\n <store><path>OLD</path><x/></store>\n</config>\n"},
	{name: "xml attribute", format: XML, at: "/c/shelf[2]/@path", edits: 1, now: "/mnt/basalt/ines/Tiles &amp; more",
		file: "<c><shelf path='/a' xpath='OLD'/><shelf  xpath=\"1\" path = 'OLD' >t</shelf></c>",
		want: "<c><shelf path='/a' xpath='OLD'/><shelf  xpath=\"1\" path = 'NEW' >t</shelf></c>"},
	{name: "plist", format: PList, at: "/Shelves/1", edits: 1, now: "/mnt/basalt/ines/Tiles &amp; more",
		file: "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist " +
			"version=\"1.0\">\n<dict>\n\t<key>N</key><integer>3</integer>\n\t<key>Shelves</key>\n\t<array><string>/a</string><string>OLD</string></array>\n</dict></plist>\n"},
	{name: "keyvalue", format: KeyValue, at: "/STORE", edits: 1,
		file: "# STORE=OLD\nexport STORE=\"OLD\" # where\nOTHER='OLD'\n",
		want: "# STORE=OLD\nexport STORE=\"NEW\" # where\nOTHER='OLD'\n"},
	{name: "keyvalue single", format: KeyValue, at: "/STORE", edits: 1, file: "STORE='OLD'\n"},
	{name: "keyvalue bare", format: KeyValue, at: "/STORE", edits: 1, file: "STORE=OLD\n",
		old: `/home/ines/Shelf\ of\ tiles`, now: `"` + newPlace + `"`},
	{name: "keyvalue home", format: KeyValue, at: "/STORE", edits: 1, file: "STORE=\"OLD/x\"\n",
		old: "${HOME}/Shelf of tiles"},
	{name: "keyvalue no variable", format: KeyValue, at: "/STORE", edits: 0, file: "STORE='$HOME/Shelf of tiles'\n"},
	{name: "user-dirs", format: UserDirs, at: "/XDG_PICTURES_DIR", edits: 1,
		file: "# This file is written by " +
			"xdg-user-dirs-update\n\nXDG_DESKTOP_DIR=\"$HOME/Desktop\"\nXDG_PICTURES_DIR=\"OLD\"\nsomething else\n",
		old: "$HOME/Shelf of tiles"},
	{name: "bookmarks", format: Bookmarks, at: "/*", edits: 2,
		file: "file:///a\nOLD The tiles\nOLD/sub\nsftp://host/OLD\n",
		want: "file:///a\nNEW The tiles\nNEW/sub\nsftp://host/OLD\n",
		old:  "file:///home/ines/Shelf%20of%20tiles", now: "file:///mnt/basalt/ines/Tiles%20&%20more"},
}

func TestRedirectChangesTheValueAndNothingElse(t *testing.T) {
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			old, now := oldPlace, newPlace
			if c.old != "" {
				old = c.old
			}
			if c.now != "" {
				now = c.now
			}
			want := c.want
			if want == "" {
				want = strings.ReplaceAll(c.file, "OLD", "NEW")
				if strings.HasPrefix(now, `"`) {
					want = strings.ReplaceAll(strings.ReplaceAll(want, `"NEW"`, now), "NEW", now)
				}
			}
			file := strings.NewReplacer("OLD", old, "NEW", now).Replace(c.file)
			want = strings.NewReplacer("OLD", old, "NEW", now).Replace(want)
			if c.edits == 0 {
				want = file
			}
			got, edits, err := Redirect(c.format, []byte(file), c.at, oldPlace, newPlace, "/home/ines")
			require.NoError(t, err)
			require.Len(t, edits, c.edits)
			require.Equal(t, want, string(got))
			back, left, err := Revert(c.format, got, edits)
			require.NoError(t, err)
			require.Empty(t, left)
			require.Equal(t, file, string(back), "the way back gives every byte")
		})
	}
}

func TestRevertLeavesWhatOthersWrote(t *testing.T) {
	file := []byte(`{"p": "` + oldPlace + `", "q": 1}`)
	got, edits, err := Redirect(JSON, file, "/p", oldPlace, newPlace, "/home/ines")
	require.NoError(t, err)
	other := bytes.Replace(got, []byte(`"q": 1`), []byte(`"q": [2]`), 1)
	back, left, err := Revert(JSON, other, edits)
	require.NoError(t, err)
	require.Empty(t, left)
	require.Equal(t, `{"p": "`+oldPlace+`", "q": [2]}`, string(back))

	theirs := []byte(`{"p": "/elsewhere", "q": 1}`)
	back, left, err = Revert(JSON, theirs, edits)
	require.NoError(t, err)
	require.Equal(t, []string{"/p"}, left)
	require.Equal(t, theirs, back)
}

func TestBinaryPropertyList(t *testing.T) {
	was := map[string]any{"Shelves": []any{"/a", oldPlace}, "N": uint64(3), "D": []byte{1, 2}}
	data, err := plist.Marshal(was, plist.BinaryFormat)
	require.NoError(t, err)
	got, edits, err := Redirect(PList, data, "/Shelves/*", oldPlace, newPlace, "/home/ines")
	require.NoError(t, err)
	require.Len(t, edits, 1)
	var now map[string]any
	_, err = plist.Unmarshal(got, &now)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"Shelves": []any{"/a", newPlace}, "N": uint64(3), "D": []byte{1, 2}}, now)
	back, left, err := Revert(PList, got, edits)
	require.NoError(t, err)
	require.Empty(t, left)
	_, err = plist.Unmarshal(back, &now)
	require.NoError(t, err)
	require.Equal(t, was, now)
}

func TestPutAddsALine(t *testing.T) {
	for _, file := range []string{"", "# c\nXDG_MUSIC_DIR=\"$HOME/Music\"\n", "XDG_MUSIC_DIR=\"$HOME/Music\""} {
		got, edits, err := Put(UserDirs, []byte(file), "XDG_PICTURES_DIR", `/mnt/a "b" $c`)
		require.NoError(t, err)
		vs, err := Paths(UserDirs, got, "/XDG_PICTURES_DIR", "/home/ines")
		require.NoError(t, err)
		require.Len(t, vs, 1)
		require.Equal(t, `/mnt/a "b" $c`, vs[0].Text)
		back, left, err := Revert(UserDirs, got, edits)
		require.NoError(t, err)
		require.Empty(t, left)
		require.Equal(t, file, string(back))
	}
}

func TestRefusals(t *testing.T) {
	for _, c := range []struct {
		name   string
		format Format
		at     string
		file   string
		to     string
		want   error
	}{
		{"no address", JSON, "p", `{}`, newPlace, ErrAddress},
		{"bad escape", JSON, "/a~2", `{}`, newPlace, ErrAddress},
		{"no text", JSON, "/p", `{"p": 3}`, newPlace, ErrNoText},
		{"a block of text", YAML, "/p", "p: |\n  " + oldPlace + "\n", newPlace, ErrNoText},
		{"not UTF-8", JSON, "/p", `{"p": "` + oldPlace + `"}`, "/mnt/\xff", ErrPathText},
		{"a line end in a name", INI, "/p", "p=" + oldPlace, "/mnt/a\nb", errLine},
		{"a line end in a shell's word", KeyValue, "/P", "P=\"" + oldPlace + "\"", "/mnt/a\nb", errLine},
	} {
		_, _, err := Redirect(c.format, []byte(c.file), c.at, oldPlace, c.to, "/home/ines")
		assert.ErrorIs(t, err, c.want, c.name)
	}
	var syntax *SyntaxError
	for format, file := range map[Format]string{JSON: `{"p": `, YAML: "a: [", TOML: "a = ", XML: "<a><b></a>",
		PList: "<plist><dict><key>a</key></dict></plist>"} {
		_, err := Values(format, []byte(file), "/p")
		assert.ErrorAs(t, err, &syntax, string(format))
	}
	_, err := Values(XML, []byte(`<?xml version="1.0" encoding="ISO-8859-1"?><a>x</a>`), "/a")
	require.ErrorAs(t, err, &syntax)
}

// A file that is nested without end is refused before anything that would run out
// of stack reads it, and costs neither time nor memory.
func TestNestedWithoutEnd(t *testing.T) {
	const n = 1 << 20
	for name, c := range map[string]struct {
		format Format
		file   string
	}{
		"YAML, brackets":    {YAML, strings.Repeat("[", n)},
		"YAML, braces":      {YAML, strings.Repeat("{a: ", n)},
		"YAML, dashes":      {YAML, strings.Repeat("- ", n)},
		"YAML, questions":   {YAML, strings.Repeat("? ", n)},
		"YAML, indentation": {YAML, staircase(2000)},
		"TOML, brackets":    {TOML, "a = " + strings.Repeat("[", n)},
		"TOML, dots":        {TOML, strings.Repeat("a.", n) + "b = 1"},
		"JSON":              {JSON, strings.Repeat("[", n)},
		"XML":               {XML, strings.Repeat("<a>", n)},
		"XML, pieces":       {XML, "<a>" + strings.Repeat("x<!---->", n/4) + "</a>"},
		"property list":     {PList, "<plist>" + strings.Repeat("<array>", n)},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		_, err := Values(c.format, []byte(c.file), "/a")
		runtime.ReadMemStats(&after)
		require.Error(t, err, name)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(256<<20), name)
		require.Less(t, time.Since(began), time.Minute, name)
	}
	// What people write is not refused.
	require.NoError(t, CheckDepth([]byte("a:\n  - b:\n      c: [{d: 1}]\nversion: 1.2.3\n")))
}

func staircase(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}

// TestUserDirsAsTheirOwnProgramReadsThem asks Debian's xdg-user-dir.
func TestUserDirsAsTheirOwnProgramReadsThem(t *testing.T) {
	tool, err := exec.LookPath("xdg-user-dir")
	if err != nil {
		t.Skip("xdg-user-dirs is not installed")
	}
	home := t.TempDir()
	file := filepath.Join(home, ".config", "user-dirs.dirs")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	ask := func(what string) string {
		c := exec.Command(tool, what)
		c.Env = []string{"HOME=" + home, "PATH=" + os.Getenv("PATH")}
		out, err := c.Output()
		require.NoError(t, err)
		return strings.TrimSuffix(string(out), "\n")
	}
	data := []byte("# kept\nXDG_MUSIC_DIR=\"$HOME/Music\"\nXDG_PICTURES_DIR=\"$HOME/Pic \\\"tures\\\"\"\n")
	for i, to := range []string{"/mnt/basalt/plain", `/mnt/a "b"`, "/mnt/$HOME/`x`", `/mnt/back\slash`, "/mnt/é ü"} {
		require.NoError(t, os.WriteFile(file, data, 0o644))
		require.Equal(t, home+`/Pic "tures"`, ask("PICTURES"))
		got, edits, err := Redirect(UserDirs, data, "/XDG_PICTURES_DIR", home+`/Pic "tures"`, to, home)
		require.NoError(t, err)
		require.Len(t, edits, 1, i)
		require.NoError(t, os.WriteFile(file, got, 0o644))
		require.Equal(t, to, ask("PICTURES"))
		require.Equal(t, home+"/Music", ask("MUSIC"))
	}
}

// places are where settings files of real programs lie on a machine with Go
// and Debian's usual packages.
func places(t *testing.T) []string {
	out := []string{"/etc", "/usr/share", "/usr/lib"}
	if b, err := exec.Command("go", "env", "GOMODCACHE").Output(); err == nil {
		out = append(out, strings.TrimSpace(string(b)))
	}
	return out
}

// TestCorpus changes values of settings files as they lie on this machine:
// nothing but the value's own bytes may change, and the way back gives the
// file again.
func TestCorpus(t *testing.T) {
	kinds := map[string]Format{".json": JSON, ".yaml": YAML, ".yml": YAML, ".toml": TOML, ".ini": INI,
		".desktop": INI, ".xml": XML, ".svg": XML, ".plist": PList, ".conf": KeyValue}
	const enough = 15
	count, values, refused := map[Format]int{}, map[Format]int{}, map[Format]int{}
	for _, root := range places(t) {
		// what can't be read is passed over
		_ = filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			format, ok := kinds[filepath.Ext(path)]
			if err != nil || !ok || !d.Type().IsRegular() || count[format] >= enough {
				return nil
			}
			data, err := os.ReadFile(path)
			if err != nil || len(data) > 64<<10 {
				return nil
			}
			vs, err := allTexts(format, data)
			if err != nil || len(vs) == 0 {
				return nil
			}
			count[format]++
			for i := 0; i < len(vs); i += max(1, len(vs)/5) {
				v := vs[i]
				out, edits, err := change(format, data, v.At,
					func(string) (string, bool) { return newPlace, v.Text != newPlace })
				if err != nil {
					if !errors.Is(err, ErrNoText) { // a key that stands there twice
						require.ErrorIs(t, err, ErrWitness, "%s %s", path, v.At) // refused, which loses nothing
						refused[format]++
					}
					continue
				}
				if len(edits) != 1 { // one key twice
					continue
				}
				values[format]++
				want := string(data[:v.node.start]) + edits[0].New + string(data[v.node.end:])
				require.Equal(t, want, string(out), "%s %s", path, v.At)
				back, left, err := Revert(format, out, edits)
				require.NoError(t, err, "%s %s", path, v.At)
				require.Empty(t, left, "%s %s", path, v.At)
				require.Equal(t, data, back, "%s %s", path, v.At)
			}
			return nil
		})
	}
	t.Logf("files %v, values %v, refused %v", count, values, refused)
	for _, f := range []Format{JSON, YAML} { // a machine with little on it has few of the others
		require.Greater(t, values[f], 20, "real files of format %s", f)
	}
}

func allTexts(format Format, data []byte) ([]Value, error) {
	d, err := parse(format, data)
	if err != nil {
		return nil, err
	}
	var out []Value
	for at := "/*"; strings.Count(at, "/") < 8; at += "/*" {
		vs, err := d.values(at)
		if err != nil {
			return nil, err
		}
		out = append(out, vs...)
	}
	return out, nil
}

// FuzzFormats: no file brings a reader down, and a change that is made reads
// as it should.
func FuzzFormats(f *testing.F) {
	for i, c := range cases {
		f.Add(uint8(i), []byte(strings.ReplaceAll(c.file, "OLD", oldPlace)))
	}
	formats := Formats()
	f.Fuzz(func(t *testing.T, which uint8, data []byte) {
		format := formats[int(which)%len(formats)]
		for _, at := range []string{"/*", "/*/*"} {
			out, edits, err := Redirect(format, data, at, oldPlace, newPlace, "/home/ines")
			if err != nil || len(edits) == 0 {
				continue
			}
			left, err := Paths(format, out, at, "/home/ines")
			require.NoError(t, err)
			for _, v := range left {
				require.NotEqual(t, oldPlace, v.Text)
			}
		}
	})
}
