//go:build linux

package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A watching is a running watch and what it says.
type watching struct {
	t      *testing.T
	cmd    *exec.Cmd
	events chan map[string]any
	errors string // the file that has what it said to people
}

// said is what it has said to people so far.
func (w *watching) said() string {
	b, err := os.ReadFile(w.errors)
	require.NoError(w.t, err)
	return string(b)
}

func startWatch(t *testing.T, n *lab.Nexlin, args ...string) *watching {
	t.Helper()
	w := &watching{t: t, cmd: n.Cmd(append([]string{"watch", "--json"}, args...)...),
		events: make(chan map[string]any, 64), errors: filepath.Join(t.TempDir(), "stderr")}
	out, err := w.cmd.StdoutPipe()
	require.NoError(t, err)
	said, err := os.Create(w.errors)
	require.NoError(t, err)
	defer said.Close()
	w.cmd.Stderr = said
	require.NoError(t, w.cmd.Start())
	t.Cleanup(func() { _ = w.cmd.Process.Kill(); _ = w.cmd.Wait() }) // it may have ended
	go func() {
		defer close(w.events)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var d map[string]any
			if json.Unmarshal(lines.Bytes(), &d) == nil {
				w.events <- d
			}
		}
	}()
	return w
}

// await wants an event within a time and returns how long it took.
func (w *watching) await(within time.Duration, what func(map[string]any) bool) time.Duration {
	w.t.Helper()
	began, end := time.Now(), time.After(within)
	for {
		select {
		case ev, ok := <-w.events:
			require.True(w.t, ok, w.said())
			if what(ev) {
				return time.Since(began)
			}
		case <-end:
			w.t.Fatalf("nothing came within %v\n%s", within, w.said())
		}
	}
}

func isState(state string) func(map[string]any) bool {
	return func(ev map[string]any) bool {
		r, ok := ev["redirect"].(map[string]any)
		return ok && r["state"] == state
	}
}

func isEvent(kind, label string) func(map[string]any) bool {
	return func(ev map[string]any) bool {
		d, ok := ev["drive"].(map[string]any)
		return ok && ev["event"] == kind && d["label"] == label
	}
}

// watched has one redirect on a drive that can be pulled.
func watched(t *testing.T) (n *lab.Nexlin, basalt *lab.Plug, at, folder string) {
	at = filepath.Join(t.TempDir(), "<b>basalt")
	home := t.TempDir()
	basalt = lab.NewPlug(t, "ext4", "BASALT", 32)
	basalt.Mount(at)
	folder = filepath.Join(home, "Notes")
	lab.Tree{"Notes/monday: wind"}.Make(t, home)
	n = lab.New(t, raced)
	n.Want(0, "move", folder, "--into", at+"/ines", "--yes", "-q")
	return n, basalt, at, folder
}

// A real mount and a real unmount are seen within a second, and the numbers
// are what the Prometheus parser reads.
func TestWatch(t *testing.T) {
	other := filepath.Join(t.TempDir(), "other")
	n, basalt, at, _ := watched(t)
	file := filepath.Join(t.TempDir(), "nexlin.prom")
	w := startWatch(t, n, "--metrics-listen", "127.0.0.1:0", "--metrics-file", file)
	w.await(10*time.Second, isState("good"))
	const limit = time.Second
	basalt.Unmount()
	took := w.await(limit, isState("away"))
	t.Logf("unmounted: said after %v", took)
	require.Equal(t, map[string]float64{"good": 0, "away": 1}, states(t, scrape(t, w)))
	basalt.Mount(at)
	took = w.await(limit, isState("good"))
	t.Logf("mounted: said after %v", took)
	families := scrape(t, w)
	require.Equal(t, map[string]float64{"good": 1, "away": 0}, states(t, families))
	require.Equal(t, 1.0, families["nexlin_drive_present"].Metric[0].Gauge.GetValue())
	require.Greater(t, families["nexlin_drive_free_bytes"].Metric[0].Gauge.GetValue(), 1e6)

	// The same in the file, whole at every moment; check writes it once.
	require.Eventually(t, func() bool { return states(t, parseFile(t, file))["good"] == 1 }, 5*time.Second,
		50*time.Millisecond)
	n.Want(0, "check", "--deep", "-q")
	once := filepath.Join(t.TempDir(), "once.prom")
	n.Want(0, "check", "--metrics-file", once)
	families = parseFile(t, once)
	require.InDelta(t, float64(time.Now().Unix()),
		families["nexlin_deep_check_timestamp_seconds"].Metric[0].Gauge.GetValue(), 60)
	require.Zero(t, families["nexlin_deep_check_bad_entries"].Metric[0].Gauge.GetValue())

	// At another place, mended, and another drive in its place.
	basalt.Unmount()
	w.await(limit, isState("away"))
	basalt.Mount(other)
	seen := map[string]bool{} // in any order: one look can fall into the mount
	w.await(limit, func(ev map[string]any) bool {
		seen["drive"] = seen["drive"] || isEvent("drive-attached", "BASALT")(ev)
		seen["state"] = seen["state"] || isState("elsewhere")(ev)
		return len(seen) == 2 && seen["drive"] && seen["state"]
	})
	require.NoError(t, w.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, w.cmd.Wait())
}

