package screen

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"nexlin/internal/pathtext"
)

// Progress shows how far a run is: a bar on a terminal, a line a phase
// elsewhere, JSON Lines for programs. It implements transfer.Progress.
type Progress struct {
	mode  progressMode
	err   io.Writer
	files atomic.Int64
	bytes atomic.Int64

	mu         sync.Mutex
	name       string
	totalFiles int64
	totalBytes int64
	began      time.Time
	bars       *mpb.Progress
	bar        *mpb.Bar
	tick       *time.Ticker
	stop       chan struct{}
}

type progressMode int

const (
	progressNone progressMode = iota
	progressLines
	progressBars
	progressJSONLines
)

// NewProgress shows how far something is; jsonLines: as a document a line.
func (a *Lines) NewProgress(jsonLines bool) *Progress {
	p := &Progress{err: a.Err}
	switch {
	case jsonLines:
		p.mode, p.err = progressJSONLines, a.RawErr
	case a.Quiet || a.AsJSON:
		p.mode = progressNone
	case term.IsTerminal(int(a.RawErr.Fd())):
		p.mode, p.err = progressBars, a.RawErr
	default:
		p.mode = progressLines
	}
	return p
}

// phaseWords say what happens in a phase, for people.
var phaseWords = map[string]string{
	"inspect": "looking at everything", "copy": "copying", "verify": "reading back", "catch-up": "looking for changes",
	"switch": "switching", "try": "trying both paths", "finish": "finishing", "compare": "comparing",
	"wait":     "waiting until no program writes to the folder",
	"describe": "reading everything", "pack": "packing", "unpack": "unpacking", "read back": "reading back",
}

// Phase implements transfer.Progress.
func (p *Progress) Phase(name string, files, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.endLocked()
	p.name, p.totalFiles, p.totalBytes, p.began = name, files, bytes, time.Now()
	p.files.Store(0)
	p.bytes.Store(0)
	word := phaseWords[name]
	if word == "" {
		word = name
	}
	switch p.mode {
	case progressLines:
		line := "nexlin: " + word
		if files > 0 {
			line += fmt.Sprintf(" (%s, %s)", pathtext.Files(files), pathtext.Size(bytes))
		}
		fmt.Fprintln(p.err, line)
	case progressBars:
		switch {
		case files > 0:
			p.startBar(word)
		case name == "wait": // it may take long, and has no bar
			fmt.Fprintln(p.err, "nexlin: "+word)
		}
	case progressJSONLines:
		p.line("begin")
		p.startTicker(func() { p.line("going") }, time.Second)
	}
}

const barWide = 18 // letters

func (p *Progress) startBar(word string) {
	p.bars = mpb.New(mpb.WithOutput(p.err), mpb.WithWidth(barWide), mpb.WithRefreshRate(120*time.Millisecond))
	// Drawn from the same counts as the figures beside it. It is never full by itself: the end of
	// the phase takes it away.
	p.bar = p.bars.MustAdd(0, mpb.BarFillerFunc(func(w io.Writer, _ decor.Statistics) error {
		full := int(min(barWide, barWide*p.bytes.Load()/max(p.totalBytes, 1)))
		_, err := io.WriteString(w, strings.Repeat("▓", full)+strings.Repeat("░", barWide-full))
		return err
	}),
		mpb.PrependDecorators(decor.Name(word, decor.WC{W: 20, C: decor.DindentRight})),
		mpb.AppendDecorators(decor.Any(func(s decor.Statistics) string { return p.figures(s.AvailableWidth) })))
}

// figures says how far it is, as much of it as the terminal is wide. Speed
// and time left are taken from the whole phase: steadier than the last
// moment's.
func (p *Progress) figures(width int) string {
	done, gone := p.bytes.Load(), time.Since(p.began).Seconds()
	parts := []string{fmt.Sprintf("%s of %s", pathtext.Size(done), pathtext.Size(p.totalBytes)),
		fmt.Sprintf("%s of %s files", pathtext.Count(p.files.Load()), pathtext.Count(p.totalFiles))}
	if gone > 0.5 && done > 0 {
		rate := float64(done) / gone
		left := time.Duration(float64(max(0, p.totalBytes-done)) / rate * float64(time.Second)).Round(time.Second)
		parts = append(parts, left.String()+" left", pathtext.Size(int64(rate))+"/s")
	}
	out := ""
	for i, s := range parts {
		if i > 0 {
			s = " · " + s
		}
		// Room for the bar itself and the spaces around it stays.
		if utf8.RuneCountInString(out)+utf8.RuneCountInString(s) > width-26 {
			break
		}
		out += s
	}
	return " " + out
}

func (p *Progress) startTicker(f func(), every time.Duration) {
	p.tick, p.stop = time.NewTicker(every), make(chan struct{})
	go func(t *time.Ticker, stop chan struct{}) {
		for {
			select {
			case <-t.C:
				f()
			case <-stop:
				return
			}
		}
	}(p.tick, p.stop)
}

// Advance implements transfer.Progress.
func (p *Progress) Advance(files, bytes int64) {
	p.files.Add(files)
	p.bytes.Add(bytes)
}

// Inspected is the callback of inspections, which have no total.
func (p *Progress) Inspected(entries, bytes int64) { p.Advance(entries, bytes) }

func (p *Progress) line(state string) {
	b, err := json.Marshal(map[string]any{
		"phase": p.name, "state": state, "files": p.files.Load(), "bytes": p.bytes.Load(),
		"total_files": p.totalFiles, "total_bytes": p.totalBytes, "seconds": time.Since(p.began).Seconds(),
	})
	if err == nil {
		fmt.Fprintf(p.err, "%s\n", b)
	}
}

// End takes the display away.
func (p *Progress) End() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.endLocked()
}

func (p *Progress) endLocked() {
	if p.tick != nil {
		p.tick.Stop()
		close(p.stop)
		p.tick = nil
	}
	if p.bar != nil {
		p.bar.Abort(true)
		p.bars.Wait()
		p.bar = nil
	}
	if p.mode == progressJSONLines && p.name != "" {
		p.line("end")
	}
	p.name = ""
}
