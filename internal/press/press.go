// Package press sets reports: as a page within others, and as one that stands alone and prints.
package press

import (
	"bytes"
	"embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"strings"

	"crosswind/core/casefile"
	"crosswind/core/report"
)

//go:embed *.html report.css report.typ set.mjs
var files embed.FS

// CSS is the style of a report.
func CSS() []byte {
	b, err := files.ReadFile("report.css")
	if err != nil {
		panic(err) // it is embedded
	}
	return b
}

// Sheet is a report on its way to a page.
type Sheet struct {
	*report.Report
	Origins func(*report.Record) string // the address of a record's bytes, nil if none is linked
	Places  map[string]template.HTML    // what stands above the blocks of a part, by its name: forms of the page
}

// Origin is the address of a record's bytes, "" if it is not linked.
func (s *Sheet) Origin(r *report.Record) string {
	if s.Origins == nil {
		return ""
	}
	return s.Origins(r)
}

// Place is what stands above the blocks of a part.
func (s *Sheet) Place(name string) template.HTML { return s.Places[name] }

var templates = template.Must(template.New("").Funcs(template.FuncMap{
	"kind":       kind,
	"add":        func(a, b int) int { return a + b },
	"paragraphs": paragraphs,
	"source":     source,
	"timeline":   timeline,
	"map":        chart,
	"notext":     func() string { return casefile.NoText },
	"of":         func(s *Sheet, v any) map[string]any { return map[string]any{"Sheet": s, "V": v} },
}).ParseFS(files, "*.html"))

// source is where a picture comes from: a page of the application, or the bytes themselves.
func source(p *report.Picture) template.URL {
	if p.Address != "" {
		return template.URL(p.Address)
	}
	return template.URL("data:" + p.Type + ";base64," + base64.StdEncoding.EncodeToString(p.Bytes))
}

// kind names a block for the templates.
func kind(b report.Block) string {
	return strings.ToLower(strings.TrimPrefix(strings.TrimPrefix(fmt.Sprintf("%T", b), "*"), "report."))
}

// paragraphs divides what somebody wrote at empty lines.
func paragraphs(s string) (out []string) {
	for p := range strings.SplitSeq(strings.ReplaceAll(s, "\r\n", "\n"), "\n\n") {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, p)
		}
	}
	return out
}

// Body sets a report as an element of a page.
func Body(s *Sheet) (template.HTML, error) {
	var b bytes.Buffer
	err := templates.ExecuteTemplate(&b, "report", s)
	return template.HTML(b.String()), err
}

// HTML sets a report as a page that stands alone: it loads nothing, and leads nowhere but within itself.
func HTML(r *report.Report) ([]byte, error) {
	body, err := Body(&Sheet{Report: r})
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = templates.ExecuteTemplate(&b, "alone", map[string]any{"Title": r.Title, "CSS": template.CSS(CSS()), "Body": body})
	return b.Bytes(), err
}
