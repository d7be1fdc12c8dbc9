package export

import (
	"bufio"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"crosswind/core/record"
)

// textWriter writes records one below the other, for people.
type textWriter struct {
	w    *bufio.Writer
	head Head
	day  string
}

func newText(w io.Writer, head Head) (writer, error) {
	t := &textWriter{w: bufio.NewWriter(w), head: head}
	t.begin()
	return t, nil
}

// begin says what this is.
func (t *textWriter) begin() {
	h := t.head
	fmt.Fprintf(t.w, "%s, %s\n%s\nTaken out %s by %s with %s; local times in %s\n", h.Case, h.Title, h.What, h.At.UTC().Format("2006-01-02 15:04:05Z"), h.By, h.Tool, h.Zone)
}

func (t *textWriter) write(l *Line) error {
	at, local := l.At(), "no time"
	day := "\nWithout a time"
	if at != nil {
		local, day = at.In(t.head.Zone).Format("15:04:05 -07:00")+" ("+at.UTC().Format("15:04:05Z")+")", "\n"+at.In(t.head.Zone).Format("Monday, 2 January 2006")
	}
	if day != t.day {
		t.day = day
		fmt.Fprintf(t.w, "%s\n%s\n", day, strings.Repeat("-", len(day)-1))
	}
	fmt.Fprintf(t.w, "\n%s  %s, %s\n", local, l.Kind.Title(), stateOf(l))
	if who := who(l); who != "" {
		fmt.Fprintf(t.w, "    %s\n", who)
	}
	for line := range strings.SplitSeq(l.Summary(), "\n") {
		fmt.Fprintf(t.w, "    %s\n", line)
	}
	if a := l.Column(record.WithAttachments).Value; a != "" && a != l.Summary() {
		fmt.Fprintf(t.w, "    with %s\n", a)
	}
	if l.Mark != "" {
		fmt.Fprintf(t.w, "    marked because %s\n", l.Mark)
	}
	_, err := fmt.Fprintf(t.w, "    %s\n", source(l))
	return err
}

func (t *textWriter) close() error { return t.w.Flush() }

func stateOf(l *Line) string {
	s := strings.ToLower(l.State.Title())
	if l.State.Below() {
		s += ", " + l.PlaceWords() + fmt.Sprintf(", confidence %.2f", l.Origin().Confidence)
	}
	return s
}

func who(l *Line) string {
	var parts []string
	for _, s := range []string{l.Direction, l.Person(), l.Handle()} {
		if s != "" && (len(parts) == 0 || parts[len(parts)-1] != s) {
			parts = append(parts, s)
		}
	}
	return strings.Join(parts, ", ")
}

// source says where the bytes of a record are.
func source(l *Line) string {
	o := l.Origin()
	bytes := ""
	if o.Digest != "" { // else it is redacted
		bytes = fmt.Sprintf(", %d bytes, SHA-256 %s", o.Length, o.Digest)
	}
	return fmt.Sprintf("%s acquisition %d, %s, at %d%s; record %s", l.Exhibit, l.Acquisition, o.Path, o.Offset, bytes, l.UID)
}

// pageWriter writes a web page that asks for nothing outside of itself.
type pageWriter struct {
	w    *bufio.Writer
	head Head
	day  string
}

var pageParts = template.Must(template.New("").Parse(`{{define "head"}}<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>{{.Case}}: {{.What}}</title>
<style>
body { font: 15px/1.45 sans-serif; max-width: 60em; margin: 2em auto; padding: 0 1em; color: #17252d; background: #fff; }
h2 { font-size: 1.1em; border-bottom: 1px solid #d9d4c5; margin-top: 2em; }
article { margin: 0 0 1em; padding-left: 10px; border-left: 3px solid #0e5a6b; break-inside: avoid; }
article.below { border-left: 3px dashed #4a3f7a; }
.small { color: #51626b; font-size: .82em; overflow-wrap: anywhere; }
.said { white-space: pre-wrap; overflow-wrap: anywhere; }
time, code { font-family: monospace; }
</style>
</head>
<body>
<h1>{{.Case}}, {{.Title}}</h1>
<p>{{.What}}</p>
<p class="small">Taken out {{.Taken}} by {{.By}} with {{.Tool}}; local times in {{.Zone}}. What hangs below the waterline (recovered, held, earlier versions) has a dashed line at its side, and says so.</p>
{{end}}
{{define "record"}}<article{{if .Below}} class="below"{{end}}>
<div><time datetime="{{.UTC}}">{{.Local}}</time> {{.Kind}}, {{.State}}{{with .Who}} · <bdi>{{.}}</bdi>{{end}}</div>
<div class="said" dir="auto">{{.Text}}</div>
{{with .Files}}<div class="small">with {{.}}</div>
{{end}}{{with .Mark}}<div>Marked because <bdi>{{.}}</bdi></div>
{{end}}<div class="small"><code>{{.Source}}</code></div>
</article>
{{end}}`))

func newPage(w io.Writer, head Head) (writer, error) {
	p := &pageWriter{w: bufio.NewWriter(w), head: head}
	return p, pageParts.ExecuteTemplate(p.w, "head", map[string]any{"Case": head.Case, "Title": head.Title, "What": head.What, "Taken": head.At.UTC().Format("2006-01-02 15:04:05Z"), "By": head.By, "Tool": head.Tool, "Zone": head.Zone.String()})
}

func (p *pageWriter) write(l *Line) error {
	day, local, utc := "Without a time", "no time", ""
	if at := l.At(); at != nil {
		day, local, utc = at.In(p.head.Zone).Format("Monday, 2 January 2006"), at.In(p.head.Zone).Format("15:04:05 -07:00")+" ("+at.UTC().Format("15:04:05Z")+")", at.UTC().Format(time.RFC3339)
	}
	if day != p.day {
		p.day = day
		fmt.Fprintf(p.w, "<h2>%s</h2>\n", day)
	}
	files := l.Column(record.WithAttachments).Value
	if files == l.Summary() {
		files = ""
	}
	return pageParts.ExecuteTemplate(p.w, "record", map[string]any{"Below": l.State.Below(), "UTC": utc, "Local": local, "Kind": l.Kind.Title(), "State": stateOf(l), "Who": who(l), "Text": l.Summary(), "Files": files, "Mark": l.Mark, "Source": source(l)})
}

func (p *pageWriter) close() error {
	p.w.WriteString("</body>\n</html>\n")
	return p.w.Flush()
}
