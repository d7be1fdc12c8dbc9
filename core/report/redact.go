package report

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Redaction is what is taken out of a redacted version, and why.
type Redaction struct {
	Kind   string `json:"kind"`  // one of RedactionKinds
	Value  string `json:"value"` // the words, a handle of the person, the Key of the record, or a Region as it is written
	Reason string `json:"reason"`
}

// The kinds of what is redacted.
const (
	OfWords  = "words"
	OfPerson = "person"
	OfRecord = "record"
	OfRegion = "region" // of a picture
)

// RedactionKinds are the kinds of what is redacted.
var RedactionKinds = []string{OfWords, OfPerson, OfRecord, OfRegion}

// Region is a rectangle of a picture, in percent of its width and height from its left upper corner.
type Region struct {
	SHA256              string // of the file, hex
	X, Y, Width, Height float64
}

// String writes a region as it is kept.
func (g Region) String() string {
	return fmt.Sprintf("%s %g %g %g %g", g.SHA256, g.X, g.Y, g.Width, g.Height)
}

// ErrRegion is of what is no region of a picture.
var ErrRegion = errors.New("it is no region of a picture")

// ParseRegion reads a region as it is kept.
func ParseRegion(s string) (g Region, err error) {
	n, err := fmt.Sscanf(s, "%s %g %g %g %g", &g.SHA256, &g.X, &g.Y, &g.Width, &g.Height)
	within := func(from, size float64) bool { return from >= 0 && size > 0 && from+size <= 100.001 }
	if n != 5 || err != nil || len(g.SHA256) != 64 || !within(g.X, g.Width) || !within(g.Y, g.Height) {
		return g, fmt.Errorf("%w: %.100q", ErrRegion, s)
	}
	return g, nil
}

// MostRedactions bounds the redactions of a report.
const MostRedactions = 500

// FullVersion ends the kind of a report of which there is a redacted version.
const FullVersion = ": full version"

// Redacted is the style of what stands in the place of what was redacted.
const Redacted Style = "redacted"

// Removed is something that a redaction took out: the log of these is kept apart, since it holds what was taken out.
type Removed struct {
	Redaction int    // number, from 1
	Part      string // title of the part that it stood in
	Record    int    // number of the record that it stood in, 0 outside of records
	Words     string
}

// Known says what a redaction of a person or a record is to look for: all names and handles of the person, or the record.
type Known struct {
	Person func(handle string) []string
	Record func(key string) KnownRecord
}

// KnownRecord is what is known of a record that is redacted. What it says and shows may stand elsewhere, too.
type KnownRecord struct {
	N     int      // its number in the report, 0 if it is not in it
	Text  string   // its text
	Files []string // SHA-256 of the files that are attached to it, hex
}

// Redact gives a report without what its redactions name, and what was taken out. Words are found whatever their case, accents
// and width, with marks that are not seen within them; of fewer than four letters only as whole words, where a script parts words. Numbers are found
// however they are written. Of a record of which something is taken out, be it a region of a picture, the digests and the lengths
// of its bytes and its files go, too, since they would show what a guess has right; the digest of such a picture goes from wherever
// it stands. So does whatever picture has the bytes of one that a redacted record has.
func Redact(r *Report, rules []Redaction, known Known) (*Report, []Removed) {
	x := NewRedactor(rules, known)
	out := &Report{Kind: strings.TrimSuffix(r.Kind, FullVersion) + ": redacted version", Title: x.string(r.Title), About: x.text(r.About)}
	for _, p := range r.Parts {
		x.part = p.Title
		q := Part{Name: p.Name, Title: p.Title}
		for _, b := range p.Blocks {
			q.Blocks = append(q.Blocks, x.block(b))
		}
		out.Parts = append(out.Parts, q)
	}
	out.Parts = append(out.Parts, x.told(rules))
	return out, x.log
}

// Redactor takes out of texts what redactions name.
type Redactor struct {
	needles []needle
	keys    map[string]int // the rules of records, by their keys
	records map[int]int    // and by their numbers
	files   map[string]int // the rules of records whose files they are, by their SHA-256, hex
	regions map[string][]hidden
	part    string
	record  int
	log     []Removed
}

// hidden is a region and its rule.
type hidden struct {
	Region
	rule int
}

