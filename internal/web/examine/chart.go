package examine

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/timeline"
	"crosswind/internal/store"
	"crosswind/internal/web/frame"

	"github.com/gin-gonic/gin"
)

// The chart's measures, in units of its view box.
const (
	usualWidth = 1280
	chartX0    = 190
	chartRight = 38 // margin, for the ends of the scales
	chartTop   = 20
	binWidth   = 5
	fewLanes   = 4 // for which there is more room each
	fewInBar   = 3 // which no bar of full length stands for less than
)

// room is what bars have above and below a lane's line.
type room struct{ above, below int }

func roomFor(lanes int) room {
	if lanes <= fewLanes {
		return room{34, 24}
	}
	return room{20, 14}
}

// width is how wide the chart is on the reader's screen, in CSS pixels: the
// page tells it by a cookie, so that the chart is drawn to measure.
func width(c *gin.Context) int {
	s, _ := c.Cookie("width")
	w, err := strconv.Atoi(s)
	if err != nil {
		return usualWidth
	}
	return min(max(w, 1000), 4000)
}

// chart is the waterline chart, worked out for drawing.
type chart struct {
	Width, Height, Bottom int
	X0, X1                int
	Window                timeline.Window
	Ticks                 []tick
	Shade                 string // path of nights or weekends
	Lanes                 []lane
	bars                          // of all lanes
	Bare                  []lane  // of which there is nothing here: named, not drawn
	Marks                 []pick  // of single records, where there are few
	Photos                []photo // that have room in their lane
	Empty                 bool
	Zoomed                bool
	Folded                bool    // to one lane of all kinds
	Fold                  string  // address with it the other way round
	StripX, StripW        float64 // of the strip that shows where in the whole the window lies
	room                  room
	seen                  int          // photographs and films of the lanes that are on
	Found                 []frame.View // of words that are looked for: kinds with how many, and addresses of those alone
	Missing               int          // records of the lanes that are on that are missing in a later source
	Unknown               bool         // that is being worked out
	All, Deep             int          // records of the lanes that are on, and those of them below the waterline
}

// pick is a record that can be chosen on the chart.
type pick struct {
	X              float64
	Y, Height      int
	Address, Words string
	Chosen         bool
}

// photo is a photograph or a film that is shown in its lane.
type photo struct {
	X, Y           float64
	Width, Height  int
	Address, Words string
	Shown          string // address of its preview
	Chosen, Below  bool
}

// Photographs are shown in their lane if there are at most so many in the window.
const (
	mostPhotos = 60
	photoWidth = 22
	photoApart = 3
)

// photographs shows photographs and films in their lane, where there are few: those that would lie on another are left out,
// which the bars below them tell.
func (a pages) photographs(ctx context.Context, p *frame.Page, v *content, ch *chart) error {
	f := v.Filter
	f.Kinds = nil
	for _, l := range ch.Lanes {
		for _, k := range l.kinds {
			if l.On && k.About().Seen && (len(v.Filter.Kinds) == 0 || slices.Contains(v.Filter.Kinds, string(k))) {
				f.Kinds = append(f.Kinds, string(k))
			}
		}
	}
	if len(f.Kinds) == 0 || ch.Folded || ch.seen == 0 || ch.seen > mostPhotos {
		return nil
	}
	rs, _, err := a.records(ctx, v.clocks, f, store.After{}, fewRecords)
	if err != nil {
		return err
	}
	last := map[[2]int]float64{} // where the last one of a lane's side ends
	for _, r := range rs {
		w, err := r.Whole()
		if err != nil {
			return err
		}
		n := slices.IndexFunc(w.Attachments, func(at record.Attachment) bool { return at.SHA256 != "" && (frame.Picture(at) || frame.Film(at)) })
		i := slices.IndexFunc(ch.Lanes, func(l lane) bool { return slices.Contains(l.kinds, r.Kind) })
		if n < 0 || i < 0 {
			continue
		}
		x := photo{X: round1(chartX0 + ch.Window.Place(*r.At)*float64(ch.X1-ch.X0) - photoWidth/2), Width: photoWidth, Height: ch.room.above - 4, Chosen: p.Query.Get("r") == fmt.Sprint(r.ID)}
		x.Y = float64(ch.Lanes[i].Y - x.Height - 1)
		side := [2]int{i, 0}
		if r.State.Below() {
			x.Below = true
			side[1], x.Height, x.Y = 1, ch.room.below-2, float64(ch.Lanes[i].Y+1)
		}
		if end, is := last[side]; is && x.X < end {
			continue
		}
		last[side] = x.X + photoWidth + photoApart
		x.Address, x.Words = p.Keep("r", fmt.Sprint(r.ID), "o", "", "after", ""), recordWords(&r, p.Zone)
		x.Shown = fmt.Sprintf("/case/%s/examine/preview/%d/%d", p.Case.Reference, r.ID, n)
		ch.Photos = append(ch.Photos, x)
	}
	return nil
}

