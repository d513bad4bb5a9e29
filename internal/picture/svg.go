package picture

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// style is the look of all pictures; where the page or the viewer is dark, they are too.
const style = `.nx-o{fill:#d8d3c7}.nx-f{fill:#8fb3c9}.nx-h{fill:#e6c58b}.nx-free{fill:#fbfaf7}` +
	`.nx-r{fill:#efece4}.nx-s{stroke:#20262b;stroke-width:1;fill:none}.nx-b{stroke:#20262b;stroke-width:1}` +
	`.nx-t{fill:#20262b;font:13px system-ui,sans-serif}.nx-w{font-weight:600}` +
	`@media(prefers-color-scheme:dark){.nx-o{fill:#4a4f55}.nx-f{fill:#2f5d78}.nx-h{fill:#7a5a1e}` +
	`.nx-free{fill:#16191c}.nx-r{fill:#24292e}.nx-s,.nx-b{stroke:#d7dbde}.nx-t{fill:#e8eaec}}`

var classes = map[Kind]string{Other: "nx-o", Folder: "nx-f", Held: "nx-h", Free: "nx-free", Reserve: "nx-r"}

// SVG writes the drawing as an element that can stand in a page, or alone as a file; id is not
// used twice in one page.
func (d *Drawing) SVG(id string) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%[1]d" height="%[2]d" `+
		`role="img" aria-labelledby="%[3]s-t %[3]s-d"><title id="%[3]s-t">%[4]s</title><desc id="%[3]s-d">%[5]s</desc>`+
		`<style>%[6]s</style>`, d.Width, d.Height, escaped(id), escaped(d.Title), escaped(d.Says), style)
	for _, s := range d.strokes {
		switch {
		case s.text != "":
			class := "nx-t"
			if s.bold {
				class += " nx-w"
			}
			fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" class="%s">%s</text>`, s.x, s.y, class, escaped(s.text))
		case s.box:
			fmt.Fprintf(&b, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" class="%s nx-b"/>`, s.x, s.y, s.x2-s.x,
				s.y2-s.y, classes[s.kind])
			for _, l := range hatch(s) {
				fmt.Fprintf(&b, `<path d="M%.1f %.1fL%.1f %.1f" class="nx-s" opacity=".45"/>`, l[0], l[1], l[2], l[3])
			}
		default:
			dash := ""
			if s.dash {
				dash = ` stroke-dasharray="5 4"`
			}
			fmt.Fprintf(&b, `<path d="M%.1f %.1fL%.1f %.1f" class="nx-s"%s/>`, s.x, s.y, s.x2, s.y2, dash)
			for _, l := range head(s) {
				fmt.Fprintf(&b, `<path d="M%.1f %.1fL%.1f %.1f" class="nx-s"/>`, l[0], l[1], l[2], l[3])
			}
		}
	}
	b.WriteString("</svg>")
	return b.String()
}

// escaped is a text as it may stand in XML; what may not is replaced (Extensible Markup
// Language 1.0, 2.2).
func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text)) // a builder takes all
	return b.String()
}

// hatch are the lines by which a kind of layer is known without its colour: held slants one way,
// the reserve both, other things lie flat.
func hatch(s stroke) (out [][4]float64) {
	const gap = 7.0
	slant := func(down bool) {
		for at := s.x - (s.y2 - s.y); at < s.x2; at += gap {
			// From the ground at x = at, upwards to the right, cut to the rectangle.
			x1, y1, x2, y2 := at, s.y2, at+(s.y2-s.y), s.y
			if x1 < s.x {
				y1 -= s.x - x1
				x1 = s.x
			}
			if x2 > s.x2 {
				y2 += x2 - s.x2
				x2 = s.x2
			}
			if x1 >= x2 {
				continue
			}
			if down { // mirrored
				x1, x2 = s.x+s.x2-x1, s.x+s.x2-x2
			}
			out = append(out, [4]float64{x1, y1, x2, y2})
		}
	}
	switch s.kind {
	case Held:
		slant(false)
	case Reserve:
		slant(false)
		slant(true)
	case Other:
		for y := s.y2 - gap/2; y > s.y; y -= gap {
			out = append(out, [4]float64{s.x, y, s.x2, y})
		}
	}
	return out
}

// head is the point of an arrow.
func head(s stroke) [][4]float64 {
	if !s.arrow {
		return nil
	}
	return [][4]float64{{s.x2 - 8, s.y2 - 5, s.x2, s.y2}, {s.x2 - 8, s.y2 + 5, s.x2, s.y2}}
}
