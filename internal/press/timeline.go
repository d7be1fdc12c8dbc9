package press

import (
	"fmt"
	"html"
	"html/template"
	"slices"
	"strings"

	"crosswind/core/report"
)

// timeline draws a timeline as SVG: live records stand above the line, others hang hatched below it.
func timeline(t *report.Timeline) template.HTML {
	const width, middle, high, left = 680, 84, 70, 8
	most := max(slices.Max(t.Above), slices.Max(t.Below), 1)
	step := float64(width-2*left) / float64(len(t.Above))
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d 212" width="%d" height="212" role="img" aria-label="%s">`, width, width, html.EscapeString(timelineAlt(t)))
	b.WriteString(`<defs><pattern id="below-the-line" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="4" height="4" fill="#E7E3F1"/><rect width="2" height="4" fill="#4A3F7A"/></pattern></defs>`)
	for i := range t.Above {
		x := left + step*float64(i)
		if n := t.Above[i]; n > 0 {
			h := max(3, float64(n*high)/float64(most))
			fmt.Fprintf(&b, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" fill="#0E5A6B"/>`, x, middle-h, max(1, step-0.8), h)
		}
		if n := t.Below[i]; n > 0 {
			h := max(3, float64(n*high)/float64(most))
			fmt.Fprintf(&b, `<rect x="%.1f" y="%d" width="%.1f" height="%.1f" fill="url(#below-the-line)" stroke="#4A3F7A" stroke-width="0.5"/>`, x, middle+1, max(1, step-0.8), h)
		}
	}
	fmt.Fprintf(&b, `<path d="M0 %d.5H%d" stroke="#17252D"/>`, middle, width)
	for i, k := range t.Ticks {
		x, anchor := left+k.At*(width-2*left), "middle"
		if i == 0 {
			anchor = "start"
		} else if i == len(t.Ticks)-1 {
			anchor = "end"
		}
		fmt.Fprintf(&b, `<path d="M%.1f 164v6" stroke="#51626B"/>`, x)
		for line, words := range []string{k.Zone, k.UTC} {
			fmt.Fprintf(&b, `<text x="%.1f" y="%d" font-family="Noto Sans Mono, Atkinson Hyperlegible Mono, monospace" font-size="9.5" fill="#51626B" text-anchor="%s">%s</text>`, x, 184+14*line, anchor, html.EscapeString(words))
		}
	}
	fmt.Fprintf(&b, `<text x="%d" y="12" font-family="Noto Sans, Atkinson Hyperlegible Next, sans-serif" font-size="9.5" fill="#51626B" text-anchor="end">most in one bar: %d</text>`, width-left, most)
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// timelineAlt says what a timeline shows to who does not see it.
func timelineAlt(t *report.Timeline) string {
	above, below := 0, 0
	for i := range t.Above {
		above, below = above+t.Above[i], below+t.Below[i]
	}
	return fmt.Sprintf("Timeline from %s to %s: %d live above the line, %d recovered, held or earlier below it", t.From.UTC().Format("2006-01-02 15:04:05Z"), t.To.UTC().Format("2006-01-02 15:04:05Z"), above, below)
}
