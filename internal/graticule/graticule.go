// Package graticule draws what lies under places: lines of latitude and longitude, a scale, and the coastlines of Natural
// Earth, as paths of SVG. A part of the earth that is small enough is drawn true to its middle's latitude.
package graticule

import (
	_ "embed"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"crosswind/core/geo"
)

//go:embed coast.bin
var coast []byte

// LeastSpan is how many degrees of latitude a map shows at least: some 45 m.
const LeastSpan = 0.0004

// Box is a part of the earth, in degrees. Over the date line East is beyond 180.
type Box struct{ South, West, North, East float64 }

// BoxOf is the box of all places: over the date line if that is smaller, by a degree at least.
func BoxOf(places []geo.Point) Box {
	b, shifted := Box{90, 540, -90, -540}, Box{90, 540, -90, -540}
	for _, p := range places {
		lat, lon := p.Latitude, p.Longitude
		b = Box{min(b.South, lat), min(b.West, lon), max(b.North, lat), max(b.East, lon)}
		if lon < 0 {
			lon += 360
		}
		shifted = Box{b.South, min(shifted.West, lon), b.North, max(shifted.East, lon)}
	}
	if shifted.East-shifted.West < b.East-b.West-1 {
		return shifted
	}
	return b
}

// Map is a map of so many units, drawn from its north-western corner.
type Map struct {
	Width, Height float64
	West, North   float64 // degrees, of the corner
	By            float64 // units a degree of latitude
	Flat          float64 // how much shorter a degree of longitude is in its middle
	over          bool    // it shows what lies east of the date line
}

// Map is the map of so many units that shows all of b, and a margin.
func (b Box) Map(width, height, margin float64) Map {
	lat, lon := (b.South+b.North)/2, (b.West+b.East)/2
	flat := flat(lat)
	high := math.Max(b.North-b.South, LeastSpan)
	wide := math.Max((b.East-b.West)*flat, LeastSpan)
	by := math.Min((height-2*margin)/high, (width-2*margin)/wide)
	return Map{width, height, lon - width/2/by/flat, lat + height/2/by, by, flat, b.East > 180}
}

// Around is the map of so many units around a place, with by units a degree of latitude.
func Around(p geo.Point, width, height, by float64) Map {
	flat := flat(p.Latitude)
	return Map{width, height, p.Longitude - width/2/by/flat, p.Latitude + height/2/by, by, flat, false}
}

func flat(lat float64) float64 { return math.Max(0.05, math.Cos(lat*math.Pi/180)) }

// Seen is the part of the earth whose map, with that margin, has a place of m's in its middle and shows so many times as much.
func (m Map) Seen(x, y, times, margin float64) Box {
	w, h := (m.Width/2-margin)*times/m.By/m.Flat, (m.Height/2-margin)*times/m.By
	lon, lat := m.West+x/m.By/m.Flat, m.North-y/m.By
	return Box{max(lat-h, -90), lon - w, min(lat+h, 90), lon + w}
}

// X and Y say where a place lies.
func (m Map) X(lon float64) float64 {
	if m.over && lon < 0 {
		lon += 360
	}
	return (lon - m.West) * m.By * m.Flat
}

// Y says where a latitude lies.
func (m Map) Y(lat float64) float64 { return (m.North - lat) * m.By }

// Line is a line of the graticule: its path, and its name with where that stands.
type Line struct {
	D, Label string
	X, Y     float64
}

