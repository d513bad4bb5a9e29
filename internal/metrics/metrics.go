// Package metrics says in numbers what health has found, for programs that
// gather such numbers: in the text format of Prometheus and in OpenMetrics.
//
// It looks at nothing itself.
package metrics

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/health"
	"nexlin/internal/judge"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// A Snapshot is what was found at one moment.
type Snapshot struct {
	At      time.Time
	Reports []*health.Report
	Deep    map[string]*judge.LastDeep // by the name of the redirect; a missing one was never read
}

// Take makes a snapshot of reports.
func Take(e *engine.Engine, reports []*health.Report) (*Snapshot, error) {
	s := &Snapshot{At: time.Now(), Reports: reports, Deep: map[string]*judge.LastDeep{}}
	for _, r := range reports {
		d, err := judge.LastDeepOf(e, r.Redirect.Name)
		if err != nil {
			return nil, err
		}
		if d != nil {
			s.Deep[r.Redirect.Name] = d
		}
	}
	return s, nil
}

// gauges are the numbers that there are: name, help, labels.
var gauges = []struct {
	name, help string
	labels     []string
}{
	{"nexlin_redirects", "Redirects by state.", []string{"state"}},
	{"nexlin_redirect_bytes", "Size of a redirect's data when it was moved, in bytes.", []string{"redirect"}},
	{"nexlin_held_bytes", "What the held originals of a redirect take, in bytes.", []string{"redirect"}},
	{"nexlin_findings", "Findings about a redirect, by code.", []string{"redirect", "code", "severity"}},
	{"nexlin_drive_free_bytes", "What is free on a drive with redirects, in bytes.", []string{"drive", "id"}},
	{"nexlin_drive_size_bytes", "Size of a drive with redirects, in bytes.", []string{"drive", "id"}},
	{"nexlin_drive_present", "Whether a drive with redirects is here.", []string{"drive", "id"}},
	{"nexlin_deep_check_timestamp_seconds", "When every file of a redirect was read last.", []string{"redirect"}},
	{"nexlin_deep_check_bad_entries", "Entries of a redirect that the last such reading found bad.",
		[]string{"redirect"}},
	{"nexlin_check_timestamp_seconds", "When the redirects were looked at last.", nil},
}

// samples are the values of gauges, by name and by label values joined with zero.
type samples map[string]map[string]float64

func (s samples) set(name string, v float64, labels ...string) {
	if s["nexlin_"+name] == nil {
		s["nexlin_"+name] = map[string]float64{}
	}
	s["nexlin_"+name][strings.Join(labels, "\x00")] = v
}

// text writes the samples in the text format, version 0.0.4, which OpenMetrics 1.0
// reads, too, once its end is marked.
func (s samples) text() []byte {
	var b bytes.Buffer
	for _, g := range gauges {
		if len(s[g.name]) == 0 {
			continue
		}
		fmt.Fprintf(&b, "# HELP %s %s\n# TYPE %[1]s gauge\n", g.name, g.help)
		for _, key := range slices.Sorted(maps.Keys(s[g.name])) {
			b.WriteString(g.name)
			if values := strings.Split(key, "\x00"); len(g.labels) > 0 {
				pairs := make([]string, len(g.labels))
				for i, l := range g.labels {
					pairs[i] = l + `="` + escape.Replace(pathtext.Show(values[i])) + `"`
				}
				b.WriteString("{" + strings.Join(pairs, ",") + "}")
			}
			b.WriteString(" " + strconv.FormatFloat(s[g.name][key], 'g', -1, 64) + "\n")
		}
	}
	return b.Bytes()
}

var escape = strings.NewReplacer(`\`, `\\`, `"`, `\"`)

// A Collector hands out the newest snapshot. The zero value has none.
type Collector struct {
	mu  sync.Mutex
	now *Snapshot
}

// Set makes a snapshot the newest.
func (c *Collector) Set(s *Snapshot) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = s
}

func (c *Collector) text() []byte {
	c.mu.Lock()
	s := c.now
	c.mu.Unlock()
	if s == nil {
		return nil
	}
	out, states, drives := samples{}, map[health.State]int{}, map[string]bool{}
	for _, r := range s.Reports {
		s.redirect(r, out)
		if r.Redirect.State == ledger.Ended {
			continue // of which something is still held
		}
		states[r.State]++
		id, label := r.Redirect.Drive.Identity(), r.Redirect.Drive.Label
		if drives[id] {
			continue
		}
		drives[id] = true
		out.set("drive_present", 0, label, id)
		if r.Present {
			out.set("drive_present", 1, label, id)
			out.set("drive_free_bytes", float64(r.Drive.Free), label, id)
			out.set("drive_size_bytes", float64(r.Drive.Size), label, id)
		}
	}
	for _, st := range health.States() {
		out.set("redirects", float64(states[st]), string(st))
	}
	out.set("check_timestamp_seconds", float64(s.At.UnixMilli())/1000)
	return out.text()
}

func (s *Snapshot) redirect(r *health.Report, out samples) {
	name := r.Redirect.Name
	out.set("redirect_bytes", float64(r.Redirect.Bytes), name)
	out.set("held_bytes", float64(ledger.HeldBytes(r.Held)), name)
	count := map[[2]string]int{}
	for _, f := range r.Findings {
		count[[2]string{string(f.Code), string(f.Severity)}]++
	}
	for k, n := range count {
		out.set("findings", float64(n), name, k[0], k[1])
	}
	if d := s.Deep[name]; d != nil && !d.Ended.IsZero() {
		out.set("deep_check_timestamp_seconds", float64(d.Ended.UnixMilli())/1000, name)
		out.set("deep_check_bad_entries", float64(d.Rot()), name)
	}
}

// Handler serves the newest snapshot, as OpenMetrics to whom asks for that.
func (c *Collector) Handler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, end := "text/plain; version=0.0.4; charset=utf-8", ""
		if strings.Contains(r.Header.Get("Accept"), "application/openmetrics-text") {
			kind, end = "application/openmetrics-text; version=1.0.0; charset=utf-8", "# EOF\n"
		}
		w.Header().Set("Content-Type", kind)
		_, _ = w.Write(append(c.text(), end...)) // whoever asked may have gone
	})
}

// WriteFile writes the newest snapshot to a file, whole or not at all, so that
// a gatherer of text files never sees half of it.
func (c *Collector) WriteFile(path string) error {
	return handle.WriteFile(path, 0o644, func(w io.Writer) error { // a gatherer runs as another account
		_, err := w.Write(c.text())
		return err
	})
}
