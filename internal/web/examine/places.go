package examine

import (
	"context"
	_ "embed"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/geo"
	"crosswind/core/record"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"
)

// The map's measures, in units of its view box.
const (
	mapWidth  = 888
	mapHeight = 400
	mapMargin = 24
	mapCell   = 11 // within which places are drawn as one

	mostPlaces = 30_000
	mostLegs   = 600
	shades     = 8
	leastSpan  = 0.0004 // degrees of latitude, some 45 m
)

//go:embed coast.bin
var coast []byte

// places is the map of what is filtered.
type places struct {
	Width, Height int
	N             int  // records with a place
	More          bool // and there are more than are read
	Dots          []dot
	Coast         string
	Grid          []gridLine
	Scale         scale
	Path          []stretch
	Legs          []leg
	Begins        int64 // ms, when the first leg does
	Fast          int
	ManyLegs      int    // fixes, if they are too many for a path
	Fit           string // address of the map with all places, "" if it shows them
}

type dot struct {
	X, Y, R  float64
	Accuracy float64 // radius
	N        int
	Below    bool // all of it
	Some     bool // some of it
	Chosen   bool
	Address  string
	Words    string
}

type gridLine struct {
	D, Label string
	X, Y     float64
}

type scale struct {
	Width float64
	Label string
}

// stretch is a part of the path between two fixes.
type stretch struct {
	D     string
	Shade int // of time: 0 is the first
	Fast  bool
	At    int64 // ms, when it ends
}

type leg struct {
	geo.Leg
	From, To *store.Record
	Address  string
}

