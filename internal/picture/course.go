package picture

import (
	"time"

	"nexlin/internal/pathtext"
)

// A Point is how much there is from a time on.
type Point struct {
	At    time.Time
	Bytes int64
}

// Measures of the drawing of a course.
const (
	courseHigh = 120.0
	courseLeft = 90.0 // room for the sizes
)

// Course draws how much there was from one time to the next, up to now, as steps: with the days
// below them and the sizes beside them. The points are in the order of time.
func Course(title string, points []Point, now time.Time) *Drawing {
	d := &Drawing{Title: title, Width: int(2*margin + 2*(column+labels)), Height: int(2*margin + courseHigh + 40)}
	if len(points) == 0 {
		return d
	}
	begin := points[0].At
	var most int64
	for _, p := range points {
		most = max(most, p.Bytes)
	}
	left, right := margin+courseLeft, float64(d.Width)-margin
	ground := margin + 10 + courseHigh
	x := func(t time.Time) float64 {
		if all := now.Sub(begin); all > 0 {
			return left + (right-left)*min(1, max(0, float64(t.Sub(begin))/float64(all)))
		}
		return left
	}
	for i, p := range points {
		to := right
		if i+1 < len(points) {
			to = x(points[i+1].At)
		}
		high := courseHigh * float64(max(0, p.Bytes)) / float64(max(most, 1))
		if at := x(p.At); high > 0 && to > at {
			d.rect(at, ground-high, to-at, high, Folder)
		}
		d.line(x(p.At), ground, x(p.At), ground+5)
	}
	d.line(left, ground, right, ground)
	d.line(left-5, ground-courseHigh, left, ground-courseHigh)
	d.write(margin, ground-courseHigh+4, pathtext.Size(most), false)
	d.write(margin, ground+4, "nothing", false)
	last := points[len(points)-1]
	d.write(left, ground+22, day(begin), false)
	d.write(right-76, ground+22, day(now), false)
	d.Says = "From " + day(begin) + " to " + day(now) + ": at most " + pathtext.Size(most) + ", now " +
		pathtext.Size(last.Bytes) + "."
	return d
}

func day(t time.Time) string { return t.Local().Format("2006-01-02") }
