//go:build linux

package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

const jsonPage = "../docs/json.md"

// examples are the commands of docs/json.md, in the order in which they are run in the scene
// of the demo, and what is said of each. EXIT 0 is not said.
const examples = `nexlin survey | What takes the space of the home, and what moving it would free.
nexlin survey --need ~/Music | Which drives have the room for one folder.
nexlin survey --make-room 3MiB | The fewest folders whose moves free so much.
nexlin drives | The drives, and what a trial found that they can do.
nexlin inspect ~/Pictures | One folder: what is in it, and what moving it would free.
nexlin move ~/Pictures --into BASALT:/ines --preview | A plan, and what was looked at for it. Every command that
changes something answers --preview so.
nexlin move --profile documents,music --into BASALT:/ines --preview | A plan of several folders as one: one of each.
nexlin move ~/Pictures --into BASALT:/ines --yes | What was done. The same document tells of every kind of run: bring-back, mend, undo, discard-original and so on.
nexlin move ~/Nothing --into BASALT --yes | EXIT 3 What is refused, or fails: an error with what happened, the state now, and what to do next. It
can stand beside all else that was found or done.
nexlin list | The redirects, and how each is.
nexlin list --held | What is held and waits to be discarded.
nexlin show pictures | One redirect with all that is known of it.
nexlin check | Every redirect, looked at more closely, with findings.
nexlin try pictures | The trial: a file saved through one path shows up through the other.
nexlin discard-original pictures --preview | What would be deleted, proven first.
nexlin pack ~/Documents --output DUNE:/documents.tar.zst --yes | A folder in one verified file.
nexlin history | The runs, the newest first.
nexlin restore-links BASALT --preview | What a drive says of itself.
nexlin forget pictures --preview | What the ledger would no longer know.
nexlin card show mudflat | A card.
nexlin accounts facts | What a machine says of itself to a fleet's gatherer of facts.`

// docs/json.md has an example of every command's document, made in the demo's scene, arrays cut
// after their first element. They are of the form that the commands print today, and fit the
// schemas. NEXLIN_WRITE_DOCS=1 writes the page.
func TestJSONPage(t *testing.T) {
	t.Parallel()
	n, home, dir := sceneOf(t)
	short := strings.NewReplacer(dir+"/skerry/home/ines", "/home/ines", dir+"/skerry", "/", dir+"/basalt",
		"/media/BASALT", dir+"/dune", "/media/DUNE", dir, "/kestrel")
	var page strings.Builder
	page.WriteString("# What --json prints\n\nEvery command has `--json`: one document on standard output, also of an " +
		"error, and nothing\nelse there. `nexlin` is the version of the form, `command` names the command, `findings` " +
		"are those\nof [findings.md](findings.md). Fields may come to it; those that are here keep their meaning. Sizes " +
		"are\nbytes, times RFC 3339, durations seconds. A name that is not UTF-8 is escaped as\n[formats.md](formats.md) " +
		"says. [schema](schema) describes each document for programs.\n\nThe examples are from the demo's scene; of a " +
		"list, only the first is shown. `--progress-json` writes\nprogress to standard error, one document a line, and " +
		"`nexlin watch --json` one for every change.\n")
	fresh := map[string]any{}
	for entry := range strings.SplitSeq(strings.ReplaceAll(examples, "\nc", " c"), "\nnexlin ") {
		command, says, ok := strings.Cut(strings.TrimPrefix(entry, "nexlin "), " | ")
		require.True(t, ok, entry)
		exit, status := "", 0
		if rest, refused := strings.CutPrefix(says, "EXIT 3 "); refused {
			exit, says, status = "   # exit 3", rest, 3
		}
		args := strings.Fields(strings.ReplaceAll(command, "~", home))
		doc, code := n.Document(args...)
		require.Equal(t, status, code, command)
		firsts(doc)
		fresh[command] = doc
		text, err := json.MarshalIndent(doc, "", "  ")
		require.NoError(t, err)
		fmt.Fprintf(&page, "\n## nexlin %s\n\n%s\n\n```console\n$ nexlin %s --json%s\n```\n\n```json\n%s\n```\n",
			strings.Fields(command)[0], strings.ReplaceAll(says, "\n", " "), command, exit, short.Replace(string(text)))
	}
	if os.Getenv("NEXLIN_WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(jsonPage, []byte(page.String()), 0o644))
	}
	text, err := os.ReadFile(jsonPage)
	require.NoError(t, err)
	schemas := schemas(t)
	parts := regexp.MustCompile("(?s)\\$ nexlin ([^\n]*?) --json[^\n]*\n```\n\n```json\n(.*?)```").FindAllStringSubmatch(
		string(text), -1)
	require.Len(t, parts, len(fresh), "NEXLIN_WRITE_DOCS=1 go test -run TestJSONPage ./test")
	for _, part := range parts {
		var doc any
		require.NoError(t, json.Unmarshal([]byte(part[2]), &doc), part[1])
		require.Equal(t, form(fresh[part[1]]), form(doc), "%s: NEXLIN_WRITE_DOCS=1 go test -run TestJSONPage ./test", part[1])
		schema := strings.Fields(part[1])[0]
		if _, err := os.Lstat("../docs/schema/" + schema + ".json"); err != nil {
			schema = "run"
		}
		s, err := schemas.Compile("schema/" + schema + ".json")
		require.NoError(t, err)
		require.NoError(t, s.Validate(doc), part[1])
	}
}

// firsts cuts arrays after their first element.
func firsts(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			v[k] = firsts(v[k])
		}
	case []any:
		v = v[:min(len(v), 1)]
		for i := range v {
			v[i] = firsts(v[i])
		}
		return v
	}
	return v
}

// form is the names and kinds of what is in a document.
func form(v any) (out []string) {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			for _, f := range form(v[k]) {
				out = append(out, k+"."+f)
			}
		}
	case []any:
		for i := range v {
			for _, f := range form(v[i]) {
				out = append(out, "[]"+f)
			}
		}
	default:
		return []string{fmt.Sprintf("%T", v)}
	}
	slices.Sort(out)
	return out
}

// sceneOf is the scene of the demo, in which Nexlin works: its home and its directory.
func sceneOf(t *testing.T) (n *lab.Nexlin, home, dir string) {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir = filepath.Join(dir, "bay")
	n = lab.New(t, plain(t))
	for line := range strings.SplitSeq(strings.TrimSpace(n.Want(0, "standin", "scene", dir, "--no-color")), "\n") {
		n.Env = append(n.Env, strings.ReplaceAll(strings.TrimPrefix(line, "export "), "'", ""))
	}
	home = filepath.Join(dir, "skerry/home/ines")
	n.Home = home
	return n, home, dir
}
