// Package picture draws how full drives are and where folders lie: once as a list of strokes,
// which is then written as SVG or painted as PNG. Nothing in a picture is told by colour alone:
// each layer has a hatch of its own kind and its numbers beside it.
package picture

import (
	"cmp"
	"slices"
	"strconv"

	"nexlin/internal/pathtext"
)

// A Kind says what a layer of a drive is.
type Kind int

// The kinds of layers, from the ground of a drive upwards.
const (
	Other   Kind = iota // what Nexlin knows nothing of
	Folder              // a folder in use
	Held                // an original that is held
	Free                // may be used
	Reserve             // is kept free, so that the drive stays usable
)

// A Layer is a part of a drive's room.
type Layer struct {
	Name  string // as people know it
	Bytes int64
	Kind  Kind
}

// A Column is a drive's room at one time, from the ground upwards.
type Column struct {
	Title  string
	Layers []Layer
}

// A Pair is a drive before something and after it.
type Pair struct {
	Drive         string
	Size          int64 // bytes
	Before, After Column
}

// A Way leads from a drive to another one.
type Way struct {
	Name, From, To string
	Bytes          int64
	Broken         bool // programs are not led there now
}

// A Drawing is strokes on a sheet; lengths are in pixels.
type Drawing struct {
	Title, Says   string // for whoever does not see it
	Width, Height int
	strokes       []stroke
}

// A stroke is a rectangle with a hatch, a line, or a text, whichever has something to it.
type stroke struct {
	x, y, x2, y2 float64
	kind         Kind   // of a rectangle
	box          bool   // it is one
	text         string // at x, y; empty for others
	bold         bool   // of the text
	arrow, dash  bool   // of a line
}

func (d *Drawing) rect(x, y, w, h float64, kind Kind) {
	d.strokes = append(d.strokes, stroke{x: x, y: y, x2: x + w, y2: y + h, kind: kind, box: true})
}

func (d *Drawing) line(x, y, x2, y2 float64) {
	d.strokes = append(d.strokes, stroke{x: x, y: y, x2: x2, y2: y2})
}

func (d *Drawing) write(x, y float64, text string, bold bool) {
	if text != "" {
		d.strokes = append(d.strokes, stroke{x: x, y: y, text: text, bold: bold})
	}
}

// Measures of the drawing of strata.
const (
	margin   = 16.0
	pairHigh = 250.0 // of a pair with its headings
	column   = 70.0  // width
	tall     = 180.0 // height of a column
	labels   = 290.0 // room for them beside a column
	rowHigh  = 16.0
)

// Strata draws each drive as a pair of columns, as high as the drive is large.
func Strata(pairs []Pair) *Drawing {
	d := &Drawing{Title: "Drives before and after", Width: int(2*margin + 2*(column+labels)),
		Height: int(margin + pairHigh*float64(max(1, len(pairs))))}
	for i, p := range pairs {
		y := margin + float64(i)*pairHigh
		d.write(margin, y+14, p.Drive+", "+pathtext.Size(p.Size), true)
		d.columnOf(margin, y+44, p.Before, p.Size)
		d.columnOf(margin+column+labels, y+44, p.After, p.Size)
		if i > 0 {
			d.Says += " "
		}
		d.Says += p.Drive + ": " + p.Before.said() + "; " + p.After.said() + "."
	}
	return d
}

// said is a column in words.
func (c *Column) said() string {
	out := c.Title
	for i, l := range c.Layers {
		sep := ", "
		if i == 0 {
			sep = " "
		}
		out += sep + l.Name + " " + pathtext.Size(l.Bytes)
	}
	return out
}

