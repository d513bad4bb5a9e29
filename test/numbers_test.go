//go:build linux

package test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// server runs a server of the system's until the test ends, and gives its address.
func server(t *testing.T, listen, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		lab.Skip(t, name+" is not installed")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	ctx, stop := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, name, append(args, listen+at)...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		stop()
		_ = cmd.Wait() // it was killed
	})
	return at
}

// page asks a server until it says what is wanted.
func page(t *testing.T, address string, wanted ...string) {
	t.Helper()
	said := ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		r, err := http.Get("http://" + address)
		if err != nil {
			continue // it is not there yet
		}
		b, err := io.ReadAll(r.Body)
		r.Body.Close()
		said = string(b)
		missing := func(w string) bool { return !strings.Contains(said, w) }
		if err == nil && r.StatusCode == http.StatusOK && !slices.ContainsFunc(wanted, missing) {
			return
		}
	}
	require.Failf(t, "a page is not as it should be", "%s does not say all of %q, but\n%s", address, wanted, said)
}

// The numbers of a check go the whole way: through a gatherer of text files and a server that
// keeps them, to its alerts and to a page.
func TestNumbersReachAlertsAndPage(t *testing.T) {
	t.Parallel()
	contrib, err := filepath.Abs("../contrib/prometheus")
	require.NoError(t, err)
	n := lab.New(t, program)
	skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32)
	lab.Tree{"calls/night: tsee"}.Make(t, skerry)
	n.Want(0, "move", skerry+"/calls", "--into", basalt, "--yes", "--accept", "target-in-memory")
	dir := t.TempDir()
	numbers := filepath.Join(dir, "nexlin.prom")
	n.Want(0, "check", "--quiet", "--metrics-file", numbers)

	gatherer := server(t, "--web.listen-address=", "prometheus-node-exporter", "--collector.disable-defaults",
		"--collector.textfile", "--collector.textfile.directory="+dir)
	page(t, gatherer+"/metrics", `nexlin_redirects{state="good"} 1`, `node_textfile_scrape_error 0`)

	config := filepath.Join(lab.Scratch(t), "prometheus.yml")
	write(t, config, fmt.Sprintf("global: {scrape_interval: 1s, evaluation_interval: 1s}\nrule_files: [%s/nexlin-alerts.yaml]\n"+
		"scrape_configs:\n- job_name: laptops\n  static_configs: [{targets: [\"%s\"], labels: {instance: skua}}]\n", contrib, gatherer))
	keeper := server(t, "--web.listen-address=", "prometheus", "--config.file="+config, "--web.console.templates="+contrib,
		"--storage.tsdb.path="+filepath.Join(lab.Scratch(t), "data"))
	page(t, keeper+"/consoles/nexlin.html", "<td>skua</td>", "<td>BASALT</td><td>skua</td><td>yes</td>", "nothing")

	require.NoError(t, os.Remove(skerry+"/calls"))
	n.Want(4, "check", "--quiet", "--metrics-file", numbers)
	page(t, keeper+"/api/v1/query?query="+url.QueryEscape(`ALERTS{alertname="NexlinRedirectBroken"}`), `"state":"broken"`,
		`"instance":"skua"`)
	page(t, keeper+"/consoles/nexlin.html", `amiss">1</td>`)

	lab.Run(t, "promtool", "check", "rules", contrib+"/nexlin-alerts.yaml")
	lab.Run(t, "promtool", "test", "rules", contrib+"/nexlin-alerts-test.yaml", contrib+"/nexlin-alerts-long-test.yaml")
}
