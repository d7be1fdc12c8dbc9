package export

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"crosswind/core/casefile"
	"crosswind/core/record"
	"crosswind/core/report"
)

// ErrPaper is of records that are not set for print: there is no typesetter, or there are more than [MostPaper].
var ErrPaper = errors.New("export: records are not set for print")

// MostPaper is how many records are set for print at once.
const MostPaper = 10_000

// paper sets records for print, day by day.
type paper struct {
	to   io.Writer
	head Head
	out  *report.Report
	n    int
}

func newPaper(w io.Writer, head Head) (writer, error) {
	if head.Set == nil {
		return nil, fmt.Errorf("%w: no typesetter is set up", ErrPaper)
	}
	return &paper{w, head, &report.Report{Kind: "Records taken out", Title: head.Case + ": " + head.Title,
		About: report.Text{report.E(head.What), report.Br, report.T("Taken out "), report.Clock{Zone: head.Zone}.At(head.At), report.T(fmt.Sprintf(" by %s with %s. Times are given in %s, with their offset, and in UTC.", head.By, head.Tool, head.Zone))}}, 0}, nil
}

func (p *paper) write(l *Line) error {
	if p.n++; p.n > MostPaper {
		return fmt.Errorf("%w: these are more than %d; narrow what is filtered", ErrPaper, MostPaper)
	}
	clock := report.Clock{Zone: p.head.Zone}
	day, when := "Without a time", report.Text{report.T("none is stored, or it did not survive")}
	if at := l.At(); at != nil {
		day, when = at.In(p.head.Zone).Format("Monday, 2 January 2006"), report.Text{clock.At(*at)}
	}
	if n := len(p.out.Parts); n == 0 || !strings.HasSuffix(p.out.Parts[n-1].Title, day) {
		p.out.Parts = append(p.out.Parts, report.Part{Title: day})
	}
	x := &report.Record{N: p.n, Below: l.State.Below(), Quote: l.Summary(), Title: report.Text{report.T(l.Kind.Title() + ", " + stateOf(l))}, Facts: report.Facts{{Name: "Time", Value: when}}}
	if who := who(l); who != "" {
		x.Facts = append(x.Facts, report.Fact{Name: l.Kind.About().Party, Value: report.Text{report.E(who)}})
	}
	if x.Quote == "" {
		x.Quote = casefile.NoText
	}
	for _, name := range []string{record.InConversation, record.WithAttachments} {
		if v := l.Column(name).Value; v != "" && v != x.Quote {
			x.Facts = append(x.Facts, report.Fact{Name: name, Value: report.Text{report.E(v)}})
		}
	}
	if l.Mark != "" {
		x.Facts = append(x.Facts, report.Fact{Name: "Marked because", Value: report.Text{report.E(l.Mark)}})
	}
	o := l.Origin()
	origin := report.Text{report.M(fmt.Sprintf("%s acquisition %d, %s, at %d", l.Exhibit, l.Acquisition, o.Path, o.Offset))}
	if o.Digest != "" { // else it is redacted
		origin = append(origin, report.M(fmt.Sprintf(", %d bytes; SHA-256 ", o.Length)), report.H(o.Digest))
	}
	x.Facts = append(x.Facts, report.Fact{Name: "Origin", Value: origin})
	part := &p.out.Parts[len(p.out.Parts)-1]
	part.Blocks = append(part.Blocks, x)
	return nil
}

func (p *paper) close() error {
	if p.n == 0 {
		return nil
	}
	return p.head.Set(p.to, p.out)
}
