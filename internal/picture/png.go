package picture

import (
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// scale is how many points of a PNG a pixel of the drawing has.
const scale = 2

var (
	ink    = color.RGBA{0x20, 0x26, 0x2b, 0xff}
	faint  = color.RGBA{0x20, 0x26, 0x2b, 0x73}
	paper  = color.RGBA{0xfb, 0xfa, 0xf7, 0xff}
	colour = map[Kind]color.RGBA{Other: {0xd8, 0xd3, 0xc7, 0xff}, Folder: {0x8f, 0xb3, 0xc9, 0xff},
		Held: {0xe6, 0xc5, 0x8b, 0xff}, Free: paper, Reserve: {0xef, 0xec, 0xe4, 0xff}}
)

// PNG paints the drawing on paper, with twice as many points each way.
func (d *Drawing) PNG(w io.Writer) error {
	plain, err := face(goregular.TTF)
	if err != nil {
		return err
	}
	heavy, err := face(gobold.TTF)
	if err != nil {
		return err
	}
	p := &painter{image.NewRGBA(image.Rect(0, 0, d.Width*scale, d.Height*scale))}
	draw.Draw(p.img, p.img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	for _, s := range d.strokes {
		switch {
		case s.text != "":
			f := plain
			if s.bold {
				f = heavy
			}
			t := font.Drawer{Dst: p.img, Src: image.NewUniform(ink), Face: f,
				Dot: fixed.P(int(s.x*scale), int(s.y*scale))}
			t.DrawString(s.text)
		case s.box:
			at := image.Rect(int(s.x*scale), int(s.y*scale), int(s.x2*scale), int(s.y2*scale))
			draw.Draw(p.img, at, image.NewUniform(colour[s.kind]), image.Point{}, draw.Src)
			for _, l := range hatch(s) {
				p.line(l, faint)
			}
			for _, l := range [][4]float64{{s.x, s.y, s.x2, s.y}, {s.x, s.y2, s.x2, s.y2}, {s.x, s.y, s.x, s.y2},
				{s.x2, s.y, s.x2, s.y2}} {
				p.line(l, ink)
			}
		default:
			for _, l := range dashes(s) {
				p.line(l, ink)
			}
			for _, l := range head(s) {
				p.line(l, ink)
			}
		}
	}
	return png.Encode(w, p.img)
}

func face(ttf []byte) (font.Face, error) {
	f, err := opentype.Parse(ttf)
	if err != nil {
		return nil, err
	}
	return opentype.NewFace(f, &opentype.FaceOptions{Size: 13 * scale, DPI: 72, Hinting: font.HintingFull})
}

// dashes are a line in pieces, if it has them.
func dashes(s stroke) [][4]float64 {
	if !s.dash {
		return [][4]float64{{s.x, s.y, s.x2, s.y2}}
	}
	var out [][4]float64
	const parts = 12
	at := func(i float64) (float64, float64) { return s.x + (s.x2-s.x)*i/parts, s.y + (s.y2-s.y)*i/parts }
	for i := 0.0; i < parts; i++ {
		x, y := at(i)
		x2, y2 := at(i + 0.55)
		out = append(out, [4]float64{x, y, x2, y2})
	}
	return out
}

type painter struct{ img *image.RGBA }

// line paints a line one pixel wide.
func (p *painter) line(l [4]float64, c color.RGBA) {
	x, y, x2, y2 := float32(l[0]*scale), float32(l[1]*scale), float32(l[2]*scale), float32(l[3]*scale)
	at := image.Rect(int(min(x, x2))-scale, int(min(y, y2))-scale, int(max(x, x2))+2*scale, int(max(y, y2))+2*scale).
		Intersect(p.img.Bounds())
	if at.Empty() {
		return
	}
	r := vector.NewRasterizer(at.Dx(), at.Dy())
	x, x2, y, y2 = x-float32(at.Min.X), x2-float32(at.Min.X), y-float32(at.Min.Y), y2-float32(at.Min.Y)
	dx, dy := x2-x, y2-y
	n := float32(scale) / 2 / max(abs(dx), abs(dy), 0.01)
	ox, oy := -dy*n, dx*n // across the line
	r.MoveTo(x+ox, y+oy)
	r.LineTo(x2+ox, y2+oy)
	r.LineTo(x2-ox, y2-oy)
	r.LineTo(x-ox, y-oy)
	r.ClosePath()
	r.Draw(p.img, at, image.NewUniform(c), image.Point{})
}

func abs(x float32) float32 { return max(x, -x) }
