package report

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
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

// Known says what a redaction of a person or a record is to look for: all names and handles of the person, or, of the record,
// its number in the report, 0 if it is not in it, and its text, which may be told elsewhere, too.
type Known struct {
	Person func(handle string) []string
	Record func(key string) (n int, text string)
}

// Redact gives a report without what its redactions name, and what was taken out. Words are found whatever their case, accents
// and width, with marks that are not seen within them; of fewer than four letters only as whole words, where a script parts words. Numbers are found
// however they are written. A digest of the bytes of a record of which something is taken out goes, too, since it would show
// what a guess has right.
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

type needle struct {
	rule   int
	folded []rune
	number bool // folded is the last digits of a number
	whole  bool // only as whole words
}

// unspaced are scripts that put no spaces between words.
var unspaced = []*unicode.RangeTable{unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul, unicode.Thai, unicode.Lao, unicode.Khmer, unicode.Myanmar, unicode.Tibetan}

// Redactor takes out of texts what redactions name.
type Redactor struct {
	needles []needle
	keys    map[string]int // the rules of records, by their keys
	records map[int]int    // and by their numbers
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
	x := &Redactor{keys: map[string]int{}, records: map[int]int{}, regions: map[string][]hidden{}}
	for i, rule := range rules {
		switch rule.Kind {
		case OfPerson:
			for _, s := range append([]string{rule.Value}, known.Person(rule.Value)...) {
				x.look(i+1, s)
			}
		case OfRecord:
			x.keys[rule.Value] = i + 1
			n, text := known.Record(rule.Value)
			if n > 0 {
				x.records[n] = i + 1
			}
			x.lookForRecord(i+1, text)
		case OfRegion:
			if g, err := ParseRegion(rule.Value); err == nil {
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

// Hides reports whether regions of the picture with a SHA-256, hex, are taken out.
func (x *Redactor) Hides(sha256 string) bool { return len(x.regions[sha256]) > 0 }

// shortestName is how many letters a word of a name has that is looked for by itself.
const shortestName = 3

// NameWords gives names with each of their words that is worth looking for by itself, sorted, each once.
func NameWords(names ...string) (out []string) {
	for _, name := range names {
		out = append(out, name)
		for w := range strings.FieldsSeq(name) {
			if !strings.ContainsFunc(w, func(r rune) bool { return r >= '0' && r <= '9' }) && utf8.RuneCountInString(w) >= shortestName {
				out = append(out, w)
			}
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool { return strings.TrimSpace(s) == "" })
}

// lastDigits is how many digits, from the end, tell a telephone number whatever stands before them.
const lastDigits = 9

func (x *Redactor) look(rule int, s string) {
	f := fold(s)
	f = trim(f)
	if len(f) == 0 {
		return
	}
	n := needle{rule: rule, whole: len(f) < 4 && !unicode.In(f[0].r, unspaced...)}
	var digits []rune
	number := true
	for _, r := range f {
		n.folded = append(n.folded, r.r)
		if r.r >= '0' && r.r <= '9' {
			digits = append(digits, r.r)
		} else if !separates(r.r) {
			number = false
		}
	}
	if x.needles = append(x.needles, n); number && len(digits) >= 6 {
		x.needles = append(x.needles, needle{rule: rule, folded: digits[max(0, len(digits)-lastDigits):], number: true})
	}
}

// lookForRecord looks for the text of a record, as it is told elsewhere.
func (x *Redactor) lookForRecord(rule int, text string) {
	if utf8.RuneCountInString(text) < 4 {
		return
	}
	x.look(rule, text)
	if q := []rune(strings.Join(strings.Fields(text), " ")); len(q) > shortest {
		x.look(rule, string(q[:shortest]))
	}
}

// shortest is how much of a long text is told where it is cited in short, at least.
const shortest = 100

// folded is a rune as it is compared, and where what it is of lies.
type folded struct {
	r        rune
	from, to int
}

var caseless = cases.Fold()

// fold gives a text as it is compared: without case, accents and what is not seen, spaces as one.
func fold(s string) (out []folded) {
	for i, r := range s {
		to := i + utf8.RuneLen(r)
		if r == utf8.RuneError {
			_, n := utf8.DecodeRuneInString(s[i:])
			to = i + n
		}
		if unicode.IsSpace(r) {
			if len(out) == 0 || out[len(out)-1].r != ' ' {
				out = append(out, folded{' ', i, to})
			}
			continue
		}
		if r < utf8.RuneSelf {
			out = append(out, folded{unicode.ToLower(r), i, to})
			continue
		}
		for _, d := range caseless.String(norm.NFKD.String(string(r))) {
			if !unicode.In(d, unicode.Mn, unicode.Cf) {
				out = append(out, folded{d, i, to})
			}
		}
	}
	return out
}

func trim(f []folded) []folded {
	for len(f) > 0 && f[0].r == ' ' {
		f = f[1:]
	}
	for len(f) > 0 && f[len(f)-1].r == ' ' {
		f = f[:len(f)-1]
	}
	return f
}

// separates is what stands between the digits of a number.
func separates(r rune) bool { return strings.ContainsRune(" -–—‑−.()/+", r) }

// found is a range of a text that a rule takes out.
type found struct{ from, to, rule int }

// find gives what is to be taken out of a text, in order and apart from each other.
func (x *Redactor) find(s string) (out []found) {
	if len(x.needles) == 0 || s == "" {
		return nil
	}
	f := fold(s)
	taken := make([]bool, len(f))
	var take func(i, k, rule int)
	take = func(i, k, rule int) { // what is not taken out already
		for i < k && taken[i] {
			i++
		}
		end := i
		for end < k && !taken[end] {
			taken[end] = true
			end++
		}
		if end == i {
			return
		}
		to := f[end-1].to
		for to < len(s) { // with the accents of its last letter
			r, n := utf8.DecodeRuneInString(s[to:])
			if !unicode.In(r, unicode.Mn, unicode.Cf) {
				break
			}
			to += n
		}
		out = append(out, found{f[i].from, to, rule})
		if end < k {
			take(end, k, rule)
		}
	}
	wordy := func(i int) bool {
		return i >= 0 && i < len(f) && (unicode.IsLetter(f[i].r) || unicode.IsDigit(f[i].r))
	}
	for _, n := range x.needles {
		if n.number {
			numbers(f, n.folded, func(i, k int) { take(i, k, n.rule) })
			continue
		}
		for i := 0; i+len(n.folded) <= len(f); i++ {
			k := i
			for k < i+len(n.folded) && f[k].r == n.folded[k-i] {
				k++
			}
			if k == i+len(n.folded) && !(n.whole && (wordy(i-1) || wordy(k))) {
				take(i, k, n.rule)
				i = k - 1
			}
		}
	}
	slices.SortFunc(out, func(a, b found) int { return a.from - b.from })
	apart, last := out[:0], 0
	for _, h := range out { // a letter that stands for two may be found twice
		if h.from = max(h.from, last); h.from < h.to {
			apart, last = append(apart, h), h.to
		}
	}
	return apart
}

// numbers finds runs of digits, with what separates them, that hold digits, and gives all of the number that they are of.
func numbers(f []folded, digits []rune, yield func(from, to int)) {
	for i := 0; i < len(f); i++ {
		if f[i].r < '0' || f[i].r > '9' {
			continue
		}
		var at []int // of the digits of this run
		end := i
		for end < len(f) && (f[end].r >= '0' && f[end].r <= '9' || separates(f[end].r)) {
			if f[end].r >= '0' && f[end].r <= '9' {
				at = append(at, end)
			}
			end++
		}
		for k := 0; k+len(digits) <= len(at); k++ {
			same := true
			for j, d := range digits {
				if same = f[at[k+j]].r == d; !same {
					break
				}
			}
			if !same {
				continue
			}
			from, to := at[k], at[k+len(digits)-1]+1
			for j := k; j > 0 && k-j < 6 && at[j]-at[j-1] <= 3; j-- { // the codes before it
				from = at[j-1]
			}
			if from > 0 && f[from-1].r == '+' {
				from--
			}
			for to < len(f) && f[to].r >= '0' && f[to].r <= '9' {
				to++
			}
			yield(from, to)
			k += len(digits) - 1
		}
		i = end
	}
}

// mark stands in the place of what a rule took out: it does not show how long that was.
func mark(rule int) string { return fmt.Sprintf("[redacted %d]", rule) }

func (x *Redactor) took(rule int, words string) {
	x.log = append(x.log, Removed{rule, x.part, x.record, words})
}

// String gives a text without what is taken out of it: in the place of that is "[redacted", the number of the rule, and "]".
func (x *Redactor) String(s string) string { return x.cut(s, func(int, string) {}) }

// string is String, with what it took out in the log.
func (x *Redactor) string(s string) string { return x.cut(s, x.took) }

func (x *Redactor) cut(s string, took func(rule int, words string)) string {
	var b strings.Builder
	last := 0
	for _, h := range x.find(s) {
		b.WriteString(s[last:h.from] + mark(h.rule))
		took(h.rule, s[h.from:h.to])
		last = h.to
	}
	return b.String() + s[last:]
}

// text redacts spans as the one text that they are: what is found may begin in one and end in another.
func (x *Redactor) text(t Text) Text {
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
	out := *p
	out.Alt, out.Caption = x.string(p.Alt), x.text(p.Caption)
	for _, g := range x.regions[p.SHA256] {
		x.took(g.rule, "a region of the picture "+p.Alt)
		out.Hidden = append(slices.Clone(out.Hidden), g.Region)
		out.Caption = append(slices.Clone(out.Caption), T(" "), Span{Words: mark(g.rule), Style: Redacted})
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
	if len(x.log) > before {
		rule := x.log[before].Redaction
		out.UID = "" // which is a digest, too
		for i, f := range out.Facts {
			out.Facts[i].Value = slices.Clone(f.Value) // what nothing was found in is the report's own
			for k, s := range f.Value {
				if s.Style == Hash {
					out.Facts[i].Value[k] = Span{Words: "withheld, since it is of bytes that hold what is redacted", Style: Redacted}
					x.took(rule, s.Words)
				}
			}
		}
	}
	for _, p := range r.Pictures { // of which no guess has all bytes right
		out.Pictures = append(out.Pictures, x.picture(p))
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
