//go:build linux

package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

const acts = `<script>alert(1)<script> & "sound"`

// reported is a home with two redirects, one of a hostile name, and a held original.
func reported(t *testing.T) *lab.Nexlin {
	n, home := stage(t, lab.Tree{"Music/a: 111", "Field notes/a: 2"})
	require.NoError(t, os.Rename(filepath.Join(home, "Field notes"), filepath.Join(home, acts)))
	n.Want(0, "move", filepath.Join(home, "Music"), "--into", "BASALT:/ines", "--yes", "-q")
	n.Want(0, "move", filepath.Join(home, acts), "--into", "DUNE:/", "--yes", "-q", "--name", "sounds")
	n.Want(0, "discard-original", "sounds", "--yes", "-q")
	return n
}

// The report tells all there is, needs nothing else, and no name in it acts.
func TestReport(t *testing.T) {
	t.Parallel()
	n := reported(t)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	n.Want(0, "report", "--html", at("r.html"), "--svg", at("r.svg"), "--png", at("r.png"))
	html, err := os.ReadFile(at("r.html"))
	require.NoError(t, err)
	for _, says := range []string{"music", "BASALT", "DUNE", "Held originals", ".Music.held-", "discard-original",
		"without the moves", "/s</td>", "at most 4 B, now 4 B", "&lt;script&gt;alert(1)"} {
		require.Contains(t, string(html), says)
	}
	for _, never := range []string{"<script", "src=", "href=", "url(", "@import", "onload"} {
		require.NotContains(t, string(html), never)
	}
	require.NotRegexp(t, `https?://`, strings.ReplaceAll(string(html), `xmlns="http://www.w3.org/2000/svg"`, ""))
	pic, err := os.ReadFile(at("r.png"))
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(pic))
	require.NoError(t, err)

	// Nothing is written over, and text tells the same.
	require.Contains(t, n.Want(2, "report", "--html", at("r.html")), "nothing is written over")
	after, err := os.ReadFile(at("r.html"))
	require.NoError(t, err)
	require.Equal(t, html, after)
	require.Contains(t, n.Want(0, "report"), "music (held)")
	require.Contains(t, n.Want(0, "report", "--svg", "-"), "<svg ")

	// For somebody who helps, no name is left.
	n.Want(0, "report", "--support", "--html", at("s.html"), "--svg", at("s.svg"))
	for _, f := range []string{"s.html", "s.svg"} {
		text, err := os.ReadFile(at(f))
		require.NoError(t, err)
		for _, private := range []string{"music", "Music", "sounds", "alert(1)", "BASALT", "DUNE", "SKERRY", "/ines", n.Home} {
			require.NotContains(t, string(text), private)
		}
		require.Contains(t, string(text), "drive 1")
	}
	n.Want(0, "survey", "--need", n.Home, "--png", at("ahead.png"))
	n.Want(2, "survey", "--png", at("x.png"))
}

// In a browser the page is readable for everybody, light and dark, wide and on a phone, and
// asks nobody for anything.
func TestReportInABrowser(t *testing.T) {
	t.Parallel()
	browser, err := exec.LookPath("chromium")
	if err != nil {
		lab.Skip(t, "no chromium")
	}
	axe, err := os.ReadFile("../build/npm/node_modules/axe-core/axe.min.js")
	if err != nil {
		lab.Skip(t, "no axe-core from npm")
	}
	n := reported(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "r.html")
	n.Want(0, "report", "--html", file)
	page, err := os.ReadFile(file)
	require.NoError(t, err)
	// Its findings are written where the dump of the page has them.
	checked := strings.Replace(string(page), "</body>", fmt.Sprintf(`<script>%s</script><script>
axe.run(document,{runOnly:["wcag2a","wcag2aa","wcag21a","wcag21aa","best-practice"]}).then(r=>{
 const out=document.createElement("pre");out.id="axe";out.textContent=JSON.stringify({violations:r.violations.map(v=>v.id+" "+v.nodes.map(n=>n.target).join()),passes:r.passes.length});
 document.body.append(out)}).catch(e=>{document.body.append("axe failed "+e)})</script></body>`, axe), 1)
	require.NoError(t, os.WriteFile(file, []byte(checked), 0o644))
	for _, size := range []string{"1280,800", "390,844"} {
		for _, scheme := range []string{"1", "0"} { // light, dark
			cmd := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
				"--disable-background-networking", "--disable-component-update", "--disable-sync", "--enable-logging=stderr",
				"--user-data-dir="+t.TempDir(), "--window-size="+size, "--blink-settings=preferredColorScheme="+scheme,
				"--virtual-time-budget=20000", "--dump-dom", "file://"+file)
			var errs bytes.Buffer
			cmd.Stderr = &errs
			dom, err := cmd.Output()
			require.NoError(t, err, "%s", &errs)
			require.NotContains(t, errs.String(), "CONSOLE")
			m := regexp.MustCompile(`(?s)<pre id="axe">(.*?)</pre>`).FindSubmatch(dom)
			require.NotNil(t, m, "%.2000s", dom[max(0, len(dom)-2000):])
			var found struct {
				Violations []string
				Passes     int
			}
			require.NoError(t, json.Unmarshal(m[1], &found))
			require.Empty(t, found.Violations, "%s, %s", size, scheme)
			require.Greater(t, found.Passes, 15)
		}
	}
}