func scrape(t *testing.T, w *watching) map[string]*io_prometheus_client.MetricFamily {
	t.Helper()
	var url string
	require.Eventually(t, func() bool {
		url = regexp.MustCompile(`http://\S+/metrics`).FindString(w.said())
		return url != ""
	}, 5*time.Second, 20*time.Millisecond)
	time.Sleep(100 * time.Millisecond) // what was said is counted a moment later
	resp, err := http.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, http.StatusOK, resp.StatusCode)
	return parse(t, resp.Body)
}

func parseFile(t *testing.T, path string) map[string]*io_prometheus_client.MetricFamily {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	return parse(t, f)
}

func parse(t *testing.T, r io.Reader) map[string]*io_prometheus_client.MetricFamily {
	t.Helper()
	p := expfmt.NewTextParser(model.LegacyValidation)
	families, err := p.TextToMetricFamilies(r)
	require.NoError(t, err)
	return families
}

func states(t *testing.T, families map[string]*io_prometheus_client.MetricFamily) map[string]float64 {
	t.Helper()
	require.Contains(t, families, "nexlin_redirects")
	out := map[string]float64{}
	for _, m := range families["nexlin_redirects"].Metric {
		if s := m.Label[0].GetValue(); s == "good" || s == "away" {
			out[s] = m.Gauge.GetValue()
		}
	}
	return out
}

// A desktop is told, by the bus that desktops have.
func TestWatchNotifies(t *testing.T) {
	if _, err := exec.LookPath("dbus-daemon"); err != nil {
		lab.Skip(t, "dbus-daemon is not installed")
	}
	n, basalt, _, _ := watched(t)
	bus := exec.Command("dbus-daemon", "--session", "--nofork", "--print-address=1", "--address=unix:dir="+t.TempDir())
	out, err := bus.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, bus.Start())
	t.Cleanup(func() { _ = bus.Process.Kill(); _ = bus.Wait() }) // killed is how it ends
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	address = strings.TrimSpace(address)
	conn, err := dbus.Connect(address)
	require.NoError(t, err)
	defer conn.Close()
	shown := &desk{told: make(chan string, 16)}
	require.NoError(t, conn.Export(shown, "/org/freedesktop/Notifications", "org.freedesktop.Notifications"))
	_, err = conn.RequestName("org.freedesktop.Notifications", dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	n.Env = []string{"DBUS_SESSION_BUS_ADDRESS=" + address}
	w := startWatch(t, n, "--notify")
	w.await(10*time.Second, isState("good"))
	basalt.Unmount()
	select {
	case text := <-shown.told:
		require.Contains(t, text, "notes is away")
		require.Contains(t, text, "BASALT is not here")
		require.Contains(t, text, "/&lt;b&gt;basalt/", "a name is no markup")
	case <-time.After(5 * time.Second):
		t.Fatalf("nothing was shown: %s", w.said())
	}
}

// A desk is what a desktop has for notifications.
type desk struct{ told chan string }

// Notify is org.freedesktop.Notifications.Notify.
func (d *desk) Notify(_ string, _ uint32, _, title, body string, _ []string, _ map[string]dbus.Variant,
	_ int32) (uint32, *dbus.Error) {
	d.told <- title + ": " + body
	return 1, nil
}

// What a program saves through the link takes nothing here and all of it
// there.
func TestTryLive(t *testing.T) {
	t.Parallel()
	n, _, _, folder := watched(t)
	cmd := n.Cmd("try", "notes", "--live", "--for", "4s", "--json")
	var out bytes.Buffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	time.Sleep(time.Second)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "big"), make([]byte, 5<<20), 0o644))
	lab.Run(t, "sync", "-f", folder+"/.")
	require.NoError(t, cmd.Wait())
	var d struct {
		Live struct {
			There struct {
				Before int64 `json:"free_before"`
				After  int64 `json:"free_after"`
			}
		}
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &d))
	require.InDelta(t, 5<<20, d.Live.There.Before-d.Live.There.After, 1<<20)
	text := n.Want(0, "try", "notes", "--live", "--for", "1s")
	require.Contains(t, text, "nothing taken")
	n.Want(2, "try", "notes", "--for", "3s")
}
