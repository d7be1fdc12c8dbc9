package fieldmap

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"iter"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosswind/core/record"
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
	// Unit is what a number counts, see units.
	Unit string `toml:"unit"`
	// Per is how many of what is stored make one of the unit.
	Per float64 `toml:"per"`
	// Prefix is what stands before a path as it is stored.
	Prefix string `toml:"prefix"`
	// Instead is another column whose words stand instead of the value, if it has one of them.
	Instead *Part `toml:"instead"`

	epoch Epoch
	unit  record.Unit
	per   float64 // 0 of what is no number
}

// measures are the units that a map can name, with what they are told in and how many of
// them make one of it.
var measures = map[string]struct {
	unit record.Unit
	per  float64
}{
	"days": {record.Seconds, 1.0 / 86400}, "hours": {record.Seconds, 1.0 / 3600}, "minutes": {record.Seconds, 1.0 / 60}, "seconds": {record.Seconds, 1},
	"milliseconds": {record.Seconds, 1e3}, "microseconds": {record.Seconds, 1e6}, "100 ns ticks": {record.Seconds, 1e7}, "nanoseconds": {record.Seconds, 1e9},
	"bytes": {record.Bytes, 1}, "metres": {record.Metres, 1},
}

// Condition is a column's value that rows of a reading have.
type Condition struct {
	Column string   `toml:"column"`
	Is     []string `toml:"is"`
}

// Fact is a further value, under a standard name or one of the map's own.
type Fact struct {
	Name string `toml:"name"`
	Part
}

// Party is somebody beside the other side, in a role.
type Party struct {
	Role string `toml:"role"`
	Part
}

// Position is where something was: degrees of WGS 84, and metres.
type Position struct {
	Latitude  *Part `toml:"latitude"`
	Longitude *Part `toml:"longitude"`
	Accuracy  *Part `toml:"accuracy"`
	Altitude  *Part `toml:"altitude"`
}

func (p *Position) parts() []*Part {
	if p == nil {
		return nil
	}
	return []*Part{p.Latitude, p.Longitude, p.Accuracy, p.Altitude}
}

// Attachments are files that belong to a record: one that its own row names, or those of
// the rows of another table.
type Attachments struct {
	Table string `toml:"table"` // the other table
	Key   string `toml:"key"`   // its column that says whose the file is
	Of    string `toml:"of"`    // the column of the record's own row that has the same value
	Name  *Part  `toml:"name"`
	Type  *Part  `toml:"type"`
	Size  *Part  `toml:"size"`
	Path  *Part  `toml:"path"`
	// Data is the column of the record's own row that has the file itself, a BLOB.
	Data *Part `toml:"data"`
}

func (a *Attachments) parts() []*Part { return []*Part{a.Name, a.Type, a.Size, a.Path, a.Data} }

// read gives what a row says of a file; ok is false if that is nothing.
func (a *Attachments) read(get getter, enc sqlitefile.Encoding) (f record.Attachment, ok bool) {
	f.Name, _ = a.Name.value(get, enc)
	f.Type, _ = a.Type.value(get, enc)
	if s, there := a.Path.value(get, enc); there && s != "" {
		f.Path = path.Clean(a.Path.Prefix + s)
	}
	if s, there := a.Size.value(get, enc); there {
		if n, err := strconv.ParseInt(s, 10, 64); err == nil && n >= 0 {
			size := record.Int(n)
			f.Size = &size
		}
	}
	if a.Data != nil {
		v, whole := get(a.Data.Column)
		if v.Class() != sqlitefile.Blob || len(v.Bytes()) == 0 {
			return f, false
		}
		if f.Missing = record.WithinIt; !whole {
			f.Missing = record.NotWhole
		} else if f.Size == nil {
			size := record.Int(len(v.Bytes()))
			f.Size = &size
		}
		f.Name = cmp.Or(f.Name, a.Data.Column)
	}
	return f, f.Name != "" || f.Type != "" || f.Path != "" || f.Size != nil
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
		for i := range rd.Facts {
			if !yield("facts", &rd.Facts[i].Part) {
				return
			}
		}
		for i := range rd.Parties {
			if !yield("parties", &rd.Parties[i].Part) {
				return
			}
		}
		for _, p := range rd.Place.parts() {
			if p != nil && !yield("place", p) {
				return
			}
		}
		for i := range rd.Attachments {
			for _, p := range rd.Attachments[i].parts() {
				if p != nil && !yield("attachments", p) {
					return
				}
			}
		}
	}
}

// takes are the keys that each part may have beside its column.
var takes = map[string]string{
	"time": "json epoch", "times": "json epoch", "conversation": "json words lookup", "handle": "json words lookup", "direction": "json words instead",
	"text": "json words instead", "facts": "json words epoch unit per instead lookup", "parties": "json words lookup", "place": "json per",
	"attachments": "json words prefix", "instead": "json words",
}

// keys are those that p has beside its column.
func (p *Part) keys() (has []string) {
	for _, k := range []struct {
		name string
		is   bool
	}{{"json", p.JSON != ""}, {"words", p.Words != nil}, {"lookup", p.Lookup != ""}, {"epoch", p.Epoch != ""}, {"unit", p.Unit != ""}, {"per", p.Per != 0}, {"prefix", p.Prefix != ""}, {"instead", p.Instead != nil}} {
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
	for _, a := range rd.Attachments {
		if a.Table != "" {
			add(a.Of)
		}
	}
	for what, p := range rd.parts() {
		if what == "attachments" && rd.elsewhere(p) {
			continue
		}
		if add(p.Column); p.Instead != nil {
			add(p.Instead.Column)
		}
	}
	return names
}

// elsewhere reports whether a part of an attachment is of another table.
func (rd *Reading) elsewhere(p *Part) bool {
	return slices.ContainsFunc(rd.Attachments, func(a Attachments) bool { return a.Table != "" && slices.Contains(a.parts(), p) })
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
	case p.per > 0:
		n, err := strconv.ParseFloat(s, 64)
		if n /= p.per; whole && err == nil && math.Abs(n) < 1e15 { // no NaN
			return strconv.FormatFloat(n, 'f', -1, 64), true
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
