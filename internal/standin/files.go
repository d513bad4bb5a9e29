package standin

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"strings"
	"time"
)

// photo draws a barred feather as a JPEG, width by two thirds of it, both even.
func photo(seed uint64, width int) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	height := width * 2 / 3
	base := [3]float64{120 + 90*r.Float64(), 90 + 70*r.Float64(), 60 + 50*r.Float64()}
	bars, tilt := 9+r.Float64()*14, r.Float64()*0.8-0.4
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := 0; y < height; y += 2 { // the feather is drawn two pixels at a time, its grain one by one
		for x := 0; x < width; x += 2 {
			light := feather(float64(x)/float64(width)-0.5, float64(y)/float64(height)-0.5, bars, tilt)
			for _, at := range [4]int{img.PixOffset(x, y), img.PixOffset(x+1, y), img.PixOffset(x, y+1),
				img.PixOffset(x+1, y+1)} {
				grain := light + 0.06*r.Float64()
				copy(img.Pix[at:at+4], []uint8{shade(base[0], grain), shade(base[1], grain), shade(base[2], grain),
					255})
			}
		}
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 88}) // a buffer takes everything
	return b.Bytes()
}

// feather says how light a feather is at a place, from the middle of the picture.
func feather(u, v, bars, tilt float64) float64 {
	along, across := u+tilt*v, v-tilt*u
	wide, thin := across*(2.2+along), across*60
	bar := 0.55 + 0.45*math.Sin(along*bars*6+across*across*20)
	return math.Exp(-6*wide*wide)*(0.35+0.65*bar) + 0.4*math.Exp(-thin*thin)
}

func shade(c, light float64) uint8 { return uint8(min(255, 18+c*1.25*light)) }

// rate is the sampling rate of the recordings, per second.
const rate = 22050

// recording makes a WAV file, 16 bit mono, of a few calls over wind.
func recording(seed uint64, seconds int) []byte {
	r := rand.New(rand.NewPCG(seed, 11))
	n := rate * seconds
	samples := make([]int16, n)
	low, step := 1800+2500*r.Float64(), 0.35+r.Float64()*0.5
	for i := range samples {
		t := float64(i) / rate
		in := math.Mod(t, step) / 0.12
		call := 0.0
		if in < 1 {
			call = math.Sin(2*math.Pi*(low+1500*in)*t) * math.Sin(math.Pi*in)
		}
		samples[i] = int16(9000*call + 500*(r.Float64()-0.5))
	}
	var b bytes.Buffer
	b.WriteString("RIFF")
	put := func(v any) { _ = binary.Write(&b, binary.LittleEndian, v) } // a buffer takes everything
	put(uint32(36 + 2*n))
	b.WriteString("WAVEfmt ")
	put([]uint32{16})
	put([]uint16{1, 1})
	put([]uint32{rate, 2 * rate})
	put([]uint16{2, 16})
	b.WriteString("data")
	put(uint32(2 * n))
	put(samples)
	return b.Bytes()
}

func note(i int, species []string, when time.Time) []byte {
	r := rand.New(rand.NewPCG(uint64(i), 13))
	var b strings.Builder
	fmt.Fprintf(&b, "# %s, north hide\n\n", when.Format("Monday 2 January 2006"))
	for range 6 + r.IntN(20) {
		fmt.Fprintf(&b, "- %02d:%02d  %s, %d, %s\n", 4+r.IntN(14), r.IntN(60), species[r.IntN(len(species))],
			1+r.IntN(40),
			[]string{"calling", "feeding on the tideline", "moving north", "at the nest"}[r.IntN(4)])
	}
	return []byte(b.String())
}

func table(rows int, species []string) []byte {
	r := rand.New(rand.NewPCG(3, 17))
	var b strings.Builder
	b.WriteString("ring,species,wing_mm,mass_g,ringer\n")
	for i := range rows {
		fmt.Fprintf(&b, "KB%06d,%s,%d,%.1f,%s\n", 4100+i, species[r.IntN(len(species))], 90+r.IntN(90),
			20+120*r.Float64(),
			[]string{"ines", "tomas", "wren"}[r.IntN(3)])
	}
	return []byte(b.String())
}
