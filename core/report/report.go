// Package report is the model of a report: what it says, in parts and blocks that know nothing of how they are set, and what
// an examiner wrote and arranged of it. Writers set it as a page, or for print.
package report

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
)

// Report is a report as it is to be set.
type Report struct {
	Kind  string // what it is, above the title
	Title string
	About Text // by whom and with what it was written
	Parts []Part
}

// Part is a part of a report, numbered in the order that it stands in.
type Part struct {
	Name   string // names it in links
	Title  string
	Blocks []Block
}

// Block is a paragraph, a heading, a list of facts, a table, a record, a picture, or what somebody wrote.
type Block interface{ block() }

// Paragraph is a paragraph of the report's own words.
type Paragraph struct{ Text Text }

// Heading is a heading within a part.
type Heading struct{ Text Text }

// Written is what an examiner wrote, as it was written: its paragraphs lie apart by empty lines.
type Written struct{ Body string }

// Facts is a list of named facts.
type Facts []Fact

// Fact is a named fact.
type Fact struct {
	Name  string
	Value Text
	Bad   bool // it says that something has failed
}

// Table is a table.
type Table struct {
	Head []string
	Rows [][]Text
}

// Citation is where a finding rests on a record, or would: Fault says why it does not any more.
type Citation struct {
	N     int // the record's number in the report, 0 if it is not in it
	Words Text
	Fault string
}

// Citations lists what a finding rests on.
type Citations []Citation

// Record is a record of the report, under its number.
type Record struct {
	N     int
	UID   string
	Below bool // it is not live
	Title Text
	Quote string // its text
	Facts Facts
	// Pictures are those that are attached to it.
	Pictures []*Picture
}

// Timeline is how many records lie where in a span of time: live ones above the line, others below it.
type Timeline struct {
	From, To time.Time
	Above    []int // by equal parts of the span
	Below    []int // as many
	Ticks    []Tick
}

// Tick is an instant that is named below a timeline, in both zones.
type Tick struct {
	At        float64 // from 0 to 1 of the span
	Zone, UTC string
}

// NewTimeline counts instants, in so many parts of the span from the first of them to the last; below says of each whether it
// lies below the line. Without instants there is none.
func NewTimeline(c Clock, parts, ticks int, at []time.Time, below []bool) *Timeline {
	if len(at) == 0 {
		return nil
	}
	t := &Timeline{From: slices.MinFunc(at, time.Time.Compare), To: slices.MaxFunc(at, time.Time.Compare), Above: make([]int, parts), Below: make([]int, parts)}
	span := seconds(t.To) - seconds(t.From)
	for i, x := range at {
		k := 0
		if span > 0 {
			k = min(parts-1, int(float64(parts)*(seconds(x)-seconds(t.From))/span))
		}
		if below[i] {
			t.Below[k]++
		} else {
			t.Above[k]++
		}
	}
	for i := range ticks {
		share := float64(i) / float64(ticks-1)
		if span == 0 && i > 0 {
			break
		}
		x := time.Unix(int64(seconds(t.From)+share*span), 0)
		t.Ticks = append(t.Ticks, Tick{share, x.In(c.Zone).Format("2 Jan 2006 15:04"), x.UTC().Format("2006-01-02 15:04Z")})
	}
	return t
}

// Map is where records say that something was.
type Map struct{ Places []Place }

// Place is a place of a map, with the number of the record that says it.
type Place struct {
	Record              int
	Latitude, Longitude float64 // degrees of WGS 84
	Accuracy            float64 // metres, 0 if none is said
	Below               bool    // the record is not live
}

// Coordinates writes latitude and longitude.
func (p Place) Coordinates() string { return fmt.Sprintf("%.6f, %.6f", p.Latitude, p.Longitude) }

// seconds are those of Unix time, as a number that no span overflows.
func seconds(t time.Time) float64 { return float64(t.Unix()) + float64(t.Nanosecond())/1e9 }