// recordWords tell of a record on the chart.
func recordWords(r *store.Record, zone *time.Location) string {
	return fmt.Sprintf("%s, %s, %s: %s", frame.When(*r.At, zone), r.Kind.Title(), strings.ToLower(r.State.Title()), r.Summary)
}

type tick struct {
	X     float64
	Label string
	Left  bool // its label stands left of it, since there is no room on its right
}

// letter is how wide a letter of a label is, at most.
const letter = 8

// bars are paths: of one lane, or of all of them, since a browser draws one path of many bars sooner than many paths.
type bars struct {
	Up      string // of the bars above
	Down    string // of the bars below: what was recovered,
	Held    string // what the app holds
	Earlier string // what was replaced,
	Later   string // and what is above, since its source has it, and missing in a later one
}

func (b *bars) add(o *bars) {
	b.Up, b.Down, b.Held, b.Earlier, b.Later = b.Up+o.Up, b.Down+o.Down, b.Held+o.Held, b.Earlier+o.Earlier, b.Later+o.Later
}

type lane struct {
	Title        string
	Y            int
	kinds        []record.Kind
	Open         string // address with the lane's kinds in lanes of their own, "" if it is of one
	Fold         string // with these in one again, "" if they are
	Many         int    // kinds of the lane
	Above, Below int
	High, Deep   int // records that the longest bar that could be drawn above, and below, stands for
	bars
	On     bool
	Toggle string // address with this kind switched
}

func (a pages) chart(c *gin.Context, p *frame.Page, on []clock, f store.Filter, w, full timeline.Window) (chart, error) {
	ch := chart{Width: width(c), X0: chartX0, Window: w}
	ch.X1 = ch.Width - chartRight
	span := float64(ch.X1 - ch.X0)
	if w.Seconds() <= 0 {
		ch.Empty = true
		return ch, nil
	}
	bins := (ch.X1 - ch.X0) / binWidth
	all := f
	all.Kinds = nil // a lane that is switched off is drawn, so that it can be switched on
	all.From, all.To = w.From, w.To
	counts, err := a.counts(c.Request.Context(), on, all, bins)
	if err != nil {
		return ch, err
	}
	kinds, err := a.Store.Kinds(c.Request.Context(), p.Case.ID)
	if err != nil {
		return ch, err
	}
	opened := record.Group(p.Query.Get("open"))
	of := laneKinds(kinds, opened)
	ch.Folded = folded(p)
	if ch.Fold = p.Keep("chart", "strip", "after", ""); ch.Folded {
		ch.Fold = p.Keep("chart", "lanes", "after", "")
		of = [][]record.Kind{kinds}
	}
	for _, c := range counts {
		if c.Kind.About().Seen && (len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(c.Kind))) {
			ch.seen += c.N
		}
	}
	if f.Words != "" {
		ch.found(p, f.Kinds, counts)
	}
	later, known, err := a.missing(c.Request.Context(), on, all, bins)
	if err != nil {
		return ch, err
	}
	ch.Unknown = !known
	inLanes := func(counts []timeline.Count) []timeline.Lane {
		return timeline.Lanes(slices.DeleteFunc(counts, func(c timeline.Count) bool { return left(of, f.Kinds, c.Kind) }), bins, of)
	}
	lanes, gone := inLanes(counts), inLanes(later)
	rm := roomFor(len(lanes))
	if ch.Folded {
		rm = room{16, 12}
	}
	ch.room = rm
	x := func(t time.Time) float64 {
		return chartX0 + w.Place(t)*span
	}
	for _, t := range timeline.Ticks(w, p.Zone, (ch.X1-ch.X0)/118) {
		at := math.Round(x(t.At)*10) / 10
		ch.Ticks = append(ch.Ticks, tick{at, t.Label, at+float64(letter*len(t.Label)) > float64(ch.Width)})
	}
	y := chartTop
	for i, l := range lanes {
		if bare := l.Above+l.Below == 0 && len(lanes) > fewLanes && l.Kinds[0].About().Group != opened; bare {
			ch.Bare = append(ch.Bare, lane{Title: laneTitle(&l)})
			continue
		}
		y += rm.above
		shown := len(f.Kinds) == 0 || slices.ContainsFunc(l.Kinds, func(k record.Kind) bool { return slices.Contains(f.Kinds, string(k)) })
		d := lane{Title: laneTitle(&l), kinds: l.Kinds, Y: y, Above: l.Above, Below: l.Below, On: shown, Many: len(l.Kinds), Toggle: toggle(p, kinds, f.Kinds, l.Kinds)}
		switch group := l.Kinds[0].About().Group; {
		case ch.Folded:
			d.Title, d.Toggle = "All kinds", ch.Fold
			if len(f.Kinds) > 0 {
				d.Title = "Chosen kinds"
			}
		case len(l.Kinds) > 1:
			d.Open = p.Keep("open", string(group), "after", "")
		case group == opened && len(ch.Lanes)+len(ch.Bare) == slices.IndexFunc(of, func(ks []record.Kind) bool { return ks[0].About().Group == opened }):
			d.Fold = p.Keep("open", "", "after", "")
		}
		if shown {
			ch.All, ch.Deep, ch.Missing = ch.All+l.Above+l.Below, ch.Deep+l.Below, ch.Missing+gone[i].Above
			d.draw(&l, &gone[i], y, rm)
			ch.add(&d.bars)
		}
		ch.Lanes = append(ch.Lanes, d)
		y += rm.below
	}
	ch.Bottom = y + 4
	if ch.Height = ch.Bottom + 8; len(ch.Bare) > 0 {
		ch.Height += 8
	}
	ch.shade(p.Zone, x)
	if ch.Zoomed = w != full; ch.Zoomed && full.Seconds() > 0 {
		at := func(t time.Time) float64 {
			return chartX0 + span*min(1, max(0, full.Place(t)))
		}
		ch.StripX = at(w.From)
		ch.StripW = max(3, at(w.To)-ch.StripX)
	}
	return ch, nil
}

