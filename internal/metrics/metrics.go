// Package metrics says in numbers what health has found, for programs that
// gather such numbers: in the text format of Prometheus and in OpenMetrics.
//
// It looks at nothing itself.
package metrics

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/prometheus/common/expfmt"

	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/redirect"
)

// A Snapshot is what was found at one moment.
type Snapshot struct {
	At      time.Time
	Reports []*health.Report
	Deep    map[string]*redirect.LastDeep // by the name of the redirect; a missing one was never read
}

// Take makes a snapshot of reports.
func Take(e *redirect.Engine, reports []*health.Report) (*Snapshot, error) {
	s := &Snapshot{At: time.Now(), Reports: reports, Deep: map[string]*redirect.LastDeep{}}
	for _, r := range reports {
		d, err := e.LastDeep(r.Redirect.Name)
		if err != nil {
			return nil, err
		}
		if d != nil {
			s.Deep[r.Redirect.Name] = d
		}
	}
	return s, nil
}

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("nexlin_"+name, help, labels, nil)
}

var (
	redirects = describe("redirects", "Redirects by state.", "state")
	size      = describe("redirect_bytes", "Size of a redirect's data when it was moved, in bytes.", "redirect")
	held      = describe("held_bytes", "What the held originals of a redirect take, in bytes.", "redirect")
	findings  = describe("findings", "Findings about a redirect, by code.", "redirect", "code", "severity")
	driveFree = describe("drive_free_bytes", "What is free on a drive with redirects, in bytes.", "drive", "id")
	driveSize = describe("drive_size_bytes", "Size of a drive with redirects, in bytes.", "drive", "id")
	present   = describe("drive_present", "Whether a drive with redirects is here.", "drive", "id")
	deepAt    = describe("deep_check_timestamp_seconds", "When every file of a redirect was read last.", "redirect")
	deepBad   = describe("deep_check_bad_entries", "Entries of a redirect that the last such reading found bad.", "redirect")
	checkedAt = describe("check_timestamp_seconds", "When the redirects were looked at last.")
)

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

// Describe implements [prometheus.Collector].
func (c *Collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{redirects, size, held, findings, driveFree, driveSize, present, deepAt, deepBad, checkedAt} {
		out <- d
	}
}

// Collect implements [prometheus.Collector].
func (c *Collector) Collect(out chan<- prometheus.Metric) {
	c.mu.Lock()
	s := c.now
	c.mu.Unlock()
	if s == nil {
		return
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	states, drives := map[health.State]int{}, map[string]bool{}
	for _, r := range s.Reports {
		states[r.State]++
		s.redirect(r, gauge)
		id := r.Redirect.Drive.Identity()
		if r.Redirect.State == ledger.Ended || drives[id] {
			continue
		}
		drives[id] = true
		gauge(present, truth(r.Present), r.Redirect.Drive.Label, id)
		if r.Present {
			gauge(driveFree, float64(r.Drive.Free), r.Redirect.Drive.Label, id)
			gauge(driveSize, float64(r.Drive.Size), r.Redirect.Drive.Label, id)
		}
	}
	for _, st := range health.States() {
		gauge(redirects, float64(states[st]), string(st))
	}
	gauge(checkedAt, float64(s.At.UnixMilli())/1000)
}

func (s *Snapshot) redirect(r *health.Report, gauge func(d *prometheus.Desc, v float64, labels ...string)) {
	name := r.Redirect.Name
	gauge(size, float64(r.Redirect.Bytes), name)
	sum := int64(0)
	for _, h := range r.Held {
		sum += h.Bytes
	}
	gauge(held, float64(sum), name)
	count := map[[2]string]int{}
	for _, f := range r.Findings {
		count[[2]string{string(f.Code), string(f.Severity)}]++
	}
	for k, n := range count {
		gauge(findings, float64(n), name, k[0], k[1])
	}
	if d := s.Deep[name]; d != nil && !d.Ended.IsZero() {
		gauge(deepAt, float64(d.Ended.UnixMilli())/1000, name)
		gauge(deepBad, float64(d.Rot()), name)
	}
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func (c *Collector) registry() *prometheus.Registry {
	reg := prometheus.NewPedanticRegistry()
	reg.MustRegister(c)
	return reg
}

// Handler serves the newest snapshot.
func (c *Collector) Handler() http.Handler {
	return promhttp.HandlerFor(c.registry(), promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// WriteFile writes the newest snapshot to a file, whole or not at all, so that
// a gatherer of text files never sees half of it.
func (c *Collector) WriteFile(path string) (err error) {
	all, err := c.registry().Gather()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, m := range all {
		if _, err := expfmt.MetricFamilyToText(&b, m); err != nil {
			return err
		}
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".nexlin-metrics-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // it is only a scrap
		}
	}()
	_, err = f.Write(b.Bytes())
	if err == nil {
		err = f.Chmod(0o644) // a gatherer runs as another account
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}