// Lines are the lines of latitude and longitude, at least so many units apart, and as far as their names need.
func (m Map) Lines(apart float64) (out []Line) {
	const letter = 7 // units, in which maps are lettered, and a little more
	long := func(name string) float64 { return letter * float64(utf8.RuneCountInString(name)) }
	step := finest(func(step float64) bool { return step*m.By >= apart })
	south := m.North - m.Height/m.By
	for lat := math.Ceil(max(south, -90)/step) * step; lat <= min(m.North, 90); lat += step {
		y := m.Y(lat) - 3
		if y < 2*letter { // it would be cut off above the line
			y += 2 * letter
		}
		out = append(out, Line{fmt.Sprintf("M0 %.1fH%g", m.Y(lat), m.Width), degrees(lat, step, "N", "S"), 4, y})
	}
	step = finest(func(step float64) bool {
		return step*m.By*m.Flat >= max(apart, long(degrees(m.West, step, "E", "W")))
	})
	east := m.West + m.Width/m.By/m.Flat
	for lon := math.Ceil(m.West/step) * step; lon <= east; lon += step {
		x, name := (lon-m.West)*m.By*m.Flat, degrees(lon, step, "E", "W")
		if x+long(name) > m.Width {
			name = "" // it would be cut off
		}
		out = append(out, Line{fmt.Sprintf("M%.1f 0V%g", x, m.Height), name, x + 3, m.Height - 5})
	}
	return out
}

// finest is the smallest round number of degrees that is wide enough.
func finest(wide func(step float64) bool) float64 {
	step := 30.0
	for _, s := range []float64{20, 10, 5, 2, 1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001, 0.0005, 0.0002, 0.0001} {
		if !wide(s) {
			break
		}
		step = s
	}
	return step
}

// degrees names a line, to as many digits as its step has.
func degrees(f, step float64, plus, minus string) string {
	f = math.Remainder(f, 360)
	if f < 0 {
		plus = minus
	}
	return strconv.FormatFloat(math.Abs(f), 'f', max(0, int(math.Ceil(-math.Log10(step)-1e-9))), 64) + "° " + plus
}

// Scale gives a round length in the map's middle that is at least so many units wide, in units and in words: 0 if there is none.
func (m Map) Scale(least float64) (units float64, words string) {
	mid := m.North - m.Height/m.By/2
	unit := geo.Distance(geo.Point{Latitude: mid}, geo.Point{Latitude: mid, Longitude: 1e-3 / m.By}) * 1e3 / m.Flat // metres a unit
	for n := 1.0; n < 2e7; n *= 10 {
		for _, k := range []float64{1, 2, 5} {
			if w := n * k / unit; w >= least {
				words = fmt.Sprintf("%g m", n*k)
				if n >= 1000 {
					words = fmt.Sprintf("%g km", n*k/1000)
				}
				return math.Round(w*10) / 10, words
			}
		}
	}
	return 0, ""
}

// Coast draws those coastlines that the map shows.
func (m Map) Coast() string {
	var out strings.Builder
	near := func(x, y float64) bool {
		return x > -m.Width && x < 2*m.Width && y > -m.Height && y < 2*m.Height
	}
	for _, turn := range []float64{-360, 0, 360} {
		b := coast
		for len(b) >= 2 {
			n := int(binary.BigEndian.Uint16(b))
			line := b[2 : 2+4*n]
			b = b[2+4*n:]
			drawn, lx, ly := false, 0.0, 0.0
			for i := range n {
				lon, lat := float64(int16(binary.BigEndian.Uint16(line[4*i:])))/182+turn, float64(int16(binary.BigEndian.Uint16(line[4*i+2:])))/182
				x, y := (lon-m.West)*m.By*m.Flat, m.Y(lat)
				switch {
				case i == 0:
				case !near(x, y) && !near(lx, ly):
					drawn = false
				case drawn && math.Abs(x-lx)+math.Abs(y-ly) < 1 && i < n-1:
					continue
				default:
					if !drawn {
						fmt.Fprintf(&out, "M%.1f %.1f", lx, ly)
					}
					fmt.Fprintf(&out, "L%.1f %.1f", x, y)
					drawn = true
				}
				lx, ly = x, y
			}
		}
	}
	return out.String()
}

// Length writes metres.
func Length(m float64) string {
	switch {
	case m < 1000:
		return fmt.Sprintf("%.0f m", m)
	case m < 100_000:
		return fmt.Sprintf("%.2f km", m/1000)
	}
	return fmt.Sprintf("%.0f km", m/1000)
}
