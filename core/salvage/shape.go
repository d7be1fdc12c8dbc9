package salvage

import (
	"cmp"
	"slices"
	"strings"

	"crosswind/core/sqlitefile"
)

// shape is a kind of row to look for: what is known of its records.
type shape struct {
	*sqlitefile.Table
	id      int
	like    int                 // the id of the first shape whose rows may be the same: what live rows show cannot tell them apart
	kind    sqlitefile.PageKind // of the leaf pages that hold its cells: LeafTable or LeafIndex
	index   string              // the index whose entries these are; "" for the table's own rows
	root    uint32              // of the tree that holds them, 0 if that is not known
	dropped bool                // its CREATE text was itself recovered
	columns []int               // for each value of a record, in order, its column in Table, or rowIDValue
	rules   []rule              // for each value of a record
	least   int                 // values that a record has at least
	*learned
}

// learned is what live rows show.
type learned struct {
	live    int       // how many there are
	fewest  int       // values that one has
	ids     span      // their row ids
	numbers []span    // for each value of a record
	lengths []span    // of texts, in bytes
	odd     []bool    // whether a text holds units that Latin ones do not
	begins  []byteSet // of texts, their first bytes
	ends    []byteSet // and the sorts of their last characters
	nulls   []bool    // whether NULL is seen
}

func newLearned(n int) *learned {
	return &learned{fewest: n, numbers: make([]span, n), lengths: make([]span, n), odd: make([]bool, n), begins: make([]byteSet, n), ends: make([]byteSet, n), nulls: make([]bool, n)}
}

// join adds what other rows show.
func (s *learned) join(o *learned) {
	s.live += o.live
	s.fewest = min(s.fewest, o.fewest)
	s.ids.join(o.ids)
	for k := range s.numbers {
		s.numbers[k].join(o.numbers[k])
		s.lengths[k].join(o.lengths[k])
		s.odd[k], s.nulls[k] = s.odd[k] || o.odd[k], s.nulls[k] || o.nulls[k]
		for i, b := range o.begins[k] {
			s.begins[k][i] |= b
		}
		for i, b := range o.ends[k] {
			s.ends[k][i] |= b
		}
	}
}

// What stands in shape.columns for a value that is no column's: the row id, which ends
// an index entry, and what an index holds of an expression.
const (
	rowIDValue = -1
	expression = -2
)

// rule is what a value of a record must be.
type rule struct {
	sqlitefile.Affinity
	notNull  bool
	alias    bool // the column that stands for the row id: always stored as NULL (§2.3)
	rowID    bool // a row id at the end of an index entry
	untyped  bool
	strict   bool // holds values of its type only
	optional bool // may be missing at the record's end: added later
}

// span is a range of numbers that grows with what it sees.
type span struct {
	low, high float64
	seen      bool
}

func (s *span) see(x float64) {
	if !s.seen {
		s.low, s.high, s.seen = x, x, true
	}
	s.low, s.high = min(s.low, x), max(s.high, x)
}

func (s *span) join(o span) {
	if o.seen {
		s.see(o.low)
		s.see(o.high)
	}
}

// near reports whether x lies in the range, widened by half its own width and
// by slack.
func (s *span) near(x, slack float64) bool {
	w := max((s.high-s.low)/2, slack)
	return !s.seen || x >= s.low-w && x <= s.high+w
}

// distance says how x lies to the range: near, or what speaks against it. Rows that
// were deleted by age lie just beyond it, and bytes that are no number's lie
// anywhere: a number of eight bytes is of a magnitude by chance about once in 2^60 times.
func (s *span) distance(x float64) (k evidence, near bool) {
	switch w := max(s.high-s.low, 32); {
	case s.near(x, 16):
		return 0, true
	case s.low >= 0 && x < 0 && x >= s.low-8*w:
		return far, false // the sign is another one
	case x >= s.low-8*w && x <= s.high+8*w, s.low > 0 && x >= s.low/2 && x <= 2*s.high:
		return beyond, false
	case s.low >= 0 && x >= 0 && x <= 64*(s.high+1):
		return far, false
	}
	return wild, false
}

func tableShape(t *sqlitefile.Table) *shape {
	if t.Name == "sqlite_sequence" && len(t.Columns) == 2 { // §2.6.2: declared without types, written with these
		t.Columns[0].Affinity, t.Columns[1].Affinity = sqlitefile.AffText, sqlitefile.AffInteger
		t.Columns[0].Type, t.Columns[1].Type, t.Strict = "TEXT", "INTEGER", true
	}
	sh := &shape{Table: t, kind: sqlitefile.LeafTable, columns: t.Stored()}
	if t.WithoutRowID {
		sh.kind = sqlitefile.LeafIndex
	}
	for _, i := range sh.columns {
		sh.rules = append(sh.rules, columnRule(t, i))
	}
	return sh.ready()
}

func columnRule(t *sqlitefile.Table, i int) rule {
	c := t.Columns[i]
	return rule{Affinity: c.Affinity, notNull: c.NotNull, alias: i == t.RowIDColumn, untyped: c.Type == "",
		strict: (t.Strict || t.Root == 1) && !strings.EqualFold(c.Type, "ANY"), optional: !c.NotNull || c.Default != ""}
}

