package salvage

import (
	"encoding/binary"
	"unicode/utf8"

	"crosswind/core/sqlitefile"
)

// candidate is one reading of some bytes as a row.
type candidate struct {
	layout
	page      uint32
	origin    Origin
	shape     *shape // nil if no table fits, or several do
	rivals    int    // other tables that fit as well
	raw       []sqlitefile.Value
	values    []sqlitefile.Value // arranged by shape
	lost      []bool
	rowID     int64
	hasRowID  bool
	penalty   float64 // what speaks against the reading, from fit
	exact     bool    // it ends just where the space it lay in ends
	pointed   bool    // a cell pointer of a whole free page leads to it
	truncated bool    // its tail is overwritten
	broken    bool    // its overflow chain does not hold
	stale     bool    // the same row version is alive
}

// confidence follows docs/recovery.md.
func (c *candidate) confidence() float64 {
	var p float64
	switch {
	case c.pointed:
		p = 0.99
	case c.overwritten == 0:
		p = 0.95
	case c.exact:
		p = 0.92
	case c.truncated:
		p = 0.55
	default:
		p = 0.75
	}
	if c.broken {
		p = min(p, 0.7)
	}
	p -= c.penalty
	if c.shape == nil {
		p -= 0.2
	}
	return float64(int(max(p, 0.05)*100+0.5)) / 100
}

// maxPenalty is how much may speak against a reading before it is none.
const maxPenalty = 0.25

// fit judges whether values of these types can be a row of s, before its
// values are looked at: what speaks against it, and whether it can be at all.
func (s *shape) fit(types []typeAt) (penalty float64, ok bool) {
	stored := s.Stored()
	if len(types) > len(stored) || len(types) == 0 {
		return 0, false
	}
	for k, i := range stored {
		c := &s.Columns[i]
		if k >= len(types) { // from before the column was added: it cannot be NOT NULL then
			if c.NotNull && c.Default == "" {
				return 0, false
			}
			penalty += 0.02
			continue
		}
		class := types[k].t.Class()
		switch {
		case types[k].t.Size() < 0:
			return 0, false
		case i == s.RowIDColumn:
			if types[k].t != 0 { // always stored as NULL (§2.3)
				return 0, false
			}
			continue
		case class == sqlitefile.Null:
			if c.NotNull {
				return 0, false
			}
			continue
		}
		switch c.Affinity {
		case sqlitefile.AffInteger, sqlitefile.AffNumeric, sqlitefile.AffReal:
			if class == sqlitefile.Text || class == sqlitefile.Blob {
				penalty += 0.12
			}
			if c.Affinity == sqlitefile.AffInteger && class == sqlitefile.Real {
				penalty += 0.06
			}
			if c.Affinity == sqlitefile.AffReal && types[k].t == 6 {
				return 0, false // the library stores whole reals as integers of up to six bytes
			}
		case sqlitefile.AffText:
			if class == sqlitefile.Integer || class == sqlitefile.Real {
				return 0, false // text affinity stores numbers as text
			}
			if class == sqlitefile.Blob {
				penalty += 0.08
			}
		}
	}
	return penalty, penalty <= maxPenalty
}

const (
	enough     = 8   // live rows that a table must have for its ranges to count
	outOfRange = 0.1 // what one value outside of them says against a reading
)

// judge looks at the values themselves: numbers and lengths of texts against
// the ranges that live rows show, texts for what no text holds.
func (s *shape) judge(values []sqlitefile.Value, lost []bool, enc sqlitefile.Encoding) (penalty float64) {
	for i, v := range values {
		if v.At < 0 || lost[i] {
			continue
		}
		switch v.Class() {
		case sqlitefile.Integer, sqlitefile.Real:
			if s.live >= enough && !s.numbers[i].near(v.Float(), 16) {
				penalty += outOfRange
			}
		case sqlitefile.Text:
			if s.live >= enough && !s.lengths[i].near(float64(len(v.Bytes())), 8) {
				penalty += outOfRange
			}
			if !plausibleText(v.Bytes(), enc) {
				penalty += 0.3
			}
		}
	}
	return penalty
}

// plausibleText reports whether b is valid in its encoding and holds no
// control characters but white space.
func plausibleText(b []byte, enc sqlitefile.Encoding) bool {
	if enc == sqlitefile.UTF8 {
		if !utf8.Valid(b) {
			return false
		}
		for _, c := range b {
			if c < 0x20 && c != '\n' && c != '\t' && c != '\r' {
				return false
			}
		}
		return true
	}
	if len(b)%2 != 0 {
		return false
	}
	var order binary.ByteOrder = binary.LittleEndian
	if enc == sqlitefile.UTF16BE {
		order = binary.BigEndian
	}
	high := false
	for i := 0; i < len(b); i += 2 {
		u := order.Uint16(b[i:])
		isLow := u >= 0xdc00 && u < 0xe000
		if high != isLow || u < 0x20 && u != '\n' && u != '\t' && u != '\r' || u >= 0xfffe {
			return false
		}
		high = u >= 0xd800 && u < 0xdc00
	}
	return !high
}
