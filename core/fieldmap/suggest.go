package fieldmap

import (
	"fmt"
	"math"
	"strings"
	"time"
	"unicode"

	"crosswind/core/people"
	"crosswind/core/sqlitefile"
)

// Meaning is what a column can be of a record.
type Meaning string

// The meanings that are suggested.
const (
	MeansTime      Meaning = "time"
	MeansHandle    Meaning = "handle"
	MeansDirection Meaning = "direction"
	MeansText      Meaning = "text"
	MeansLatitude  Meaning = "latitude"
	MeansLongitude Meaning = "longitude"
)

// Suggestion is what a column seems to be, and why.
type Suggestion struct {
	Column string
	Meaning
	Epoch  string // of a time
	Reason string
}

// Columns learns what the values of a table's columns look like. It keeps none of them.
type Columns struct {
	table   *sqlitefile.Table
	enc     sqlitefile.Encoding
	country string
	from    time.Time
	to      time.Time
	epochs  []Epoch
	of      []seen
}

// seen is what the values of a column look like.
type seen struct {
	values  int // that are not NULL
	epochs  []int
	numbers int
	texts   int
	handles int // texts that are telephone numbers or addresses
	words   int // texts of several words
	length  int // of all texts, in characters
	flags   [2]int
	parts   int     // reals that are not whole
	most    float64 // the largest number, whatever its sign
}

// NewColumns begins. A number counts as a time by an epoch if it then lies between from and to; numbers without a
// country's code are read as those of country.
func NewColumns(t *sqlitefile.Table, enc sqlitefile.Encoding, country string, from, to time.Time) *Columns {
	c := &Columns{table: t, enc: enc, country: country, from: from, to: to, epochs: Epochs(), of: make([]seen, len(t.Columns))}
	for i := range c.of {
		c.of[i].epochs = make([]int, len(c.epochs))
	}
	return c
}

// See takes in the values of a row.
func (c *Columns) See(values []sqlitefile.Value) {
	for i, v := range values[:min(len(values), len(c.of))] {
		s := &c.of[i]
		if v.Class() == sqlitefile.Null || v.Class() == sqlitefile.Blob {
			continue
		}
		s.values++
		for k, e := range c.epochs {
			if at, ok := e.Time(v, c.enc); ok && !at.Before(c.from) && !at.After(c.to) {
				s.epochs[k]++
			}
		}
		switch v.Class() {
		case sqlitefile.Integer, sqlitefile.Real:
			n := v.Float()
			s.numbers++
			if s.most = max(s.most, math.Abs(n)); n == 0 || n == 1 {
				s.flags[int(n)]++
			}
			if n != math.Trunc(n) {
				s.parts++
			}
		case sqlitefile.Text:
			text := v.String(c.enc)
			s.texts++
			s.length += len([]rune(text))
			if reaches(people.Normal(text, c.country)) {
				s.handles++
			}
			if strings.ContainsFunc(strings.TrimSpace(text), unicode.IsSpace) {
				s.words++
			}
		}
	}
}

// reaches reports whether a normal form is a telephone number as long as a subscriber's, or an address.
func reaches(normal string) bool {
	const shortest = 7
	switch people.Scheme(normal) {
	case people.Mail:
		return !strings.ContainsFunc(normal, unicode.IsSpace)
	case people.Telephone:
		return len(normal) >= shortest
	}
	return false
}

// most of something is this part of it, or more.
const mostOf = 0.9

// Suggest says what the columns seem to be. The time of the timeline, the text and the other side are told for one
// column each: the one that speaks most for it.
func (c *Columns) Suggest() (out []Suggestion) {
	share := func(n, of int) float64 { return float64(n) / float64(max(of, 1)) }
	percent := func(n, of int) string { return fmt.Sprintf("%.0f%%", 100*share(n, of)) }
	text, longest := -1, 0.0
	handle, most := -1, 0
	for i := range c.of {
		s := &c.of[i]
		name := strings.ToLower(c.table.Columns[i].Name)
		if s.values == 0 || i == c.table.RowIDColumn {
			continue
		}
		best := 0
		for k := range c.epochs {
			if s.epochs[k] > s.epochs[best] {
				best = k
			}
		}
		switch {
		case share(s.epochs[best], s.values) >= mostOf:
			out = append(out, Suggestion{c.table.Columns[i].Name, MeansTime, c.epochs[best].Name(),
				fmt.Sprintf("%s of its %d values lie between %s and %s if they are %s", percent(s.epochs[best], s.values), s.values, c.from.Format("2 Jan 2006"), c.to.Format("2 Jan 2006"), c.epochs[best].Name())})
		case s.parts*2 > s.values && s.most <= 180 && strings.Contains(name, "lat"):
			out = append(out, Suggestion{c.table.Columns[i].Name, MeansLatitude, "", "numbers with fractions up to 90, and its name says so"})
		case s.parts*2 > s.values && s.most <= 180 && (strings.Contains(name, "lon") || strings.Contains(name, "lng")):
			out = append(out, Suggestion{c.table.Columns[i].Name, MeansLongitude, "", "numbers with fractions up to 180, and its name says so"})
		case s.flags[0] > 0 && s.flags[1] > 0 && s.flags[0]+s.flags[1] == s.values:
			out = append(out, Suggestion{c.table.Columns[i].Name, MeansDirection, "", fmt.Sprintf("it is 0 in %d rows and 1 in %d, as a direction or another flag is", s.flags[0], s.flags[1])})
		case share(s.handles, s.values) >= mostOf:
			if s.handles > most {
				handle, most = i, s.handles
			}
		case s.texts*2 > s.values && share(s.words, s.texts) > 0.3:
			if l := float64(s.length) / float64(s.texts); l > longest {
				text, longest = i, l
			}
		}
	}
	if handle >= 0 {
		s := &c.of[handle]
		out = append(out, Suggestion{c.table.Columns[handle].Name, MeansHandle, "", percent(s.handles, s.values) + " of its values are telephone numbers or addresses"})
	}
	if text >= 0 {
		s := &c.of[text]
		out = append(out, Suggestion{c.table.Columns[text].Name, MeansText, "", fmt.Sprintf("texts of %.0f characters on average, %s of them of several words: the longest of this table", longest, percent(s.words, s.texts))})
	}
	return out
}