// found tells by kind how many records were found.
func (ch *chart) found(p *frame.Page, on []string, counts []timeline.Count) {
	n := map[record.Kind]int{}
	for _, c := range counts {
		if len(on) == 0 || slices.Contains(on, string(c.Kind)) {
			n[c.Kind] += c.N
		}
	}
	for _, k := range record.Kinds() {
		if n[k] > 0 {
			ch.Found = append(ch.Found, frame.View{Name: counted(k, n[k]), Path: p.Keep("kind", string(k), "after", "")})
		}
	}
}

// counted is how many records of a kind there are, in words.
func counted(k record.Kind, n int) string {
	if n == 1 {
		return "1 " + strings.ToLower(k.Title())
	}
	return frame.Num(n) + " " + strings.ToLower(k.Plural())
}

// laneTitle names a lane: its kind, or the group of its kinds.
func laneTitle(l *timeline.Lane) string {
	if len(l.Kinds) > 1 {
		return l.Kinds[0].About().Group.Title()
	}
	return l.Kinds[0].Plural()
}

// mark makes single records such that they can be picked, where the list has all of them.
func (ch *chart) mark(p *frame.Page, rs []store.Record) {
	for _, r := range rs {
		i := slices.IndexFunc(ch.Lanes, func(l lane) bool { return slices.Contains(l.kinds, r.Kind) })
		if i < 0 || r.At == nil {
			continue
		}
		x := chartX0 + ch.Window.Place(*r.At)*float64(ch.X1-ch.X0)
		m := pick{X: math.Round(x*10)/10 - 2.5, Y: ch.Lanes[i].Y - 14, Height: 14, Address: p.Keep("r", fmt.Sprint(r.ID), "o", "", "after", ""), Chosen: p.Query.Get("r") == fmt.Sprint(r.ID)}
		if r.State.Below() {
			m.Y += 14
		}
		m.Words = recordWords(&r, p.Zone)
		ch.Marks = append(ch.Marks, m)
	}
}

// folded reports whether the chart is one lane: as the address says, else where a view needs the room.
func folded(p *frame.Page) bool {
	switch p.Query.Get("chart") {
	case "lanes":
		return false
	case "strip":
		return true
	}
	return viewOf(p) != ""
}

