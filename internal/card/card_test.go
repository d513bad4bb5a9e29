package card

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexlin/internal/strict"
)

func TestShippedCardsAreWhole(t *testing.T) {
	cards, err := Load(filepath.Join(t.TempDir(), "none"))
	require.NoError(t, err)
	require.Greater(t, len(cards), 10)
	vars, err := Variables("/home/ines")
	require.NoError(t, err)
	for _, c := range cards {
		for _, f := range c.Folders {
			path := Expand(f.On("linux"), vars)
			require.True(t, filepath.IsAbs(path), "%s: %s", c.Name, path)
			require.NotContains(t, path, "{")
		}
	}
}

// TestPathsAreFacts asks the programs themselves where their stores are.
func TestPathsAreFacts(t *testing.T) {
	home := t.TempDir()
	cards, err := Load("")
	require.NoError(t, err)
	vars, err := Variables(home)
	require.NoError(t, err)
	asked := 0
	for _, c := range []struct {
		card, folder string
		ask          []string
	}{
		{"go-modules", "modules", []string{"go", "env", "GOMODCACHE"}},
		{"go-modules", "builds", []string{"go", "env", "GOCACHE"}},
		{"npm", "", []string{"npm", "config", "get", "cache"}},
		{"pip", "", []string{"pip3", "cache", "dir"}},
		{"maven", "", []string{"mvn", "-q", "-o", "help:evaluate", "-Dexpression=settings.localRepository",
			"-DforceStdout"}},
		{"podman", "", []string{"podman", "info", "--format", "{{.Store.GraphRoot}}"}},
	} {
		if c.card == "podman" && os.Geteuid() == 0 {
			continue // an administrator has another store, the system's
		}
		tool, err := exec.LookPath(c.ask[0])
		if err != nil {
			t.Logf("%s is not installed", c.ask[0])
			continue
		}
		cmd := exec.Command(tool, c.ask[1:]...)
		cmd.Env = []string{"HOME=" + home, "PATH=" + os.Getenv("PATH")}
		out, err := cmd.Output()
		if err != nil {
			t.Logf("%s does not say: %v", c.ask[0], err)
			continue
		}
		asked++
		for _, k := range cards {
			for _, f := range k.Folders {
				if k.Name == c.card && f.Name == c.folder {
					says := strings.TrimSpace(string(out))
					want := Expand(f.Linux, vars)
					assert.True(t, says == want || strings.HasPrefix(says, want+"/"),
						"%s: the program says %s, the card %s", c.card, says, want)
				}
			}
		}
	}
	require.GreaterOrEqual(t, asked, 2, "Go itself is always here")
}

const whole = `card: tides
about: A made-up store.
family: sync
folders:
  - name: tables
    linux: "{data}/tides"
    growth: 1.4
settings:
  - file: "{config}/tides.toml"
    format: toml
    at: /store/path
in-use:
  programs: [tides]
before:
  - run: [tides, stop]
    within: 10s
after:
  - run: [tides, start]
    answer: ready
facts:
  - name: to fetch
    command: {run: [tides, pending]}
    must-be: "0"
`

func TestParse(t *testing.T) {
	c, err := Parse("tides.yaml", []byte(whole))
	require.NoError(t, err)
	require.Equal(t, 1.4, c.Folders[0].Growth)
	vars := map[string]string{"config": "/home/ines/.config", "data": "/d"}
	require.Equal(t, "/home/ines/.config/tides.toml", c.Places("tables", vars)[0].File)
	require.Equal(t, []string{"tides", "stop"}, c.Before[0].Args(nil))
}

// TestPatternsOfSettings finds a setting in several files; what a home is called is no pattern.
func TestPatternsOfSettings(t *testing.T) {
	home := filepath.Join(t.TempDir(), "in*s[1]")
	for _, f := range []string{"conf/15/main/db.conf", "conf/16/main/db.conf", "conf/16/db.conf"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(home, f)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(home, f), nil, 0o644))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(filepath.Dir(home), "ines1/conf/9/main"), 0o755))
	c := Card{Folders: []Folder{{}}, Settings: []Setting{{File: "{home}/conf/*/*/db.conf"}, {File: "{home}/none/*"}}}
	var files []string
	for _, p := range c.Places("", map[string]string{"home": home}) {
		files = append(files, strings.TrimPrefix(p.File, home))
	}
	require.Equal(t, []string{"/conf/15/main/db.conf", "/conf/16/main/db.conf", "/none/*"}, files)
}

