package examine

import (
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
	chartRight = 18 // margin
	chartTop   = 20
	laneAbove  = 34 // room for bars above a lane's line
	laneBelow  = 24 // and below it
	binWidth   = 5
)

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
	Lanes                 []lane
	Empty                 bool
	Zoomed                bool
	StripX, StripW        float64 // of the strip that shows where in the whole the window lies
	Here                  float64 // x of the chosen record, 0 if none
	All, Deep             int     // records of the lanes that are on, and those of them below the waterline
}

type tick struct {
	X     float64
	Label string
}

type lane struct {
	Kind         record.Kind
	Y            int
	Above, Below int
	Up           string // path of the bars above
	Down         string // path of the bars below
	On           bool
	Toggle       string // address with this kind switched
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
	lanes := timeline.Lanes(counts, bins, kinds)
	x := func(t time.Time) float64 {
		return chartX0 + w.Place(t)*span
	}
	for _, t := range timeline.Ticks(w, p.Zone, (ch.X1-ch.X0)/118) {
		ch.Ticks = append(ch.Ticks, tick{math.Round(x(t.At)*10) / 10, t.Label})
	}
	y := chartTop
	for _, l := range lanes {
		y += laneAbove
		shown := len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(l.Kind))
		d := lane{Kind: l.Kind, Y: y, Above: l.Above, Below: l.Below, On: shown, Toggle: toggle(p, kinds, f.Kinds, l.Kind)}
		if shown {
			ch.All, ch.Deep = ch.All+l.Above+l.Below, ch.Deep+l.Below
			d.Up, d.Down = bars(&l, y)
		}
		ch.Lanes = append(ch.Lanes, d)
		y += laneBelow
	}
	ch.Bottom = y + 4
	ch.Height = ch.Bottom + 8
	if ch.Zoomed = w != full; ch.Zoomed && full.Seconds() > 0 {
		at := func(t time.Time) float64 {
			return chartX0 + span*min(1, max(0, full.Place(t)))
		}
		ch.StripX = at(w.From)
		ch.StripW = max(3, at(w.To)-ch.StripX)
	}
	return ch, nil
}

// bars draws a lane's bins. Heights grow a little slower than the count, and
// none is less than two pixels, so that a single record shows beside hundreds.
// Both sides share one scale.
func bars(l *timeline.Lane, y int) (up, down string) {
	above, below := l.Max()
	scale := func(n int) float64 { return math.Pow(float64(n)/float64(max(above, below, 3)), 0.8) }
	var u, d strings.Builder
	for i, b := range l.Bins {
		x := chartX0 + i*binWidth
		if b.Above > 0 {
			h := max(2, scale(b.Above)*(laneAbove-6))
			fmt.Fprintf(&u, "M%d %dv-%.1fh3.6v%.1fz", x, y, h, h)
		}
		if b.Below > 0 {
			h := max(3, scale(b.Below)*(laneBelow-3))
			fmt.Fprintf(&d, "M%d %.1fv%.1fh3.6v-%.1fz", x, float64(y)+1, h, h)
		}
	}
	return u.String(), d.String()
}

// toggle is the address of the page with one kind switched on or off. No kind
// named means all.
func toggle(p *frame.Page, all []record.Kind, kinds []string, k record.Kind) string {
	on := slices.Clone(kinds)
	if len(on) == 0 {
		for _, x := range all {
			on = append(on, string(x))
		}
	}
	if i := slices.Index(on, string(k)); i >= 0 {
		on = slices.Delete(on, i, i+1)
	} else {
		on = append(on, string(k))
	}
	if len(on) == len(all) || len(on) == 0 {
		on = nil
	}
	return p.Keep("kind", strings.Join(on, ","), "after", "")
}