// draw draws a lane's bins. Heights grow a little slower than the count, and
// none is less than two pixels, so that a single record shows beside hundreds.
// Each side has a scale of its own, whose end is told: what was deleted is seldom as much as what was not, and one scale for
// both would leave an evening of deleting as shallow as any other. Below, what was recovered hangs from the line, then what
// is held, then earlier versions; then once more, hollow, what a later source has not any more.
func (d *lane) draw(l, gone *timeline.Lane, y int, rm room) {
	d.High, d.Deep = l.Max()
	for i, b := range l.Bins {
		d.Deep = max(d.Deep, b.Below+gone.Bins[i].Above)
	}
	d.High, d.Deep = max(d.High, fewInBar), max(d.Deep, fewInBar)
	scale := func(n, most int) float64 { return math.Pow(float64(n)/float64(most), 0.8) }
	var up, recovered, held, earlier, later strings.Builder
	for i, b := range l.Bins {
		x := chartX0 + i*binWidth
		if b.Above > 0 {
			h := max(2, scale(b.Above, d.High)*float64(rm.above-6))
			fmt.Fprintf(&up, "M%d %dv-%.1fh3.6v%.1fz", x, y, h, h)
		}
		at := float64(y) + 1
		deep := b.Below + gone.Bins[i].Above
		all := max(3, scale(deep, d.Deep)*float64(rm.below-3))
		for _, part := range []struct {
			n  int
			to *strings.Builder
		}{{b.Below - b.Held - b.Earlier, &recovered}, {b.Held, &held}, {b.Earlier, &earlier}, {gone.Bins[i].Above, &later}} {
			if part.n > 0 {
				h := max(2.5, all*float64(part.n)/float64(deep))
				fmt.Fprintf(part.to, "M%d %.1fv%.1fh3.6v-%.1fz", x, at, h, h)
				at += h
			}
		}
	}
	d.bars = bars{up.String(), recovered.String(), held.String(), earlier.String(), later.String()}
}

// shade draws nights while a day is wide enough to be seen, else weekends.
func (ch *chart) shade(zone *time.Location, x func(time.Time) float64) {
	day := 86400 / ch.Window.Seconds() * float64(ch.X1-ch.X0)
	var spells []timeline.Window
	switch {
	case day > 12:
		spells = timeline.Nights(ch.Window, zone)
	case day > 12.0/7:
		spells = timeline.Weekends(ch.Window, zone)
	}
	var b strings.Builder
	for _, s := range spells {
		fmt.Fprintf(&b, "M%.1f 18H%.1fV%dH%.1fz", x(s.From), x(s.To), ch.Bottom, x(s.From))
	}
	ch.Shade = b.String()
}

// maxKinds is how many kinds have a lane each.
const maxKinds = 5

// laneKinds says which kinds are in a lane together: those of a group, unless there are few,
// or the group is opened.
func laneKinds(kinds []record.Kind, opened record.Group) (of [][]record.Kind) {
	for _, k := range kinds { // which are in the groups' order
		last := len(of) - 1
		group := k.About().Group
		if len(kinds) > maxKinds && group != opened && last >= 0 && of[last][0].About().Group == group {
			of[last] = append(of[last], k)
		} else {
			of = append(of, []record.Kind{k})
		}
	}
	return of
}

// left reports whether a kind is left out of its lane, which shows others.
func left(of [][]record.Kind, on []string, kind record.Kind) bool {
	if len(on) == 0 || slices.Contains(on, string(kind)) {
		return false
	}
	return slices.ContainsFunc(of, func(kinds []record.Kind) bool {
		return slices.Contains(kinds, kind) && slices.ContainsFunc(kinds, func(k record.Kind) bool { return slices.Contains(on, string(k)) })
	})
}

// toggle is the address of the page with some kinds switched on or off. No kind named means all.
func toggle(p *frame.Page, all []record.Kind, kinds []string, some []record.Kind) string {
	on := slices.Clone(kinds)
	if len(on) == 0 {
		for _, x := range all {
			on = append(on, string(x))
		}
	}
	had := len(on)
	on = slices.DeleteFunc(on, func(s string) bool { return slices.Contains(some, record.Kind(s)) })
	if len(on) == had {
		for _, k := range some {
			on = append(on, string(k))
		}
	}
	if len(on) == len(all) || len(on) == 0 {
		on = nil
	}
	return p.Keep("kind", strings.Join(on, ","), "after", "")
}
