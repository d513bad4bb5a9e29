// Package page writes a report as one page that needs nothing else: no script, no network; light
// and dark, on paper, on a phone, and without colours.
package page

import (
	_ "embed"
	"html/template"
	"io"
	"slices"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/picture"
	"nexlin/internal/report"
)

//go:embed page.html
var text string

// view is what the page shows.
type view struct {
	*report.Report
	Strata, Map, Course template.HTML // made by package picture, which escapes all names
	Layers              []layer
	Amiss               int // redirects that are not as they should be
}

// A layer is a row of the table of drives.
type layer struct{ Drive, Name, Before, Now string }

// layers are those of all drives, each once, from the top down.
func layers(pairs []picture.Pair) (out []layer) {
	for _, p := range pairs {
		at := map[string]int{}
		for i, c := range []picture.Column{p.After, p.Before} {
			for _, l := range slices.Backward(c.Layers) {
				k, known := at[l.Name]
				if !known {
					k, at[l.Name] = len(out), len(out)
					out = append(out, layer{Drive: p.Drive, Name: l.Name, Before: "–", Now: "–"})
				}
				if i == 0 {
					out[k].Now = pathtext.Size(l.Bytes)
				} else {
					out[k].Before = pathtext.Size(l.Bytes)
				}
			}
		}
	}
	return out
}

// Write writes the page. show writes a path as people know it.
func Write(w io.Writer, r *report.Report, show func(string) string) error {
	t, err := template.New("page").Funcs(template.FuncMap{
		"size": pathtext.Size, "show": pathtext.Show, "path": show,
		"day":   func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") },
		"good":  func(s health.State) bool { return s == health.Good },
		"ended": func(x *ledger.Redirect) bool { return x.State == ledger.Ended },
		"took":  func(d time.Duration) string { return d.Round(100 * time.Millisecond).String() },
		"speed": func(r report.Run) string {
			if r.Speed() == 0 {
				return "–"
			}
			return pathtext.Size(r.Speed()) + "/s"
		},
		"grave": func(s finding.Severity) string {
			return map[finding.Severity]string{finding.Blocker: "in the way", finding.Warning: "warning",
				finding.Info: "info"}[s]
		},
		"plural": pathtext.Plural[int],
	}).Parse(text)
	if err != nil {
		return err
	}
	v := view{Report: r, Layers: layers(r.Drives), Strata: template.HTML(picture.Strata(r.Drives).SVG("strata"))}
	if len(r.Ways) > 0 {
		v.Map = template.HTML(picture.Map(r.Ways).SVG("map"))
	}
	if points := r.Course(); len(points) > 0 {
		v.Course = template.HTML(picture.Course("What lay on other drives", points, r.Made).SVG("course"))
	}
	for _, rep := range r.Redirects {
		if rep.State != health.Good && rep.Redirect.State != ledger.Ended {
			v.Amiss++
		}
	}
	return t.Execute(w, v)
}