// Speed in km/h, in words.
func (l leg) Kmh() string {
	if math.IsInf(l.Speed, 1) {
		return "—"
	}
	return fmt.Sprintf("%.0f", l.Speed*3.6)
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

// Long writes how far l is, and Lasted how long it took.
func (l leg) Long() string { return Length(l.Metres) }

// Time writes how long it took.
func (l leg) Time() string {
	if l.Lasted < 10*time.Minute {
		return fmt.Sprintf("%d:%02d min", int(l.Lasted.Minutes()), int(l.Lasted.Seconds())%60)
	}
	return long(l.Lasted)
}

// projection draws degrees: a part of the earth that is small enough is drawn true to its middle's latitude.
type projection struct {
	west, north, by, flat float64 // degrees; units of the view box a degree of latitude; the cosine of its middle
}

func (p projection) x(lon float64) float64 { return (lon - p.west) * p.by * p.flat }
func (p projection) y(lat float64) float64 { return (p.north - lat) * p.by }

func (a pages) places(ctx context.Context, p *frame.Page, v *content) (*places, error) {
	m := &places{Width: mapWidth, Height: mapHeight}
	var all []store.Record
	for _, k := range v.clocks {
		rs, err := a.Store.Placed(ctx, k.filter(v.Filter), mostPlaces)
		if err != nil {
			return nil, err
		}
		m.More = m.More || len(rs) == mostPlaces
		k.right(rs)
		all = append(all, rs...)
	}
	slices.SortStableFunc(all, func(x, y store.Record) int { return x.At.Compare(*y.At) })
	if m.N = len(all); m.N == 0 {
		return m, nil
	}
	box := boxOf(all)
	if b, ok := readBox(p.Query.Get("box")); ok {
		box, m.Fit = b, p.Keep("box", "")
	}
	over := 0.0 // places are drawn east of the date line if that brings them together
	if box.east > 180 {
		over = 360
	}
	pr := box.projection()
	m.grid(pr, box)
	m.Coast = shore(pr)
	m.dots(p, v, pr, all, over)
	m.path(p, pr, all, over)
	return m, nil
}

// box is a part of the earth, in degrees.
type box struct{ south, west, north, east float64 }

// boxOf is the box of all places: over the date line if that is smaller.
func boxOf(all []store.Record) box {
	b, shifted := box{90, 540, -90, -540}, box{90, 540, -90, -540}
	for _, r := range all {
		lat, lon := *r.Latitude, *r.Longitude
		b = box{min(b.south, lat), min(b.west, lon), max(b.north, lat), max(b.east, lon)}
		if lon < 0 {
			lon += 360
		}
		shifted = box{b.south, min(shifted.west, lon), b.north, max(shifted.east, lon)}
	}
	if shifted.east-shifted.west < b.east-b.west {
		return shifted
	}
	return b
}

// readBox reads south, west, north and east from an address.
func readBox(s string) (b box, ok bool) {
	parts := strings.Split(s, ",")
	if len(parts) != 4 {
		return b, false
	}
	for i, to := range []*float64{&b.south, &b.west, &b.north, &b.east} {
		f, err := strconv.ParseFloat(parts[i], 64)
		if err != nil || math.IsNaN(f) || math.Abs(f) > 540 {
			return b, false
		}
		*to = f
	}
	return b, b.south < b.north && b.west < b.east && b.south >= -90 && b.north <= 90 && b.east-b.west <= 360
}

// projection is the one that shows all of b.
func (b box) projection() projection {
	lat, lon := (b.south+b.north)/2, (b.west+b.east)/2
	flat := math.Max(0.05, math.Cos(lat*math.Pi/180))
	high := math.Max(b.north-b.south, leastSpan)
	wide := math.Max((b.east-b.west)*flat, leastSpan)
	by := math.Min((mapHeight-2*mapMargin)/high, (mapWidth-2*mapMargin)/wide)
	return projection{lon - mapWidth/2/by/flat, lat + mapHeight/2/by, by, flat}
}

// grid draws lines of latitude and longitude, some five each way, and the scale.
func (m *places) grid(p projection, b box) {
	step := 30.0
	for _, s := range []float64{30, 20, 10, 5, 2, 1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001, 0.0005, 0.0002, 0.0001} {
		if s*p.by < mapHeight/4.5 {
			break
		}
		step = s
	}
	digits := max(0, int(math.Ceil(-math.Log10(step)-1e-9)))
	name := func(f float64, plus, minus string) string {
		f = math.Remainder(f, 360)
		if f < 0 {
			plus = minus
		}
		return strconv.FormatFloat(math.Abs(f), 'f', digits, 64) + "° " + plus
	}
	south := p.north - mapHeight/p.by
	for lat := math.Ceil(max(south, -90)/step) * step; lat <= min(p.north, 90); lat += step {
		m.Grid = append(m.Grid, gridLine{fmt.Sprintf("M0 %.1fH%d", p.y(lat), mapWidth), name(lat, "N", "S"), 4, p.y(lat) - 3})
	}
	east := p.west + mapWidth/p.by/p.flat
	for lon := math.Ceil(p.west/step) * step; lon <= east; lon += step {
		m.Grid = append(m.Grid, gridLine{fmt.Sprintf("M%.1f 0V%d", p.x(lon), mapHeight), name(lon, "E", "W"), p.x(lon) + 3, mapHeight - 5})
	}
	mid := (p.north + south) / 2
	unit := geo.Distance(geo.Point{Latitude: mid, Longitude: 0}, geo.Point{Latitude: mid, Longitude: 1e-3 / p.by}) * 1e3 / p.flat // metres a unit
	for n := 1.0; n < 2e7; n *= 10 {
		for _, k := range []float64{1, 2, 5} {
			if w := n * k / unit; w >= 60 && w < 160 {
				m.Scale = scale{math.Round(w*10) / 10, Length(n * k)}
				return
			}
		}
	}
}

// shore draws those coastlines of Natural Earth that a map shows.
func shore(p projection) string {
	var out strings.Builder
	for _, turn := range []float64{-360, 0, 360} {
		b := coast
		for len(b) >= 2 {
			n := int(binary.BigEndian.Uint16(b))
			line := b[2 : 2+4*n]
			b = b[2+4*n:]
			drawn, lx, ly := false, 0.0, 0.0
			for i := range n {
				lon, lat := float64(int16(binary.BigEndian.Uint16(line[4*i:])))/182+turn, float64(int16(binary.BigEndian.Uint16(line[4*i+2:])))/182
				x, y := p.x(lon), p.y(lat)
				near := func(x, y float64) bool { return x > -mapWidth && x < 2*mapWidth && y > -mapHeight && y < 2*mapHeight }
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

// dots draws the places; those that would lie on one another are one dot, which leads nearer.
func (m *places) dots(p *frame.Page, v *content, pr projection, all []store.Record, over float64) {
	type cell struct{ x, y int }
	type group struct {
		rs       []*store.Record
		x, y     float64
		below, n int
	}
	groups := map[cell]*group{}
	var order []*group
	for i := range all {
		r := &all[i]
		lon := *r.Longitude
		if lon < 0 {
			lon += over
		}
		x, y := pr.x(lon), pr.y(*r.Latitude)
		if x < 0 || x > mapWidth || y < 0 || y > mapHeight {
			continue
		}
		c := cell{int(x / mapCell), int(y / mapCell)}
		g := groups[c]
		if g == nil {
			g = &group{}
			groups[c] = g
			order = append(order, g)
		}
		g.x, g.y, g.n = g.x+x, g.y+y, g.n+1
		if r.State.Below() {
			g.below++
		}
		g.rs = append(g.rs, r)
	}
	for _, g := range order {
		r := g.rs[0]
		d := dot{X: round1(g.x / float64(g.n)), Y: round1(g.y / float64(g.n)), N: g.n, Below: g.below == g.n, Some: g.below > 0}
		d.R = round1(min(3.2+1.1*math.Sqrt(float64(g.n-1)), 12))
		d.Chosen = v.Chosen != nil && slices.ContainsFunc(g.rs, func(x *store.Record) bool { return x.ID == v.Chosen.ID })
		switch reach := mapCell / pr.by; {
		case g.n == 1:
			d.Address = p.Keep("r", fmt.Sprint(r.ID), "o", "")
			d.Words = fmt.Sprintf("%s, %s, %s, %s", frame.When(*r.At, p.Zone), r.Kind.Title(), strings.ToLower(r.State.Title()), r.ExhibitRef)
			if r.Accuracy != nil {
				d.Accuracy = round1(min(*r.Accuracy/111_320*pr.by, mapWidth))
			}
		case reach < leastSpan:
			d.Address = p.Keep("view", "", "box", "", "o", "", "near", fmt.Sprintf("%.6f,%.6f,%.0f", *r.Latitude, *r.Longitude, math.Ceil(reach*111_320*1.5)))
			d.Words = fmt.Sprintf("%d records here: list them", g.n)
		default:
			lat, lon := pr.north-d.Y/pr.by, pr.west+d.X/pr.by/pr.flat
			h, w := reach*6, reach*6*mapWidth/mapHeight/pr.flat
			d.Address = p.Keep("box", fmt.Sprintf("%.6f,%.6f,%.6f,%.6f", max(-90, lat-h), lon-w, min(90, lat+h), lon+w), "o", "")
			d.Words = fmt.Sprintf("%d records, %d below, %s to %s: look nearer", g.n, g.below, frame.When(*r.At, p.Zone), frame.When(*g.rs[g.n-1].At, p.Zone))
		}
		m.Dots = append(m.Dots, d)
	}
	slices.SortStableFunc(m.Dots, func(a, b dot) int { return b.N - a.N }) // small ones above
}

func round1(f float64) float64 { return math.Round(f*10) / 10 }

// path draws the way that each exhibit took, and measures its legs. Of a fix that several sources have, one is taken.
func (m *places) path(p *frame.Page, pr projection, all []store.Record, over float64) {
	type key struct {
		exhibit  int64
		at       int64
		lat, lon float64
	}
	seen, tracks := map[key]bool{}, map[int64][]*store.Record{}
	var exhibits []int64
	n := 0
	for i := range all {
		r := &all[i]
		if r.Kind.About().Time != "taken" || r.State == record.Earlier { // a place that was saved says nothing of where the handset was
			continue
		}
		k := key{r.ExhibitID, r.At.Unix(), *r.Latitude, *r.Longitude}
		if seen[k] {
			continue
		}
		seen[k] = true
		if tracks[r.ExhibitID] == nil {
			exhibits = append(exhibits, r.ExhibitID)
		}
		tracks[r.ExhibitID] = append(tracks[r.ExhibitID], r)
		n++
	}
	if n > mostLegs {
		m.ManyLegs = n
		return
	}
	first, last := all[0].At.Unix(), all[len(all)-1].At.Unix()
	for _, e := range exhibits {
		t := tracks[e]
		for i := 1; i < len(t); i++ {
			a, b := fix(t[i-1]), fix(t[i])
			l := leg{geo.Between(a, b), t[i-1], t[i], p.Keep("r", fmt.Sprint(t[i].ID), "o", "")}
			if l.TooFast {
				m.Fast++
			}
			m.Legs = append(m.Legs, l)
			x := func(lon float64) float64 {
				if lon < 0 {
					lon += over
				}
				return pr.x(lon)
			}
			m.Path = append(m.Path, stretch{fmt.Sprintf("M%.1f %.1fL%.1f %.1f", x(a.Longitude), pr.y(a.Latitude), x(b.Longitude), pr.y(b.Latitude)),
				int(min(shades-1, shades*(t[i].At.Unix()-first)/max(1, last-first))), l.TooFast, t[i].At.UnixMilli()})
		}
	}
	slices.SortStableFunc(m.Legs, func(a, b leg) int { return a.From.At.Compare(*b.From.At) })
	if len(m.Legs) > 0 {
		m.Begins = m.Legs[0].From.At.UnixMilli()
	}
}

func fix(r *store.Record) geo.Fix {
	f := geo.Fix{Point: geo.Point{Latitude: *r.Latitude, Longitude: *r.Longitude}, At: *r.At}
	if r.Accuracy != nil {
		f.Accuracy = *r.Accuracy
	}
	return f
}

// readNear reads a place and metres around it from an address.
func readNear(s string) *store.Near {
	parts := strings.Split(s, ",")
	if len(parts) != 3 {
		return nil
	}
	var f [3]float64
	for i := range f {
		var err error
		if f[i], err = strconv.ParseFloat(parts[i], 64); err != nil || math.IsNaN(f[i]) {
			return nil
		}
	}
	if math.Abs(f[0]) > 90 || math.Abs(f[1]) > 180 || f[2] <= 0 || f[2] > 2e7 {
		return nil
	}
	return &store.Near{Latitude: f[0], Longitude: f[1], Metres: f[2]}
}