// NewRedactor gives what takes out what rules name: see [Redact].
func NewRedactor(rules []Redaction, known Known) *Redactor {
	x := &Redactor{keys: map[string]int{}, records: map[int]int{}, files: map[string]int{}, regions: map[string][]hidden{}}
	for i, rule := range rules {
		switch rule.Kind {
		case OfPerson:
			for _, s := range append([]string{rule.Value}, known.Person(rule.Value)...) {
				x.look(i+1, s)
			}
		case OfRecord:
			x.keys[rule.Value] = i + 1
			k := known.Record(rule.Value)
			if k.N > 0 {
				x.records[k.N] = i + 1
			}
			x.lookForRecord(i+1, k.Text)
			for _, sum := range k.Files {
				x.files[sum] = i + 1
				x.look(i+1, sum)
			}
		case OfRegion:
			if g, err := ParseRegion(rule.Value); err == nil {
				x.look(i+1, g.SHA256)
				x.regions[g.SHA256] = append(x.regions[g.SHA256], hidden{g, i + 1})
			}
		default:
			x.look(i+1, rule.Value)
		}
	}
	slices.SortStableFunc(x.needles, func(a, b needle) int { return len(b.folded) - len(a.folded) }) // what is longer goes first
	return x
}

// Record is the rule, from 1, by which the record of a key is taken out as a whole, 0 if none is.
func (x *Redactor) Record(key string) int { return x.keys[key] }

// Hides gives the rule by which the file with a SHA-256, hex, is taken out with its record, or a region of it is, 0 if none is.
func (x *Redactor) Hides(sha256 string) int {
	if regions := x.regions[sha256]; x.files[sha256] == 0 && len(regions) > 0 {
		return regions[0].rule
	}
	return x.files[sha256]
}

// mark stands in the place of what a rule took out: it does not show how long that was.
func mark(rule int) string { return fmt.Sprintf("[redacted %d]", rule) }

func (x *Redactor) took(rule int, words string) {
	x.log = append(x.log, Removed{rule, x.part, x.record, words})
}

// withhold gives a text without the spans that rule gives a rule for.
func (x *Redactor) withhold(t Text, rule func(Span) int) Text {
	out := t // which is the report's own
	for i, s := range t {
		n := rule(s)
		if n == 0 {
			continue
		}
		if &out[0] == &t[0] {
			out = slices.Clone(t)
		}
		words := "withheld, since it is of bytes that hold what is redacted"
		if s.Style == Size {
			words = "length withheld"
		}
		out[i] = Span{Words: words, Style: Redacted}
		x.took(n, s.Words)
	}
	return out
}

// measured gives the rule for what would show what a guess of redacted bytes has right.
func measured(rule int) func(Span) int {
	return func(s Span) int {
		if s.Style == Hash || s.Style == Size {
			return rule
		}
		return 0
	}
}

// text redacts spans as the one text that they are: what is found may begin in one and end in another.
func (x *Redactor) text(t Text) Text {
	t = x.withhold(t, func(s Span) int {
		if s.Style == Hash {
			return x.Hides(strings.ToLower(s.Words))
		}
		return 0
	})
	var all strings.Builder
	for _, s := range t {
		switch s.Style {
		case Break:
			all.WriteByte('\n')
		case Hash: // what is like words in a digest is not
			all.WriteString(strings.Repeat("\x00", len(s.Words)))
		default:
			all.WriteString(s.Words)
		}
	}
	whole := all.String()
	hits := x.find(whole)
	if len(hits) == 0 {
		return t
	}
	var out Text
	at := 0
	for _, s := range t {
		n := len(s.Words)
		if s.Style == Break {
			n = 1
		}
		last := at
		for _, h := range hits {
			if h.to <= at || h.from >= at+n {
				continue
			}
			if h.from > last && s.Style != Break {
				out = append(out, s.part(last-at, h.from-at))
			}
			if h.from >= at {
				out = append(out, Span{Words: mark(h.rule), Style: Redacted})
				x.took(h.rule, whole[h.from:h.to])
			}
			last = min(h.to, at+n)
		}
		switch {
		case s.Style == Break && last == at:
			out = append(out, s)
		case s.Style != Break && last < at+n:
			out = append(out, s.part(last-at, n))
		}
		at += n
	}
	return out
}

// part is a span with a part of its words.
func (s Span) part(from, to int) Span {
	s.Words = s.Words[from:to]
	return s
}

func (x *Redactor) facts(fs Facts) (out Facts) {
	for _, f := range fs {
		out = append(out, Fact{x.string(f.Name), x.text(f.Value), f.Bad})
	}
	return out
}

// gone is a text of a record that is taken out as a whole.
func (x *Redactor) gone(rule int, words string) Text {
	x.took(rule, words)
	return Text{{Words: mark(rule), Style: Redacted}}
}