// Picture is a picture with what stands below it. What shows it is filled in before it is set: it is no part of what a report
// says.
type Picture struct {
	SHA256  string // of the file that it is of, hex, "" if that is redacted
	Alt     string // what it is of, for who does not see it
	Caption Text
	Source  string `json:"-"` // where whoever fills it in finds the file
	Address string `json:"-"` // where a page of the application has it, "" if it is set with its bytes
	Bytes   []byte `json:"-"` // PNG or JPEG, that somebody has decoded and encoded anew
	Type    string `json:"-"` // their media type
	Fault   string `json:"-"` // why it cannot be shown, "" if it can
	// Hidden are the regions that are painted over before it is set; they name no file.
	Hidden []Region `json:",omitempty"`
}

// Pictures yields the pictures of r, in order.
func (r *Report) Pictures() iter.Seq[*Picture] {
	return func(yield func(*Picture) bool) {
		for _, p := range r.Parts {
			for _, b := range p.Blocks {
				all := []*Picture{}
				switch b := b.(type) {
				case *Picture:
					all = append(all, b)
				case *Record:
					all = b.Pictures
				}
				for _, x := range all {
					if !yield(x) {
						return
					}
				}
			}
		}
	}
}

// Signature is the place where somebody signs.
type Signature struct{ Name, Place string }

func (Paragraph) block() {}
func (Heading) block()   {}
func (Written) block()   {}
func (Facts) block()     {}
func (Table) block()     {}
func (Citations) block() {}
func (*Record) block()   {}
func (*Picture) block()  {}
func (*Timeline) block() {}
func (*Map) block()      {}
func (Signature) block() {}

// Style is how a span is set.
type Style string

// The styles.
const (
	Plain  Style = ""
	Mono   Style = "mono"   // numbers, paths and times
	When   Style = "when"   // a time, or a short number, in one line
	Hash   Style = "hash"   // a digest, in groups of eight
	Size   Style = "size"   // how many bytes something has
	Quiet  Style = "quiet"  // what is beside the point
	Failed Style = "failed" // what is not as it should be
	Break  Style = "break"  // a new line; it has no words
)

// Span is words in one style.
type Span struct {
	Words  string
	Style  Style
	Link   string // the address that it leads to, "" if to nothing; it is not printed
	Figure string // the name of a figure that a reader's program compares with the records, "" if it is none
	Bidi   bool   // its direction is its own: words from evidence
}

// Text is spans one after another.
type Text []Span

// String gives the words alone.
func (t Text) String() string {
	var b strings.Builder
	for _, s := range t {
		if b.WriteString(s.Words); s.Style == Break {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// T is words of the report's own.
func T(words string) Span { return Span{Words: words} }

// M is words that are set as numbers are.
func M(words string) Span { return Span{Words: words, Style: Mono} }

// E is words from evidence, or that somebody else wrote: their direction is their own.
func E(words string) Span { return Span{Words: words, Bidi: true} }

// B is how many bytes something has, as it is written.
func B(n string) Span { return Span{Words: n + " bytes", Style: Size} }

// H is a digest, hex.
func H(digest string) Span { return Span{Words: digest, Style: Hash} }

// Br is a new line.
var Br = Span{Style: Break}

// Clock writes instants in a zone and in UTC: a report gives no time in one zone alone.
type Clock struct{ Zone *time.Location }

const (
	zoned = "2 Jan 2006 15:04:05 -07:00"
	inUTC = "2006-01-02 15:04:05Z"
)

// At writes an instant in both zones.
func (c Clock) At(t time.Time) Span {
	return M(t.In(c.Zone).Format(zoned) + " = " + t.UTC().Format(inUTC))
}

// Stacked writes an instant in both zones one below the other, for columns.
func (c Clock) Stacked(t time.Time) Text {
	return Text{{Words: t.In(c.Zone).Format(zoned), Style: When}, Br, {Words: t.UTC().Format(inUTC), Style: When}}
}

// Since writes an instant that may be missing, "not noted" if it is.
func (c Clock) Since(t *time.Time) Span {
	if t == nil {
		return T("not noted")
	}
	return c.At(*t)
}

// Groups is a digest in groups of eight digits.
func (s Span) Groups() []string {
	var out []string
	rest := s.Words
	for len(rest) > 8 {
		out, rest = append(out, rest[:8]), rest[8:]
	}
	return append(out, rest)
}
