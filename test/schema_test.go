//go:build linux

package test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// schemas compiles docs/schema/COMMAND.json for each command.
func schemas(t *testing.T) *jsonschema.Compiler {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	files, err := filepath.Glob("../docs/schema/*.json")
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		require.NoError(t, err, f)
		require.NoError(t, c.AddResource("schema/"+filepath.Base(f), doc))
	}
	return c
}

// cardsFit holds every card that ships against the schema of card files.
func cardsFit(t *testing.T, c *jsonschema.Compiler) {
	s, err := c.Compile("schema/card-file.json")
	require.NoError(t, err)
	files, err := filepath.Glob("../internal/card/shipped/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		var card any
		require.NoError(t, yaml.Unmarshal(text, &card), f)
		require.NoError(t, s.Validate(card), f)
	}
}

// Every command's document is what its schema says.
func TestDocumentsFitTheirSchemas(t *testing.T) {
	t.Parallel()
	c := schemas(t)
	dir := t.TempDir()
	home := filepath.Join(dir, "skerry", "home", "ines")
	lab.Tree{"Pictures/a b: 1", "Music/x: 2", "Notes/\xff: 3"}.Make(t, home)
	for _, d := range []string{"basalt", "dune"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "drives.yaml"), []byte(drivesFile), 0o644))
	n := lab.New(t, program)
	n.Home = home
	n.Env = []string{"NEXLIN_STANDIN_DRIVES=" + filepath.Join(dir, "drives.yaml")}
	at := func(name string) string { return filepath.Join(home, name) }

	checked := map[string]bool{}
	fits := func(schema string, args ...string) map[string]any {
		t.Helper()
		s, err := c.Compile("schema/" + schema + ".json")
		require.NoError(t, err)
		out, err := n.Cmd(append(args, "--json", "-q")...).Output()
		if err != nil {
			require.NotEmpty(t, out, "%v: %v", args, err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(out))
		require.NoError(t, err, "%s", out)
		require.NoError(t, s.Validate(doc), "%v: %s", args, out)
		checked[schema] = true
		var m map[string]any
		require.NoError(t, json.Unmarshal(out, &m))
		return m
	}
	fits("drives", "drives")
	fits("drives", "drives", "BASALT")
	fits("survey", "survey")
	fits("survey", "survey", "--need", at("Pictures"))
	fits("inspect", "inspect", at("Pictures"))
	fits("list", "list")
	fits("run", "move", at("Pictures"), "--into", "BASALT:/ines", "-n")
	moved := fits("run", "move", at("Pictures"), "--into", "BASALT:/ines", "-y")
	require.Equal(t, "good", moved["redirect"].(map[string]any)["state"])
	require.EqualValues(t, 1, moved["verified"].(map[string]any)["files"])
	require.NotEmpty(t, moved["run"].(map[string]any)["phases"])
	several := fits("run", "move", at("Music"), at("Notes"), at("Nothing"), "--into", "BASALT:/ines", "-y")
	require.Len(t, several["moves"], 3)
	fits("inspect", "inspect", at("Pictures"))
	list := fits("list", "list")
	require.Len(t, list["redirects"], 3)
	fits("list", "list", "--held")
	fits("check", "check")
	fits("check", "check", "--deep")
	fits("check", "check", "pictures")
	fits("check", "check", "pictures", "music")
	fits("show", "show", "pictures")
	fits("try", "try", "pictures")
	fits("history", "history")
	fits("run", "discard-original", "pictures", "-n")
	fits("run", "discard-original", "pictures", "-y")
	fits("run", "bring-back", "pictures", "-n")
	fits("run", "bring-back", "pictures", "-y")
	fits("run", "detach", "music", "-n")
	detached := fits("run", "detach", "music", "-y")
	run := detached["run"].(map[string]any)["id"].(string)
	fits("run", "undo", run, "-n")
	fits("run", "undo", run, "-y")
	fits("run", "resume")
	lost := at("Music")
	require.NoError(t, os.Remove(lost))
	fits("run", "mend", "music", "-n")
	require.Equal(t, true, fits("run", "mend", "music", "-y")["mended"])
	require.Equal(t, false, fits("run", "mend", "music", "-y")["mended"])
	fits("run", "mend", "music", "notes", "-y")
	require.NoError(t, os.Remove(lost))
	lab.Tree{"Music/y: 3"}.Make(t, home)
	split := fits("run", "mend", "music", "-n")
	require.Len(t, split["plan"].(map[string]any)["entries"], 1)
	fits("run", "mend", "music", "-y")
	fits("try", "try", "music", "--live", "--for", "1s")
	require.NoError(t, os.Symlink(filepath.Join(dir, "basalt", "ines"), at("Hand")))
	fits("run", "record", at("Hand"), "-n")
	fits("run", "record", at("Hand"), "-y")
	fits("forget", "forget", "hand", "-n")
	fits("forget", "forget", "hand", "-y")
	fits("forget", "forget", "nobody", "-y")
	fits("run", "move", "--profile", "pictures,music", "--into", "BASALT:/both", "-n")
	fits("run", "pack", at("Notes"), "--output", filepath.Join(dir, "basalt", "n.tar.zst"), "-n")
	require.NotEmpty(t, fits("run", "pack", at("Notes"), "--output", filepath.Join(dir, "basalt", "n.tar.zst"),
		"-y")["archive"])
	fits("run", "unpack", filepath.Join(dir, "basalt", "n.tar.zst"), "--into", filepath.Join(dir, "dune"), "-y")
	fits("run", "unpack", filepath.Join(dir, "drives.yaml"), "--into", filepath.Join(dir, "dune"), "-y")
	fits("card", "card", "list")
	fits("card", "card", "show", "npm")
	fits("card", "card", "test", "npm")
	fits("card", "card", "show", "nobody")
	lab.Tree{"Videos/v: 1", ".config/x: 1"}.Make(t, home)
	both := fits("run", "move", "--profile", "videos,pictures", "--into", "BASALT:/both", "-y")
	require.Len(t, both["runs"], 2)
	fits("run", "undo", both["run"].(map[string]any)["id"].(string), "-y")
	fits("run", "move", at("Videos"), "--into", "BASALT:/new", "--future-only", "-y")
	cardsFit(t, c)
	checked["card-file"] = true
	fits("accounts", "accounts", "example")
	fits("accounts", "accounts", "--print-unit", "/etc/nexlin/accounts.yaml")
	fits("accounts", "accounts", "facts")
	fits("accounts", "accounts", "check", filepath.Join(dir, "drives.yaml"))
	s, err := c.Compile("schema/accounts-file.json")
	require.NoError(t, err)
	var file any
	require.NoError(t, yaml.Unmarshal([]byte(n.JSON("accounts", "example")["file"].(string)), &file))
	require.NoError(t, s.Validate(file))
	checked["accounts-file"] = true
	fits("selftest", "selftest", "--into", home) // TestSelftest has one that was played
	n.State += "-new"
	fits("restore-links", "restore-links", "BASALT", "-n")
	fits("restore-links", "restore-links", "BASALT", "-y")
	w := startWatch(t, n)
	s, err = c.Compile("schema/watch.json")
	require.NoError(t, err)
	w.await(10*time.Second, func(ev map[string]any) bool { require.NoError(t, s.Validate(ev)); return true })
	checked["watch"] = true
	refused := fits("run", "move", at("Nothing"), "--into", "BASALT:/", "-y")
	require.EqualValues(t, 3, refused["error"].(map[string]any)["exit"])
	fits("run", "move")
	files, err := filepath.Glob("../docs/schema/*.json")
	require.NoError(t, err)
	require.Len(t, files, len(checked)+1, "a schema that no document was held against; common.json is shared")
}
