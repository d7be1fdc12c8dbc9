package press

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"slices"
	"strings"

	"crosswind/core/geo"
	"crosswind/core/report"
	"crosswind/internal/graticule"
)

// The measures of a map, in units of its view box.
const (
	mapWidth, mapHeight = 680, 330
	mapMargin           = 40
	mapApart            = 18 // nearer places are drawn as one
	mapNumbers          = 6  // of records that are named beside one
)

// chart draws a map as SVG: a place has the numbers of its records; the places of records that are not live are hatched.
func chart(m *report.Map) template.HTML {
	at := make([]geo.Point, len(m.Places))
	for i, p := range m.Places {
		at[i] = geo.Point{Latitude: p.Latitude, Longitude: p.Longitude}
	}
	g := graticule.BoxOf(at).Map(mapWidth, mapHeight, mapMargin)
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%[1]d" height="%d" role="img" aria-label="%s" fill="none">`, mapWidth, mapHeight, html.EscapeString(chartAlt(m)))
	b.WriteString(`<defs><pattern id="place-below" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="4" height="4" fill="#E7E3F1"/><rect width="2" height="4" fill="#4A3F7A"/></pattern>`)
	fmt.Fprintf(&b, `<clipPath id="map-edge"><rect width="%d" height="%d"/></clipPath></defs><g clip-path="url(#map-edge)">`, mapWidth, mapHeight)
	words := func(x, y float64, anchor, fill, s string) {
		fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" font-family="Noto Sans, Atkinson Hyperlegible Next, sans-serif" font-size="9.5" fill="%s" text-anchor="%s">%s</text>`, x, y, fill, anchor, html.EscapeString(s))
	}
	for _, l := range g.Lines(mapHeight / 4.5) {
		fmt.Fprintf(&b, `<path d="%s" stroke="#B9C4C9" stroke-width="0.6"/>`, l.D)
		words(l.X, l.Y, "start", "#51626B", l.Label)
	}
	fmt.Fprintf(&b, `<path d="%s" stroke="#8A7A4D" stroke-width="1.2"/>`, g.Coast())
	type dot struct {
		x, y    float64
		live    bool
		numbers []int
	}
	var dots []*dot
	for _, p := range m.Places {
		x, y := g.X(p.Longitude), g.Y(p.Latitude)
		if r := p.Accuracy / 111_320 * g.By; r > 5 {
			fmt.Fprintf(&b, `<circle cx="%.1f" cy="%.1f" r="%.1f" stroke="#0E5A6B" stroke-width="0.6" stroke-dasharray="3 2"/>`, x, y, math.Min(r, mapWidth))
		}
		i := slices.IndexFunc(dots, func(d *dot) bool { return math.Hypot(d.x-x, d.y-y) < mapApart })
		if i < 0 {
			i, dots = len(dots), append(dots, &dot{x: x, y: y})
		}
		dots[i].live = dots[i].live || !p.Below
		dots[i].numbers = append(dots[i].numbers, p.Record)
	}
	for _, d := range dots {
		fill := "#0E5A6B"
		if !d.live {
			fill = "url(#place-below)"
		}
		fmt.Fprintf(&b, `<circle cx="%.1f" cy="%.1f" r="4.5" fill="%s" stroke="#17252D" stroke-width="0.8"/>`, d.x, d.y, fill)
		said := strings.Trim(fmt.Sprint(d.numbers[:min(len(d.numbers), mapNumbers)]), "[]")
		said = strings.ReplaceAll(said, " ", ", ")
		if more := len(d.numbers) - mapNumbers; more > 0 {
			said += fmt.Sprintf(" and %d more", more)
		}
		x, anchor := d.x+7, "start"
		if d.x > mapWidth*3/4 {
			x, anchor = d.x-7, "end"
		}
		words(x, d.y+3.5, anchor, "#17252D", said)
	}
	b.WriteString(`</g>`)
	if w, length := g.Scale(80); w > 0 {
		fmt.Fprintf(&b, `<path d="M%.1f 18v5h%.1fv-5" stroke="#17252D"/>`, mapWidth-10-w, w)
		words(mapWidth-10-w/2, 15, "middle", "#17252D", length)
	}
	fmt.Fprintf(&b, `<rect x="1" y="1" width="%d" height="%d" stroke="#51626B"/></svg>`, mapWidth-2, mapHeight-2)
	return template.HTML(b.String())
}

// chartAlt says what a map shows to who does not see it.
func chartAlt(m *report.Map) string {
	if len(m.Places) == 0 {
		return "Map without places"
	}
	return fmt.Sprintf("Map of the places of %d records, which the table below it lists", len(m.Places))
}
