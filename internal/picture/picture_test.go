package picture

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const hostile = `"><script>alert(1)</script>&` + "\x1b[2J\x00"

func samples() []Pair {
	many := Column{Title: "now"}
	for i := range 40 {
		many.Layers = append(many.Layers, Layer{fmt.Sprint("folder ", i), int64(i), Folder})
	}
	return []Pair{
		{"SKERRY", 100, Column{"before", []Layer{{"other", 30, Other}, {hostile, 60, Folder}, {"free", 8, Free},
			{"reserve", 2, Reserve}}}, Column{"now", []Layer{{"held", 60, Held}}}},
		{"DUNE", 1000, many, Column{}},
		{"NONE", 0, Column{"x", []Layer{{"y", 5, Held}}}, Column{"x", []Layer{{"too much", 1 << 60, Other}}}},
	}
}

// What is drawn is well-formed, lies on the sheet, has its words, and no name acts.
func TestDrawings(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 5, 3+n, 0, 0, 0, 0, time.UTC) }
	course := Course("away", []Point{{day(0), 100}, {day(2), 300}, {day(3), 0}, {day(90), 7}, {day(-5), 8}}, day(10))
	for _, d := range []*Drawing{course, Course("none", nil, day(0)), Course("now", []Point{{day(1), 1}}, day(1)),
		Strata(samples()), Strata(nil), Map(nil), Map([]Way{{"music", "SKERRY", "BASALT", 5, false},
			{hostile, "SKERRY", "BASALT", 7, true}, {"a very long name of a redirect that goes on", hostile, "DUNE", 7, false}})} {
		svg := d.SVG("x")
		dec := xml.NewDecoder(strings.NewReader(svg))
		for {
			tok, err := dec.Token()
			if err == io.EOF {
				break
			}
			require.NoError(t, err, svg)
			if el, ok := tok.(xml.StartElement); ok {
				require.Contains(t, []string{"svg", "title", "desc", "style", "rect", "path", "text"}, el.Name.Local)
			}
		}
		require.NotContains(t, svg, "<script")
		require.NotContains(t, svg, "\x1b")
		for _, m := range regexp.MustCompile(` y="(-?[0-9.]+)"`).FindAllStringSubmatch(svg, -1) {
			y, err := strconv.ParseFloat(m[1], 64)
			require.NoError(t, err)
			require.True(t, y >= 0 && y <= float64(d.Height), "%v of %d", y, d.Height)
		}
		var b bytes.Buffer
		require.NoError(t, d.PNG(&b))
		img, err := png.Decode(&b)
		require.NoError(t, err)
		require.Equal(t, d.Width*scale, img.Bounds().Dx())
	}
	d := Strata(samples())
	require.Contains(t, d.Says, "SKERRY: before other 30 B")
	require.Contains(t, d.Says, "now held 60 B")
	require.Contains(t, course.Says, "at most 300 B, now 8 B")
	steps := regexp.MustCompile(`<rect x="[0-9.]+" y="[0-9.]+" width="([0-9.]+)" height="([0-9.]+)"`).FindAllStringSubmatch(
		course.SVG("x"), -1)
	require.Len(t, steps, 3, "nothing is drawn of nothing")
	require.Equal(t, []string{"40.0", "120.0"}, []string{steps[0][2], steps[1][2]}, "as high as they say")
}

// Labels of a column never lie on one another while there is room for them.
func TestLabelsAreApart(t *testing.T) {
	c := Column{Title: "now"}
	for i := range 8 {
		c.Layers = append(c.Layers, Layer{fmt.Sprint("l", i), 1, Folder})
	}
	d := &Drawing{}
	d.columnOf(0, 0, c, 1000)
	var last float64
	for _, s := range d.strokes {
		if strings.HasPrefix(s.text, "l") {
			require.True(t, last == 0 || last-s.y >= rowHigh-0.01, "%v %v", last, s.y)
			last = s.y
		}
	}
}
