package cli

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"nexlin/contrib"
	"nexlin/internal/desktop"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/metrics"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
)

type watchFlags struct {
	every        time.Duration
	notify, unit bool
	listen, file string
}

// watchCommand is `nexlin watch`.
type watchCommand struct{ *app }

func (a *watchCommand) watchCmd() *cobra.Command {
	var f watchFlags
	c := &cobra.Command{
		Use:   "watch",
		Short: "keep checking as drives come and go",
		Long: "Stays running. The kernel tells when a drive is attached or detached; what is concerned is checked\n" +
			"at once, and what has changed is said: in a line, or with --json as one JSON document a line. It can\n" +
			"tell the desktop (--notify) and say in numbers how things are (--metrics-listen, --metrics-file).",
		Args: cobra.NoArgs,
		RunE: a.runner(func(*cobra.Command, []string) error {
			if f.unit {
				return a.printUnits()
			}
			if f.every < 0 {
				return screen.Usage("--every takes a time such as 1h")
			}
			return a.watch(f)
		}),
	}
	fl := c.Flags()
	fl.DurationVar(&f.every, "every", time.Hour,
		"check all redirects this often, too (`DURATION`); 0: only when drives come and go")
	fl.BoolVar(&f.notify, "notify", false, "tell the desktop what has changed")
	fl.StringVar(&f.listen, "metrics-listen", "", "serve numbers at `ADDRESS`, as in 127.0.0.1:7430, under /metrics")
	fl.StringVar(&f.file, "metrics-file", "", "keep the numbers in `FILE`, for a gatherer of text files")
	fl.BoolVar(&f.unit, "print-unit", false, "print units for systemd's user manager, and end")
	return c
}

// printUnits prints the unit files, each after its name.
func (a *watchCommand) printUnits() error {
	return fs.WalkDir(contrib.Units, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := contrib.Units.ReadFile(path)
		a.Print("# ~/.config/systemd/user/%s\n%s", path, b)
		return err
	})
}

func (a *watchCommand) watch(f watchFlags) error {
	e, done, err := a.engine(false)
	if err != nil {
		return err
	}
	defer done()
	var numbers metrics.Collector
	if f.listen != "" {
		end, err := a.serve(f.listen, &numbers)
		if err != nil {
			return err
		}
		defer end()
	}
	var desk *desktop.Session
	if f.notify {
		if desk, err = desktop.Open(); err != nil {
			a.Note("the desktop can't be told: %v", err)
		}
	}
	var failed error
	w := &health.Watcher{Engine: e, Every: f.every, Tell: func(ev health.Event) {
		a.event(ev)
		if desk != nil {
			a.tellDesktop(desk, ev)
		}
	}}
	if f.listen != "" || f.file != "" {
		w.Round = func(reports []*health.Report) {
			if err := measured(e, &numbers, reports, f.file); err != nil && failed == nil {
				failed = err
				a.Note("the numbers can't be kept: %v", err)
			}
		}
	}
	return w.Run(a.ctx)
}

// measured hands reports to the collector, and writes them to a file if one is
// named.
func measured(e *engine.Engine, c *metrics.Collector, reports []*health.Report, file string) error {
	s, err := metrics.Take(e, reports)
	if err != nil {
		return err
	}
	c.Set(s)
	if file == "" {
		return nil
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	return c.WriteFile(path)
}

// serve answers at an address until the function it gives is called.
func (a *watchCommand) serve(address string, c *metrics.Collector) (func(), error) {
	at, end, err := c.Serve(address, func(err error) { a.Note("serving numbers ended: %v", err) })
	if err != nil {
		return nil, screen.Usage(fmt.Sprintf("--metrics-listen %s: %v", address, err))
	}
	a.Note("numbers are at http://%s/metrics", at)
	return end, nil
}

// event says one thing that was noticed.
func (a *watchCommand) event(ev health.Event) {
	if a.AsJSON {
		a.jsonLine(eventDoc(ev))
		return
	}
	at := screen.Faint.Render(ev.Time.Format("15:04:05"))
	switch ev.Kind {
	case health.DriveAttached:
		a.Print("%s  %s is here, at %s", at, screen.Bold.Render(pathtext.Show(ev.Drive.Name())), a.Path(ev.Drive.Mount))
		return
	case health.DriveDetached:
		a.Print("%s  %s is gone from %s", at, screen.Bold.Render(pathtext.Show(ev.Drive.Name())),
			a.Path(ev.Drive.Mount))
		return
	}
	r := ev.Report
	was := ""
	if ev.Was != "" && ev.Was != r.State {
		was = ", until now " + string(ev.Was)
	}
	a.Print("%s  %s  %s%s", at, screen.StateWord(r.State), screen.Bold.Render(pathtext.Show(r.Redirect.Name)), was)
	var fs []finding.Finding
	for _, x := range r.Findings {
		if x.Severity != finding.Info {
			fs = append(fs, x)
		}
	}
	a.Findings(a.Out, fs)
}

func eventDoc(ev health.Event) screen.Doc {
	d := screen.Doc{"nexlin": 1, "command": "watch", "time": ev.Time, "event": ev.Kind}
	if ev.Report == nil {
		d["drive"] = screen.Doc{"id": ev.Drive.Identity(), "label": ev.Drive.Label, "mount": ev.Drive.Mount}
		return d
	}
	d["was"], d["redirect"] = ev.Was, screen.ReportDoc(ev.Report, true)
	return d
}

// jsonLine prints one document on one line.
func (a *watchCommand) jsonLine(d screen.Doc) {
	_ = a.WriteJSON(d, "") // an output that is closed is the reader's choice
	a.docDone = true
}

// tellDesktop shows what a person should know: a redirect that changed its state.
func (a *watchCommand) tellDesktop(desk *desktop.Session, ev health.Event) {
	if ev.Report == nil || ev.Was == "" && ev.Report.State == health.Good || ev.Was == ev.Report.State {
		return
	}
	body := ""
	for _, f := range finding.Worst(ev.Report.Findings) {
		if f.Severity != finding.Info {
			body = f.Message
			break
		}
	}
	err := desk.Notify(fmt.Sprintf("%s is %s", pathtext.Show(ev.Report.Redirect.Name), ev.Report.State), body)
	if err != nil {
		a.Note("the desktop can't be told: %v", err)
	}
}
