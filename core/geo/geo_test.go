package geo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

func dms(d, m, s float64) float64 { return math.Copysign(math.Abs(d)+m/60+s/3600, d) }

// A published example: Flinders Peak to Buninyong, 54 972.271 m (Geoscience Australia, Geocentric Datum of Australia Technical
// Manual, on GRS 80, whose flattening differs from this one's by less than 1e-12). The length of a quarter of a meridian,
// 10 001 965.729 m, and of the equator are those of the ellipsoid itself. Values from memory; PROJ's geod gives the same.
func TestDistance(t *testing.T) {
	for name, c := range map[string]struct {
		p, q Point
		want float64
	}{
		"Flinders Peak":         {Point{dms(-37, 57, 3.72030), dms(144, 25, 29.52440)}, Point{dms(-37, 39, 10.15610), dms(143, 55, 35.38390)}, 54972.271},
		"quarter of a meridian": {Point{0, 12}, Point{90, 99}, 10001965.729},
		"a degree of equator":   {Point{0, 179.5}, Point{0, -179.5}, a * math.Pi / 180},
		"nowhere":               {Point{-38.4987, 24.0056}, Point{-38.4987, 24.0056}, 0},
	} {
		if got := Distance(c.p, c.q); math.Abs(got-c.want) > 0.001 {
			t.Errorf("%s: %.4f m, not %.4f", name, got, c.want)
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		p, q := Point{r.Float64()*180 - 90, r.Float64()*360 - 180}, Point{r.Float64()*180 - 90, r.Float64()*360 - 180}
		d := Distance(p, q)
		if back := Distance(q, p); math.Abs(d-back) > 0.001 || math.Abs(d-sphere(p, q)) > 0.006*d+1 || math.IsNaN(d) {
			t.Fatalf("%v to %v: %f, back %f, on a sphere %f", p, q, d, back, sphere(p, q))
		}
	}
	for _, q := range []Point{{0.5, 179.7}, {-30, 179.99}, {30, -179.9}} { // nearly opposite
		if d := Distance(Point{-q.Latitude + 0.001, 0}, q); math.IsNaN(d) || d < 1.9e7 || d > 2.01e7 {
			t.Errorf("%v: %f", q, d)
		}
	}
}

func TestBetween(t *testing.T) {
	at := time.Date(2026, 9, 11, 21, 0, 0, 0, time.UTC)
	p := Fix{Point{38.5, -24}, at, 20}
	for _, c := range []struct {
		q    Fix
		fast bool
	}{
		{Fix{Point{38.5, -24.001}, at, 20}, false},
		{Fix{Point{38.6, -24}, at, 20}, true},
		{Fix{Point{38.6, -24}, at.Add(10 * time.Second), 20}, true},
		{Fix{Point{38.6, -24}, at.Add(10 * time.Minute), 20}, false},
		{Fix{Point{38.6, -24}, at.Add(10 * time.Second), 12_000}, false},
	} {
		if l := Between(p, c.q); l.TooFast != c.fast {
			t.Errorf("%+v: %+v", c.q, l)
		}
	}
}

func ExampleDistance() {
	fmt.Printf("%.3f m\n", Distance(Point{0, 0}, Point{0, 1}))
	// Output: 111319.491 m
}