// columnOf draws layers from the ground upwards, each with its label beside it: where they are
// thin, the labels are spread, and lines lead to them.
func (d *Drawing) columnOf(x, y float64, c Column, size int64) {
	c.Layers = gathered(c.Layers)
	d.write(x, y-14, c.Title, false)
	type mark struct{ at, label float64 }
	marks := make([]mark, len(c.Layers))
	ground := y + tall
	for i, l := range c.Layers {
		high := tall * float64(l.Bytes) / float64(max(size, 1))
		if l.Bytes > 0 && high < 2 {
			high = 2 // to be seen at all
		}
		high = min(high, ground-y)
		d.rect(x, ground-high, column, high, l.Kind)
		marks[i].at = ground - high/2
		ground -= high
	}
	low := y + tall
	for i := range marks { // from the ground upwards, none on another
		marks[i].label = min(marks[i].at, low)
		low = marks[i].label - rowHigh
	}
	if top := y - 2; len(marks) > 0 && low+rowHigh < top { // too many: they begin at the top
		for i := len(marks) - 1; i >= 0; i-- {
			marks[i].label = max(marks[i].label, top)
			top = marks[i].label + rowHigh
		}
	}
	for i, l := range c.Layers {
		d.line(x+column, marks[i].at, x+column+14, marks[i].label)
		d.write(x+column+18, marks[i].label+4, l.Name+"  "+pathtext.Size(l.Bytes), false)
	}
}

// most is how many layers of folders have a label of their own in a column.
const most = 7

// gathered puts the smallest folders together where there are more than have room for a label.
func gathered(layers []Layer) []Layer {
	var folders []Layer
	for _, l := range layers {
		if l.Kind == Folder || l.Kind == Held {
			folders = append(folders, l)
		}
	}
	if len(folders) <= most {
		return layers
	}
	slices.SortStableFunc(folders, func(a, b Layer) int { return cmp.Compare(b.Bytes, a.Bytes) })
	least := folders[most-1].Bytes
	rest := Layer{Kind: Folder}
	var out []Layer
	n, kept := 0, 0
	for _, l := range layers {
		folder := l.Kind == Folder || l.Kind == Held
		switch {
		case !folder:
			out = append(out, l)
		case l.Bytes >= least && kept < most:
			kept++
			out = append(out, l)
		default:
			n++
			rest.Bytes += l.Bytes
		}
	}
	if rest.Name = strconv.Itoa(n) + " smaller ones"; n == 1 {
		rest.Name = "a smaller one"
	}
	at := slices.IndexFunc(out, func(l Layer) bool { return l.Kind == Folder || l.Kind == Held })
	return slices.Insert(out, max(0, at), rest)
}

// Map draws redirects as ways from the drives that they lead from to those with the data.
func Map(ways []Way) *Drawing {
	from, to := map[string]float64{}, map[string]float64{}
	d := &Drawing{Title: "From drive to drive", Width: int(2*margin + 2*(column+labels))}
	const step = 34.0
	y := margin + 10
	right := float64(d.Width) - margin - 130
	for i, w := range ways {
		at := y + float64(i)*step
		if _, ok := from[w.From]; !ok {
			from[w.From] = at
			d.rect(margin, at-12, 130, 24, Folder)
			d.write(margin+8, at+4, short(w.From, 17), true)
		}
		if _, ok := to[w.To]; !ok {
			to[w.To] = at
			d.rect(right, at-12, 130, 24, Folder)
			d.write(right+8, at+4, short(w.To, 17), true)
		}
		d.strokes = append(d.strokes,
			stroke{x: margin + 130, y: from[w.From], x2: margin + 190, y2: at, dash: w.Broken},
			stroke{x: margin + 190, y: at, x2: right - 60, y2: at, dash: w.Broken},
			stroke{x: right - 60, y: at, x2: right - 2, y2: to[w.To], arrow: true, dash: w.Broken})
		says := short(w.Name, 30) + "  " + pathtext.Size(w.Bytes)
		if w.Broken {
			says += "  (not now)"
		}
		d.write(margin+196, at-5, says, false)
		d.Says += w.Name + " from " + w.From + " to " + w.To + ", " + pathtext.Size(w.Bytes) + ". "
	}
	d.Height = int(y + float64(len(ways))*step)
	return d
}

// short cuts a name to so many letters.
func short(name string, n int) string {
	if r := []rune(name); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return name
}
