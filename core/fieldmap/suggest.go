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
	MeansReference Meaning = "reference" // to the rows of another table
)

// Suggestion is what a column seems to be, and why.
type Suggestion struct {
	Column string
	Meaning
	Epoch  string // of a time
	To     *Key   // of a reference
	Reason string
}

// Key is a column of another table, by whose values rows are referred to. Value is the column that says what such a row is,
// "" if none does.
type Key struct {
	Table, Column, Value string
	of                   int // the column
	has                  map[string]bool
}

// KeyOf gives the column of a table by which others refer to its rows: the one that stands for the row id, else the first.
// ok is false of a table that has nothing beside it, and of the format's own tables.
func KeyOf(t *sqlitefile.Table) (k *Key, ok bool) {
	of := max(t.RowIDColumn, 0)
	if len(t.Columns) < 2 || strings.HasPrefix(t.Name, "sqlite_") {
		return nil, false
	}
	k = &Key{Table: t.Name, Column: t.Columns[of].Name, of: of, has: map[string]bool{}}
	for i, c := range t.Columns {
		if typ := strings.ToUpper(c.Type); i != of && k.Value == "" && (strings.Contains(typ, "CHAR") || strings.Contains(typ, "TEXT")) {
			k.Value = c.Name
		}
	}
	return k, true
}

// mostKeys bounds the values of a key that are held; of one that has more nothing is suggested.
const mostKeys = 100_000

// See takes in the values of a row of the key's table.
func (k *Key) See(values []sqlitefile.Value, enc sqlitefile.Encoding) {
	if k.of < len(values) && len(k.has) <= mostKeys {
		if s, ok := Text(values[k.of], enc); ok {
			k.has[s] = true
		}
	}
}

// found reports whether a value is one of the key's.
func (k *Key) found(v sqlitefile.Value, enc sqlitefile.Encoding) bool {
	s, ok := Text(v, enc)
	return ok && len(k.has) <= mostKeys && k.has[s]
}

// named reports whether a column is called after the table that it may refer to.
func (k *Key) named(column string) bool {
	stem := func(s string) string { return strings.TrimSuffix(strings.ToLower(s), "s") }
	c, t := strings.ToLower(column), stem(k.Table)
	for _, end := range []string{"_id", "id", "_key", "key", "_ref", "ref"} {
		if short := strings.TrimSuffix(c, end); short != c && short != "" {
			c = short
			break
		}
	}
	c = stem(c)
	return c == t || len(c) >= 3 && strings.HasSuffix(t, c) || len(t) >= 3 && strings.HasSuffix(c, t)
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
	keys    []*Key
}

// Refer names keys of other tables, all of whose values have been seen, to which columns may refer. It comes before See.
func (c *Columns) Refer(keys []*Key) {
	c.keys = keys
	for i := range c.of {
		c.of[i].refers = make([]int, len(keys))
	}
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
	refers  []int   // values that are those of a key
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
		for k, key := range c.keys {
			if key.named(c.table.Columns[i].Name) && key.found(v, c.enc) {
				s.refers[k]++
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
		to := 0
		for k := range s.refers {
			if s.refers[k] > s.refers[to] {
				to = k
			}
		}
		switch {
		case len(s.refers) > 0 && share(s.refers[to], s.values) >= mostOf:
			k := c.keys[to]
			out = append(out, Suggestion{Column: c.table.Columns[i].Name, Meaning: MeansReference, To: k,
				Reason: fmt.Sprintf("%s of its %d values are those of %s in %s, and its name says so", percent(s.refers[to], s.values), s.values, k.Column, k.Table)})
		case share(s.epochs[best], s.values) >= mostOf:
			out = append(out, Suggestion{Column: c.table.Columns[i].Name, Meaning: MeansTime, Epoch: c.epochs[best].Name(),
				Reason: fmt.Sprintf("%s of its %d values lie between %s and %s if they are %s", percent(s.epochs[best], s.values), s.values, c.from.Format("2 Jan 2006"), c.to.Format("2 Jan 2006"), c.epochs[best].Name())})
		case s.parts*2 > s.values && s.most <= 180 && strings.Contains(name, "lat"):
			out = append(out, Suggestion{Column: c.table.Columns[i].Name, Meaning: MeansLatitude, Reason: "numbers with fractions up to 90, and its name says so"})
		case s.parts*2 > s.values && s.most <= 180 && (strings.Contains(name, "lon") || strings.Contains(name, "lng")):
			out = append(out, Suggestion{Column: c.table.Columns[i].Name, Meaning: MeansLongitude, Reason: "numbers with fractions up to 180, and its name says so"})
		case s.flags[0] > 0 && s.flags[1] > 0 && s.flags[0]+s.flags[1] == s.values:
			out = append(out, Suggestion{Column: c.table.Columns[i].Name, Meaning: MeansDirection, Reason: fmt.Sprintf("it is 0 in %d rows and 1 in %d, as a direction or another flag is", s.flags[0], s.flags[1])})
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
		out = append(out, Suggestion{Column: c.table.Columns[handle].Name, Meaning: MeansHandle, Reason: percent(s.handles, s.values) + " of its values are telephone numbers or addresses"})
	}
	if text >= 0 {
		s := &c.of[text]
		out = append(out, Suggestion{Column: c.table.Columns[text].Name, Meaning: MeansText, Reason: fmt.Sprintf("texts of %.0f characters on average, %s of them of several words: the longest of this table", longest, percent(s.words, s.texts))})
	}
	return out
}