func (x *Redactor) block(b Block) Block {
	switch b := b.(type) {
	case Paragraph:
		return Paragraph{x.text(b.Text)}
	case Heading:
		return Heading{x.text(b.Text)}
	case Written:
		return Written{x.string(b.Body)}
	case Facts:
		return x.facts(b)
	case Table:
		out := Table{Head: b.Head}
		for _, row := range b.Rows {
			out.Rows = append(out.Rows, x.row(row))
		}
		return out
	case Citations:
		out := make(Citations, len(b))
		for i, c := range b {
			if rule := x.records[c.N]; rule > 0 {
				c.Words = x.gone(rule, c.Words.String())
			}
			out[i] = Citation{c.N, x.text(c.Words), x.string(c.Fault)}
		}
		return out
	case *Record:
		return x.recordOf(b)
	case *Picture:
		return x.picture(b)
	case *Timeline:
		return b // numbers alone
	case *Map:
		out := &Map{}
		for _, p := range b.Places {
			rule := x.records[p.Record]
			if hits := x.find(p.Coordinates()); len(hits) > 0 {
				rule = hits[0].rule
			}
			if rule > 0 {
				x.took(rule, fmt.Sprintf("the place of record %d", p.Record))
				continue
			}
			out.Places = append(out.Places, p)
		}
		return out
	case Signature:
		return Signature{x.string(b.Name), x.string(b.Place)}
	}
	panic(fmt.Sprintf("report: no way to redact a %T", b)) // a block that was not thought of gives out nothing
}

// row redacts a row of a table: of a record that is taken out only its number stays.
func (x *Redactor) row(row []Text) (out []Text) {
	rule := 0
	for _, cell := range row {
		for _, s := range cell {
			for n, r := range x.records {
				if s.Link == recordLink(n) {
					rule = r
				}
			}
		}
	}
	for i, cell := range row {
		if rule > 0 && i > 0 {
			out = append(out, x.gone(rule, cell.String()))
			continue
		}
		out = append(out, x.text(cell))
	}
	return out
}

// recordLink leads to a record of the report.
func recordLink(n int) string { return fmt.Sprintf("#record-%d", n) }

func (x *Redactor) picture(p *Picture) *Picture {
	if rule := x.files[p.SHA256]; rule > 0 {
		x.took(rule, "the picture "+p.Alt)
		return &Picture{Alt: mark(rule), Caption: Text{{Words: mark(rule), Style: Redacted}}, Fault: "it is redacted"}
	}
	out := *p
	out.Alt, out.Caption = x.string(p.Alt), x.text(p.Caption)
	for _, g := range x.regions[p.SHA256] {
		x.took(g.rule, "a region of the picture "+p.Alt)
		g.SHA256 = ""
		out.Hidden = append(slices.Clone(out.Hidden), g.Region)
		out.Caption = append(slices.Clone(out.Caption), T(" "), Span{Words: mark(g.rule), Style: Redacted})
	}
	if rule := x.Hides(p.SHA256); rule > 0 {
		out.SHA256, out.Caption = "", x.withhold(out.Caption, measured(rule))
	}
	return &out
}

func (x *Redactor) recordOf(r *Record) *Record {
	x.record = r.N
	defer func() { x.record = 0 }()
	out := &Record{N: r.N, UID: r.UID, Below: r.Below}
	if rule := x.records[r.N]; rule > 0 {
		x.took(rule, r.Title.String()+": "+r.Quote)
		out.Title, out.Quote = Text{{Words: "Record"}}, mark(rule)
		out.Facts = Facts{{Name: "Redacted", Value: Text{T("the whole record, for reason "), T(fmt.Sprint(rule))}}}
		out.UID = ""
		return out
	}
	before := len(x.log)
	out.Title, out.Quote, out.Facts = x.text(r.Title), x.string(r.Quote), x.facts(r.Facts)
	for _, p := range r.Pictures {
		out.Pictures = append(out.Pictures, x.picture(p))
	}
	if len(x.log) == before {
		return out
	}
	measured := measured(x.log[before].Redaction)
	out.UID = "" // which is a digest, too
	for i, f := range out.Facts {
		out.Facts[i].Value = x.withhold(f.Value, measured)
	}
	for _, p := range out.Pictures {
		p.SHA256, p.Caption = "", x.withhold(p.Caption, measured)
	}
	return out
}

// told says what was redacted and why, without saying it.
func (x *Redactor) told(rules []Redaction) Part {
	t := Table{Head: []string{"No.", "What", "Reason", "Places"}}
	for i, r := range rules {
		n := 0
		for _, l := range x.log {
			if l.Redaction == i+1 {
				n++
			}
		}
		x.part = "Redactions"
		t.Rows = append(t.Rows, []Text{{T(fmt.Sprint(i + 1))}, {T(r.Kind)}, x.text(Text{T(r.Reason)}), {T(fmt.Sprint(n))}})
	}
	places := "in 1 place"
	if len(x.log) != 1 {
		places = fmt.Sprintf("in %d places", len(x.log))
	}
	return Part{Name: "redactions", Title: "Redactions", Blocks: []Block{
		Paragraph{Text{T("This is a redacted version. What was taken out, " + places + ", is marked by the number of its reason; the full version has it. The mark does not show how long it was.")}}, t}}
}
