package fieldmap

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/sqlitefile"
)

// Part is where a part of a record comes from: a column, and what its values mean.
type Part struct {
	Column string `toml:"column"`
	// JSON leads to a value within the column's text: names and numbers from 0, with dots.
	JSON string `toml:"json"`
	// Words say what values mean; of others nothing is said.
	Words map[string]string `toml:"words"`
	// Lookup names the lookup in which the value is a key.
	Lookup string `toml:"lookup"`
	// Epoch says how a time is counted, see ParseEpoch.
	Epoch string `toml:"epoch"`
	// Duration is the unit of a length of time.
	Duration string `toml:"duration"`
	// Instead is another column whose words stand instead of the value, if it has one of them.
	Instead *Part `toml:"instead"`

	epoch Epoch
	unit  time.Duration
}

// Condition is a column's value that rows of a reading have.
type Condition struct {
	Column string   `toml:"column"`
	Is     []string `toml:"is"`
}

// Detail is a further column worth showing.
type Detail struct {
	Label string `toml:"label"`
	Part
}

// Moment is a further time, under its role: read, delivered, purged …
type Moment struct {
	Role string `toml:"role"`
	Part
}

// parts yields the parts of a reading, by their names in the file.
func (rd *Reading) parts() iter.Seq2[string, *Part] {
	return func(yield func(string, *Part) bool) {
		for _, p := range []struct {
			name string
			*Part
		}{{"time", rd.Time}, {"conversation", rd.Conversation}, {"handle", rd.Handle}, {"direction", rd.Direction}, {"text", rd.Text}} {
			if p.Part != nil && !yield(p.name, p.Part) {
				return
			}
		}
		for i := range rd.Times {
			if !yield("times", &rd.Times[i].Part) {
				return
			}
		}
		for i := range rd.Details {
			if !yield("details", &rd.Details[i].Part) {
				return
			}
		}
	}
}

// takes are the keys that each part may have beside its column.
var takes = map[string]string{
	"time": "json epoch", "times": "json epoch", "conversation": "json words lookup", "handle": "json words lookup", "direction": "json words instead",
	"text": "json words duration instead", "details": "json words epoch duration instead", "instead": "json words",
}

// keys are those that p has beside its column.
func (p *Part) keys() (has []string) {
	for _, k := range []struct {
		name string
		is   bool
	}{{"json", p.JSON != ""}, {"words", p.Words != nil}, {"lookup", p.Lookup != ""}, {"epoch", p.Epoch != ""}, {"duration", p.Duration != ""}, {"instead", p.Instead != nil}} {
		if k.is {
			has = append(has, k.name)
		}
	}
	return has
}

// columns lists the columns that a reading reads.
func (rd *Reading) columns() (names []string) {
	add := func(name string) {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if rd.Where != nil {
		add(rd.Where.Column)
	}
	for _, p := range rd.parts() {
		if add(p.Column); p.Instead != nil {
			add(p.Instead.Column)
		}
	}
	return names
}

// admits reports whether a row is one of the reading's; one whose column did not survive
// is none.
func (c *Condition) admits(get getter, enc sqlitefile.Encoding) bool {
	if c == nil {
		return true
	}
	v, ok := get(c.Column)
	s, there := Text(v, enc)
	return ok && there && slices.Contains(c.Is, s)
}

// getter gives the value of a column; false if the table lacks it or the value is lost.
// What is left of a lost text comes with it.
type getter func(column string) (sqlitefile.Value, bool)

// value is what the part says of a row, before it is looked up. It is false where that is
// lost or there is nothing; what is left of a lost text is given all the same.
func (p *Part) value(get getter, enc sqlitefile.Encoding) (string, bool) {
	if p == nil {
		return "", false
	}
	if s, ok := p.Instead.value(get, enc); ok {
		return s, true
	}
	v, whole := get(p.Column)
	s, there := Text(v, enc)
	switch {
	case p.epoch.Unit > 0 || p.epoch.text:
		v, enc, ok := p.counted(v, enc)
		t, is := p.epoch.Time(v, enc)
		return t.Format(time.RFC3339), ok && is && whole
	case p.JSON != "":
		if s, there = within(s, p.JSON); !there || !whole {
			return "", false
		}
	}
	switch {
	case p.Words != nil:
		w, is := p.Words[s]
		return w, is && whole
	case p.unit > 0:
		n, err := strconv.ParseFloat(s, 64)
		if d := n * float64(p.unit); whole && err == nil && math.Abs(d) < math.MaxInt64 {
			return length(time.Duration(d)), true
		}
		return "", false
	}
	return s, whole && there
}

// counted is the value that a time is told by: the column's, or what lies within its JSON text,
// a number or a text, which is in UTF-8.
func (p *Part) counted(v sqlitefile.Value, enc sqlitefile.Encoding) (sqlitefile.Value, sqlitefile.Encoding, bool) {
	if p.JSON == "" {
		return v, enc, v.Class() != sqlitefile.Null
	}
	s, there := Text(v, enc)
	if there {
		s, there = within(s, p.JSON)
	}
	if !there {
		return sqlitefile.Value{}, enc, false
	}
	const integer, real, text = 6, 7, 13 // serial types: Database File Format section 2.1
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		v, there = sqlitefile.ReadValue(integer, binary.BigEndian.AppendUint64(nil, uint64(n)), 0)
	} else if f, err := strconv.ParseFloat(s, 64); err == nil {
		v, there = sqlitefile.ReadValue(real, binary.BigEndian.AppendUint64(nil, math.Float64bits(f)), 0)
	} else {
		v, there = sqlitefile.ReadValue(sqlitefile.SerialType(text+2*len(s)), []byte(s), 0)
	}
	return v, sqlitefile.UTF8, there
}

// length writes a length of time.
func length(d time.Duration) string {
	return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
}

// jsonPath divides a path into its steps.
func jsonPath(path string) ([]string, error) {
	steps := strings.Split(path, ".")
	if slices.Contains(steps, "") {
		return nil, fmt.Errorf("%q is not a path: names and numbers, with dots between", path)
	}
	return steps, nil
}

// within finds a value in a JSON text: as it is if it is a text, else as JSON writes it.
// NULL is nothing.
func within(text, path string) (string, bool) {
	steps, err := jsonPath(path)
	if err != nil {
		return "", false
	}
	b := json.RawMessage(text)
	for _, step := range steps {
		var list []json.RawMessage
		var object map[string]json.RawMessage
		if n, err := strconv.Atoi(step); err == nil && json.Unmarshal(b, &list) == nil {
			if n < 0 || n >= len(list) {
				return "", false
			}
			b = list[n]
		} else if json.Unmarshal(b, &object) == nil && object[step] != nil {
			b = object[step]
		} else {
			return "", false
		}
	}
	var s string
	if json.Unmarshal(b, &s) == nil && string(b) != "null" {
		return s, true
	}
	return string(b), string(b) != "null" && json.Valid(b)
}
