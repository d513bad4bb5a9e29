// Command growth draws how time and memory grow with the number of files, from the figures
// of make bench, as SVG.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"os"
	"strings"
)

// A used is what one way took for a number of files.
type used struct {
	Seconds float64 `json:"seconds"`
	MiB     float64 `json:"mib"`
}

// A step is a number of files, moved by Nexlin and copied by cp.
type step struct {
	Files  float64 `json:"files"`
	Nexlin used    `json:"nexlin"`
	CP     used    `json:"cp"`
}

func main() {
	from := flag.String("from", "docs/benchmarks.json", "the figures")
	to := flag.String("to", "docs/growth.svg", "the drawing")
	flag.Parse()
	if err := draw(*from, *to); err != nil {
		fmt.Fprintln(os.Stderr, "growth:", err)
		os.Exit(1)
	}
}

func draw(from, to string) error {
	text, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	var figures struct {
		Growth []step `json:"growth"`
	}
	if err := json.Unmarshal(text, &figures); err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	if len(figures.Growth) < 2 {
		return fmt.Errorf("%s has no growth", from)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 900 340" width="900" height="340" `+
		`role="img" aria-labelledby="t d"><title id="t">Time and memory of a move</title>`+
		`<desc id="d">%s</desc><style>%s</style><rect width="900" height="340" class="g"/>`,
		says(figures.Growth), style)
	panel(&b, 60, "microseconds a file", figures.Growth,
		func(u used, files float64) float64 { return u.Seconds / files * 1e6 })
	panel(&b, 510, "MiB of memory, at the most", figures.Growth, func(u used, _ float64) float64 { return u.MiB })
	b.WriteString("</svg>\n")
	return os.WriteFile(to, []byte(b.String()), 0o644)
}

const style = `.g{fill:#fff}text{font:13px system-ui,sans-serif;fill:#20262b}.b{font-weight:600}` +
	`.m{text-anchor:middle}.e{text-anchor:end}path{fill:none;stroke:#20262b;stroke-width:1}.n{stroke-width:2.5}` +
	`.c{stroke-dasharray:6 4;stroke-width:1.5}.h{stroke-opacity:.25}circle{fill:#20262b}` +
	`@media(prefers-color-scheme:dark){.g{fill:#16191c}text{fill:#e8eaec}path{stroke:#d7dbde}circle{fill:#d7dbde}}`

func says(growth []step) (out string) {
	for _, s := range growth {
		out += fmt.Sprintf("%s files: move %.1f s and %.0f MiB, cp -a and sync %.1f s and %.0f MiB. ", number(s.Files),
			s.Nexlin.Seconds, s.Nexlin.MiB, s.CP.Seconds, s.CP.MiB)
	}
	return out
}

const (
	top, ground = 50.0, 280.0
	wide        = 300.0
)

// panel draws one figure against the number of files, which grows tenfold from tick to tick.
func panel(b *strings.Builder, left float64, title string, growth []step, of func(used, float64) float64) {
	most := 0.0
	for _, s := range growth {
		most = max(most, of(s.Nexlin, s.Files), of(s.CP, s.Files))
	}
	unit := math.Pow(10, math.Floor(math.Log10(most)))
	most = math.Ceil(most/unit+0.2) * unit
	first, last := math.Log10(growth[0].Files), math.Log10(growth[len(growth)-1].Files)
	x := func(files float64) float64 { return left + 20 + (wide-40)*(math.Log10(files)-first)/(last-first) }
	y := func(v float64) float64 { return ground - (ground-top)*v/most }
	fmt.Fprintf(b, `<text x="%.0f" y="24" class="b">%s</text>`, left, title)
	for _, part := range []float64{0, 0.5, 1} {
		fmt.Fprintf(b, `<path d="M%.0f %.1fh%.0f" class="h"/><text x="%.0f" y="%.1f" class="e">%g</text>`, left,
			y(most*part), wide, left-8, y(most*part)+4, most*part)
	}
	for _, s := range growth {
		fmt.Fprintf(b, `<text x="%.1f" y="%.0f" class="m">%s</text>`, x(s.Files), ground+20, number(s.Files))
	}
	fmt.Fprintf(b, `<text x="%.0f" y="%.0f" class="m">files</text>`, left+wide/2, ground+42)
	end := growth[len(growth)-1]
	ours, theirs := y(of(end.Nexlin, end.Files)), y(of(end.CP, end.Files))
	if apart := theirs - ours; math.Abs(apart) < 16 { // so that neither name stands on the other
		shift := math.Copysign(8-math.Abs(apart)/2, apart)
		ours, theirs = ours-shift, theirs+shift
	}
	for _, line := range []struct {
		class, name string
		at          float64 // where the name stands
		of          func(step) used
	}{
		{"n", "nexlin move", ours, func(s step) used { return s.Nexlin }},
		{"c", "cp -a, sync", theirs, func(s step) used { return s.CP }},
	} {
		way := ""
		for i, s := range growth {
			letter := "L"
			if i == 0 {
				letter = "M"
			}
			at, high := x(s.Files), y(of(line.of(s), s.Files))
			way += fmt.Sprintf("%s%.1f %.1f", letter, at, high)
			fmt.Fprintf(b, `<circle cx="%.1f" cy="%.1f" r="3"/>`, at, high)
		}
		fmt.Fprintf(b, `<path d="%s" class="%s"/><text x="%.1f" y="%.1f">%s</text>`, way, line.class, left+wide-12,
			line.at+4, line.name)
	}
}

// number writes a whole number with commas.
func number(n float64) string {
	text := fmt.Sprintf("%.0f", n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}