// indexShape makes the shape of an index's entries. columns are names, "" for an
// expression; the row id, or the primary key of a table without one, follows.
// If they cannot be told the shape is opaque: the pages of the index are known as its own, and
// give no rows.
func indexShape(t *sqlitefile.Table, name string, columns []string) *shape {
	sh := &shape{Table: t, kind: sqlitefile.LeafIndex, index: cmp.Or(name, "(an index without a name)")}
	taken := map[int]bool{}
	add := func(i int) {
		r := columnRule(t, i)
		if r.alias { // in an index it is what it stands for
			r = rule{Affinity: sqlitefile.AffInteger, notNull: true}
		}
		r.optional = false
		sh.columns, sh.rules = append(sh.columns, i), append(sh.rules, r)
		taken[i] = true
	}
	for _, n := range columns {
		if n == "" {
			sh.columns, sh.rules = append(sh.columns, expression), append(sh.rules, rule{Affinity: sqlitefile.AffBlob, untyped: true})
			continue
		}
		i := -1
		for k, c := range t.Columns {
			if strings.EqualFold(c.Name, strings.TrimSuffix(n, "\x00desc")) && !c.Virtual {
				i = k
			}
		}
		if i < 0 {
			return opaqueIndex(t, name)
		}
		add(i)
	}
	if len(columns) == 0 || t.WithoutRowID && len(t.Unique) == 0 {
		return opaqueIndex(t, name)
	}
	if !t.WithoutRowID {
		sh.columns = append(sh.columns, rowIDValue)
		sh.rules = append(sh.rules, rule{Affinity: sqlitefile.AffInteger, notNull: true, rowID: true})
		return sh.ready()
	}
	key := 0
	for _, i := range t.Stored() { // the primary key's columns come first in a record
		if key++; key > len(t.Unique[0]) {
			break
		}
		if !taken[i] {
			add(i)
		}
	}
	return sh.ready()
}

// opaqueIndex is the shape of an index of which no more is known than that it is one.
func opaqueIndex(t *sqlitefile.Table, name string) *shape {
	return (&shape{Table: t, kind: sqlitefile.LeafIndex, index: cmp.Or(name, "(an index without a name)")}).ready()
}

// mute reports whether the entries of an index say nothing of a row but its id.
func (s *shape) mute() bool {
	return s.index != "" && !slices.ContainsFunc(s.columns, func(i int) bool { return i >= 0 })
}

func (s *shape) ready() *shape {
	s.learned = newLearned(len(s.rules))
	s.least = len(s.rules)
	for s.least > 1 && s.rules[s.least-1].optional {
		s.least--
	}
	return s
}

// internal reports whether the library itself keeps the table: such rows lie in pages
// of their own.
func (s *shape) internal() bool { return strings.HasPrefix(s.Name, "sqlite_") }

// see takes in a live row.
func (s *learned) see(types []typeAt, body []byte, enc sqlitefile.Encoding) {
	at := 0
	for k, t := range types {
		n := int(t.t.Size())
		if k == len(s.numbers) || at+n > len(body) {
			return
		}
		switch t.t.Class() {
		case sqlitefile.Integer, sqlitefile.Real:
			v, _ := sqlitefile.ReadValue(t.t, body[at:], 0)
			s.numbers[k].see(v.Float())
		case sqlitefile.Text:
			if s.lengths[k].see(float64(n)); n > 0 {
				s.begins[k].add(firstByte(body[at:at+n], enc))
				s.ends[k].add(lastClass(body[at:at+n], enc))
				s.odd[k] = s.odd[k] || enc != sqlitefile.UTF8 && oddUnits(body[at:at+n], enc) > 0
			}
		case sqlitefile.Null:
			s.nulls[k] = true
		}
		at += n
	}
}

// fit judges whether values of these types can be a record of s, before the
// values are looked at: what speaks against it, and whether it can be at all.
// A type of unknown stands for one whose bytes are gone.
func (s *shape) fit(types []typeAt) (w weighed, ok bool) {
	if len(types) > len(s.rules) || len(types) < s.least || len(types) == 0 {
		return w, false
	}
	if s.live >= enough && len(types) < s.fewest { // as a rule rows from before a column was added are still alive, too
		w.add(fewerValues, 1)
	}
	w.add(missingColumn, len(s.rules)-len(types)) // from before a column was added
	for k := range types {
		t, r := types[k].t, &s.rules[k]
		if t == unknown {
			continue
		}
		class := t.Class()
		switch {
		case t.Size() < 0:
			return w, false
		case r.alias:
			if t != 0 {
				return w, false
			}
			continue
		case class == sqlitefile.Null:
			if r.notNull {
				return w, false
			}
			if s.live >= enough && !s.nulls[k] {
				w.add(unseenNull, 1)
			}
			continue
		case r.rowID && class != sqlitefile.Integer:
			return w, false
		}
		switch r.Affinity {
		case sqlitefile.AffInteger, sqlitefile.AffNumeric, sqlitefile.AffReal:
			if class == sqlitefile.Text || class == sqlitefile.Blob {
				if r.strict {
					return w, false
				}
				w.add(foreignClass, 1)
			}
			if r.Affinity == sqlitefile.AffInteger && class == sqlitefile.Real {
				w.add(realForInteger, 1)
			}
			if r.Affinity == sqlitefile.AffReal && t == 6 {
				return w, false // the library stores whole reals as integers of up to six bytes
			}
		case sqlitefile.AffText:
			if class == sqlitefile.Integer || class == sqlitefile.Real {
				return w, false // text affinity stores numbers as text
			}
			if class == sqlitefile.Blob {
				if r.strict {
					return w, false
				}
				w.add(foreignClass, 1)
			}
		}
	}
	return w, w.sum <= hopeless
}
