package graticule

import (
	"math"
	"testing"
	"unicode/utf8"

	"crosswind/core/geo"
)

// The map of what a map shows is the same map; half of it has twice the scale around its place.
func TestWhatIsSeenIsTheSameMap(t *testing.T) {
	for _, p := range []geo.Point{{Latitude: -38.5, Longitude: -24}, {Latitude: 0.2, Longitude: 179.9}, {Latitude: 71, Longitude: 20}} {
		m := BoxOf([]geo.Point{p, {Latitude: p.Latitude + 0.3, Longitude: p.Longitude - 0.2}}).Map(888, 400, 24)
		same := m.Seen(444, 200, 1, 24).Map(888, 400, 24)
		if math.Abs(same.West-m.West) > 1e-9 || math.Abs(same.North-m.North) > 1e-9 || math.Abs(same.By/m.By-1) > 1e-9 {
			t.Errorf("%+v, want %+v", same, m)
		}
		x, y := m.X(p.Longitude), m.Y(p.Latitude)
		half := m.Seen(x, y, 0.5, 24).Map(888, 400, 24)
		if math.Abs(half.By/m.By-2) > 0.02 || math.Abs(half.X(p.Longitude)-444) > 1e-6 || math.Abs(half.Y(p.Latitude)-200) > 1e-6 {
			t.Errorf("half of %+v around %v is %+v", m, p, half)
		}
	}
}

// Names of lines stand apart, and within the map, wherever it lies and whatever it shows.
func TestNamesOfLinesStandApart(t *testing.T) {
	for _, lat := range []float64{0, -38.5, 60, 84} {
		for by := 3.0; by < 1e6; by *= 1.7 {
			m := Around(geo.Point{Latitude: lat, Longitude: 179.99}, 888, 400, by)
			if m.Width/m.By/m.Flat > 360 {
				continue
			}
			end, n := 0.0, 0
			for _, l := range m.Lines(400 / 4.5) {
				if l.D[:2] == "M0" && l.X == 4 {
					if l.Y < 10 {
						t.Errorf("at %g, %g a degree: %s is cut off above", lat, by, l.Label)
					}
					continue
				}
				if l.Label == "" {
					continue
				}
				if n++; l.X < end {
					t.Errorf("at %g, %g a degree: %s begins before another ends", lat, by, l.Label)
				}
				if end = l.X + 6.4*float64(utf8.RuneCountInString(l.Label)); end > m.Width {
					t.Errorf("at %g, %g a degree: %s is cut off", lat, by, l.Label)
				}
			}
			if n == 0 {
				t.Errorf("at %g, %g a degree: no longitude is named", lat, by)
			}
		}
	}
}

// What lies west of Greenwich alone is not shown over the date line, for a rounding error.
func TestABoxIsOverTheDateLineOnlyIfThatIsSmaller(t *testing.T) {
	for _, c := range []struct{ west, east, from, to float64 }{{-24.0243, -24.0017, -24.0243, -24.0017}, {170, -170, 170, 190}, {-10, 10, -10, 10}} {
		b := BoxOf([]geo.Point{{Longitude: c.west}, {Longitude: c.east}})
		if b.West != c.from || b.East != c.to {
			t.Errorf("from %g to %g the box is %+v", c.west, c.east, b)
		}
	}
}
