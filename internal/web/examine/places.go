package examine

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/geo"
	"crosswind/core/record"
	"crosswind/internal/graticule"
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
)

// places is the map of what is filtered.
type places struct {
	Width, Height int
	N             int  // records with a place
	More          bool // and there are more than are read
	Dots          []dot
	Coast         string
	Grid          []graticule.Line
	Scale         scale
	Path          []stretch
	Legs          []leg  // those that are listed
	NextLegs      string // address at which the list of them goes on, "" at its end
	Begins        int64  // ms, when the first leg does
	Fast          int
	ManyLegs      int    // fixes, if they are too many for a path
	Fit           string // address of the map with all places, "" if it shows them
	Nearer        string // address of one that shows half as much, around what is chosen; "" if that is too little
	Farther       string // and of one that shows twice as much
	Map           graticule.Map
	Margin        int // of the map
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

type scale struct {
	Width float64
	Label string
}

// stretch is what of the path is drawn alike.
type stretch struct {
	Shade int // of time: 0 is the first
	Fast  bool
	Ways  []string // from fix to fix
	Ends  []string // ms, when each of these does
}

type leg struct {
	geo.Leg
	From, To *store.Fix
	Address  string
}

// Speed in km/h, in words.
func (l leg) Kmh() string {
	if math.IsInf(l.Speed, 1) {
		return "—"
	}
	return fmt.Sprintf("%.0f", l.Speed*3.6)
}

// Long writes how far l is, and Lasted how long it took.
func (l leg) Long() string { return graticule.Length(l.Metres) }

// Time writes how long it took.
func (l leg) Time() string {
	if l.Lasted < 10*time.Minute {
		return fmt.Sprintf("%d:%02d min", int(l.Lasted.Minutes()), int(l.Lasted.Seconds())%60)
	}
	return long(l.Lasted)
}

func (a pages) places(ctx context.Context, p *frame.Page, v *content) (*places, error) {
	m := &places{Width: mapWidth, Height: mapHeight, Margin: mapMargin}
	var all []store.Fix
	for _, k := range v.clocks {
		rs, err := a.Store.Placed(ctx, k.filter(v.Filter), mostPlaces)
		if err != nil {
			return nil, err
		}
		m.More = m.More || len(rs) == mostPlaces
		for _, x := range rs {
			x.At = x.At.Add(-k.Off)
			all = append(all, x)
		}
	}
	slices.SortStableFunc(all, func(x, y store.Fix) int { return x.At.Compare(y.At) })
	if m.N = len(all); m.N == 0 {
		return m, nil
	}
	at := make([]geo.Point, len(all))
	for i, r := range all {
		at[i] = geo.Point{Latitude: r.Latitude, Longitude: r.Longitude}
	}
	box := graticule.BoxOf(at)
	if b, ok := readBox(p.Query.Get("box")); ok {
		box, m.Fit = b, p.Keep("box", "")
	}
	pr := box.Map(mapWidth, mapHeight, mapMargin)
	m.Grid, m.Coast = pr.Lines(mapHeight/4.5), pr.Coast()
	m.Scale.Width, m.Scale.Label = pr.Scale(60)
	m.Map = pr
	x, y := mapWidth/2., mapHeight/2.
	if i := slices.IndexFunc(all, func(f store.Fix) bool { return v.Chosen != nil && f.ID == v.Chosen.ID }); i >= 0 {
		if cx, cy := pr.X(all[i].Longitude), pr.Y(all[i].Latitude); cx >= 0 && cx <= mapWidth && cy >= 0 && cy <= mapHeight {
			x, y = cx, cy
		}
	}
	if b := pr.Seen(x, y, 0.5, mapMargin); b.North-b.South >= graticule.LeastSpan {
		m.Nearer = p.Keep("box", writeBox(b), "o", "")
	}
	if b := pr.Seen(mapWidth/2, mapHeight/2, 2, mapMargin); b.East-b.West <= 360 {
		m.Farther = p.Keep("box", writeBox(b), "o", "")
	}
	m.dots(p, v, pr, all)
	m.path(p, pr, all)
	return m, nil
}

// writeBox writes a part of the earth as readBox reads it.
func writeBox(b graticule.Box) string {
	return fmt.Sprintf("%.7f,%.7f,%.7f,%.7f", b.South, b.West, b.North, b.East)
}

// readBox reads south, west, north and east from an address.
func readBox(s string) (b graticule.Box, ok bool) {
	parts := strings.Split(s, ",")
	if len(parts) != 4 {
		return b, false
	}
	for i, to := range []*float64{&b.South, &b.West, &b.North, &b.East} {
		f, err := strconv.ParseFloat(parts[i], 64)
		if err != nil || math.IsNaN(f) || math.Abs(f) > 540 {
			return b, false
		}
		*to = f
	}
	if b.West+b.East > 360 { // its middle is one between 180 west and east
		b.West, b.East = b.West-360, b.East-360
	}
	if b.West < -180 { // and over the date line its east is beyond 180
		b.West, b.East = b.West+360, b.East+360
	}
	return b, b.South < b.North && b.West < b.East && b.South >= -90 && b.North <= 90 && b.East-b.West <= 360
}

// dots draws the places; those that would lie on one another are one dot, which leads nearer.
func (m *places) dots(p *frame.Page, v *content, pr graticule.Map, all []store.Fix) {
	type cell struct{ x, y int }
	type group struct {
		rs       []*store.Fix
		x, y     float64
		below, n int
	}
	groups := map[cell]*group{}
	var order []*group
	for i := range all {
		r := &all[i]
		x, y := pr.X(r.Longitude), pr.Y(r.Latitude)
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
		d.Chosen = v.Chosen != nil && slices.ContainsFunc(g.rs, func(x *store.Fix) bool { return x.ID == v.Chosen.ID })
		switch reach := mapCell / pr.By; {
		case g.n == 1:
			d.Address = p.Keep("r", fmt.Sprint(r.ID), "o", "")
			d.Words = fmt.Sprintf("%s, %s, %s, %s", frame.When(r.At, p.Zone), r.Kind.Title(), strings.ToLower(r.State.Title()), r.ExhibitRef)
			if r.Accuracy > 0 {
				d.Accuracy = round1(min(r.Accuracy/111_320*pr.By, mapWidth))
			}
		case reach < graticule.LeastSpan:
			d.Address = p.Keep("view", "", "box", "", "o", "", "near", fmt.Sprintf("%.6f,%.6f,%.0f", r.Latitude, r.Longitude, math.Ceil(reach*111_320*1.5)))
			d.Words = fmt.Sprintf("%d records here: list them", g.n)
		default:
			lat, lon := pr.North-d.Y/pr.By, pr.West+d.X/pr.By/pr.Flat
			h, w := reach*6, reach*6*mapWidth/mapHeight/pr.Flat
			d.Address = p.Keep("box", writeBox(graticule.Box{South: max(-90, lat-h), West: lon - w, North: min(90, lat+h), East: lon + w}), "o", "")
			d.Words = fmt.Sprintf("%d records, %d below, %s to %s: look nearer", g.n, g.below, frame.When(r.At, p.Zone), frame.When(g.rs[g.n-1].At, p.Zone))
		}
		m.Dots = append(m.Dots, d)
	}
	slices.SortStableFunc(m.Dots, func(a, b dot) int { return b.N - a.N }) // small ones above
}

func round1(f float64) float64 { return math.Round(f*10) / 10 }

// path draws the way that each exhibit took, and measures its legs. Of a fix that several sources have, one is taken.
func (m *places) path(p *frame.Page, pr graticule.Map, all []store.Fix) {
	type key struct {
		exhibit  int64
		at       int64
		lat, lon float64
	}
	seen, tracks := map[key]bool{}, map[int64][]*store.Fix{}
	var exhibits []int64
	n := 0
	for i := range all {
		r := &all[i]
		if r.Kind.About().Time != "taken" || r.State == record.Earlier { // a place that was saved says nothing of where the handset was
			continue
		}
		k := key{r.ExhibitID, r.At.Unix(), r.Latitude, r.Longitude}
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
			a, b := t[i-1].Fix(), t[i].Fix()
			l := leg{geo.Between(a, b), t[i-1], t[i], p.Keep("r", fmt.Sprint(t[i].ID), "skip", "", "o", "")}
			if l.TooFast {
				m.Fast++
			}
			m.Legs = append(m.Legs, l)
			shade := int(min(shades-1, shades*(t[i].At.Unix()-first)/max(1, last-first)))
			at := slices.IndexFunc(m.Path, func(s stretch) bool { return s.Shade == shade && s.Fast == l.TooFast })
			if at < 0 {
				at = len(m.Path)
				m.Path = append(m.Path, stretch{Shade: shade, Fast: l.TooFast})
			}
			s := &m.Path[at]
			s.Ways = append(s.Ways, fmt.Sprintf("M%.1f %.1fL%.1f %.1f", pr.X(a.Longitude), pr.Y(a.Latitude), pr.X(b.Longitude), pr.Y(b.Latitude)))
			s.Ends = append(s.Ends, fmt.Sprint(t[i].At.UnixMilli()))
		}
	}
	slices.SortStableFunc(m.Legs, func(a, b leg) int { return a.From.At.Compare(b.From.At) })
	if len(m.Legs) > 0 {
		m.Begins = m.Legs[0].From.At.UnixMilli()
	}
	chosen := slices.IndexFunc(m.Legs, func(l leg) bool { return fmt.Sprint(l.To.ID) == p.Query.Get("r") })
	m.Legs, m.NextLegs = part(p, m.Legs, chosen+1, underMap)
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