// TestMistakesSayWhere breaks the card in one place after the other.
func TestMistakesSayWhere(t *testing.T) {
	for _, c := range []struct {
		name, old, new string
		line           int
		says           string
	}{
		{"unknown key", "family: sync", "famly: sync", 3, "famly"},
		{"unknown family", "family: sync", "family: cloud", 3, "family is one of"},
		{"no yaml", "folders:", "folders: [", 0, ""},
		{"growth is no number", "growth: 1.4", "growth: a lot", 7, ""},
		{"growth too small", "growth: 1.4", "growth: 0.5", 7, "from 1 to 100"},
		{"unknown variable", "{data}/tides", "{dta}/tides", 6, "{data}"},
		{"relative path", `"{data}/tides"`, "tides", 6, "begins with /"},
		{"a path that goes up", "{data}/tides", "{data}/../../etc", 6, ".."},
		{"unknown format", "format: toml", "format: registry", 10, "format is one of"},
		{"bad address", "at: /store/path", "at: store.path", 11, "begins with /"},
		{"no such folder", "at: /store/path", "at: /store/path\n    folder: charts", 12, "charts"},
		{"empty step", "  - run: [tides, stop]\n    within: 10s", "  - within: 10s", 15, "a step is run"},
		{"no time", "within: 10s", "within: soon", 16, ""},
		{"a fact of nothing", "command: {run: [tides, pending]}\n", "\n", 21, "a fact is"},
		{"a name that is none", "card: tides", "card: Ti des", 1, "small letters"},
	} {
		_, err := Parse("tides.yaml", []byte(strings.Replace(whole, c.old, c.new, 1)))
		var m *strict.MistakeError
		if !assert.ErrorAs(t, err, &m, c.name) {
			continue
		}
		assert.Equal(t, "tides.yaml", m.File)
		assert.Positive(t, m.Line, c.name+": "+m.Error())
		if c.line > 0 {
			assert.InDelta(t, c.line, m.Line, 1, c.name+": "+m.Error())
		}
		assert.Contains(t, m.What, c.says, c.name)
	}
}

func TestOwnCards(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("tides.yaml", whole)
	write("mine.yaml", strings.Replace(whole, "card: tides", "card: npm", 1))
	write("notes.txt", "no card")
	cards, err := Load(dir)
	require.NoError(t, err)
	byName := map[string]Card{}
	for _, c := range cards {
		byName[c.Name] = c
	}
	require.Equal(t, "A made-up store.", byName["npm"].About, "one's own card takes the place of a shipped one")
	require.Contains(t, byName, "tides")

	write("broken.yaml", "card: [")
	write("again.yaml", whole)
	cards, err = Load(dir)
	require.NotEmpty(t, cards, "the others are still there")
	var m *strict.MistakeError
	require.True(t, errors.As(err, &m))
	require.Contains(t, err.Error(), "broken.yaml")
	require.Contains(t, err.Error(), "tides.yaml")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := Parse("x.yaml", data)
		if err != nil {
			var m *strict.MistakeError
			require.ErrorAs(t, err, &m)
			return
		}
		for _, x := range c.Folders {
			require.NotContains(t, strings.Split(x.Linux, "/"), "..")
		}
	})
}

// A card's variables mean something on every system, and what it says of a folder is made out there.
func TestDirectoriesOfEverySystem(t *testing.T) {
	for system, all := range directories {
		for _, name := range []string{"config", "data", "cache", "state"} {
			require.NotEmpty(t, all[name], "%s on %s", name, system)
		}
	}
	cards, err := Load("")
	require.NoError(t, err)
	here := 0
	for _, c := range cards {
		for _, system := range []string{"darwin", "windows"} {
			var places []string
			for i := range c.Folders {
				places = append(places, c.Folders[i].On(system))
			}
			for i := range c.Stays {
				places = append(places, c.Stays[i].On(system))
			}
			for _, at := range places {
				require.NotContains(t, Expand(at, map[string]string{"home": "H", "cache": "C", "data": "D", "config": "E"}),
					"{", c.Name)
				if at != "" {
					here++
				}
			}
			require.Equal(t, len(strings.Join(places, "")) > 0 || c.Handover != nil, c.Says(system), c.Name)
		}
	}
	require.Positive(t, here)
}

// The program has the shipped cards as their text has them.
func TestShippedCardsAreOfTheirText(t *testing.T) {
	files, err := filepath.Glob("shipped/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	var all []Card
	for _, f := range files {
		c, err := readFile(f)
		require.NoError(t, err)
		c.File = ""
		all = append(all, *c)
	}
	if os.Getenv("NEXLIN_WRITE_DOCS") != "" {
		b, err := json.MarshalIndent(all, "", "\t")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile("shipped.json", append(b, '\n'), 0o644))
		shipped = b
	}
	got, err := Load(t.TempDir())
	require.NoError(t, err)
	slices.SortFunc(all, func(a, b Card) int { return strings.Compare(a.Name, b.Name) })
	require.Equal(t, all, got, "NEXLIN_WRITE_DOCS=1 go test ./internal/card writes shipped.json anew")
}
