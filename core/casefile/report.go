package casefile

import (
	"bytes"
	"fmt"
	"strings"

	"golang.org/x/net/html"
)

// report compares what the report says of records with the records themselves: their
// number, their number in each state, and of each, in order, its ID, its text and the
// digest of its bytes. The report carries these as attributes: data-figure with a name
// and its number as text, and data-record with the ID of the record that a section is of.
func (c *checker) report() {
	b, err := c.read(ReportName)
	if err != nil {
		c.fault(ReportName, "cannot be read: "+err.Error(), "", "")
		return
	}
	figures, sections := readReport(b)
	want := map[string]string{"marked": fmt.Sprint(len(c.records))}
	states := map[string]int{}
	for _, r := range c.records {
		states[r.State.Title()]++
	}
	for s, n := range states {
		want["state "+s] = fmt.Sprint(n)
	}
	for name, n := range want {
		if figures[name] != n {
			c.fault(ReportName, "its figure of records, "+name, n, figures[name])
		}
	}
	for name, n := range figures {
		if _, ok := want[name]; !ok {
			c.fault(ReportName, "its figure of records, "+name, "none", n)
		}
	}
	if len(sections) != len(c.records) {
		c.fault(ReportName, "sections of records", fmt.Sprint(len(c.records)), fmt.Sprint(len(sections)))
		return
	}
	for i, r := range c.records {
		s := sections[i]
		text := r.Summary()
		if text == "" {
			text = NoText
		}
		switch {
		case s.uid != r.UID:
			c.fault(ReportName, fmt.Sprintf("section %d is of another record", i+1), r.UID, s.uid)
		case words(s.quote) != words(text):
			c.fault(ReportName, "the text of record "+r.UID, text, s.quote)
		case !strings.Contains(strings.Join(strings.Fields(s.all), ""), r.Origin().Digest):
			c.fault(ReportName, "does not give the SHA-256 of the bytes of record "+r.UID, r.Origin().Digest, "")
		}
	}
}

// NoText stands in a report where no text of a record survives.
const NoText = "no text survives"

func words(s string) string { return strings.Join(strings.Fields(s), " ") }

type section struct{ uid, quote, all string }

// readReport reads the figures and the sections of records of a report.
func readReport(b []byte) (figures map[string]string, sections []section) {
	figures = map[string]string{}
	z := html.NewTokenizer(bytes.NewReader(b))
	figure, depth, quoted := "", 0, false
	for {
		switch z.Next() {
		case html.ErrorToken:
			return figures, sections
		case html.StartTagToken:
			t := z.Token()
			figure = attribute(t, "data-figure")
			if uid := attribute(t, "data-record"); t.Data == "section" && uid != "" {
				sections, depth = append(sections, section{uid: uid}), 1
			} else if t.Data == "section" && depth > 0 {
				depth++
			}
			quoted = quoted || t.Data == "blockquote" && depth > 0
		case html.EndTagToken:
			t := z.Token()
			if t.Data == "section" && depth > 0 {
				depth--
			}
			quoted = quoted && t.Data != "blockquote"
			figure = ""
		case html.TextToken:
			text := string(z.Text())
			if figure != "" {
				figures[figure] += strings.TrimSpace(text)
			}
			if depth > 0 {
				s := &sections[len(sections)-1]
				s.all += text
				if quoted {
					s.quote += text
				}
			}
		}
	}
}

func attribute(t html.Token, name string) string {
	for _, a := range t.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}
