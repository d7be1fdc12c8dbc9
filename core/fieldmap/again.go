package fieldmap

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/sqlitefile"
)

// Difference is a part of a record that is not what its bytes give.
type Difference struct{ Part, Gives, Says string }

// Again reads a record's own bytes again by the map m, which is the one that it names, and
// says in which of its parts the record is not what they give. What takes more than the
// row is left out: names and titles that are looked up, and columns that go on in other pages.
// A row that the map does not read is said to be so in known.
func (m *Map) Again(r *record.Record, cell []byte) (differs []Difference, known bool) {
	for _, enc := range []sqlitefile.Encoding{sqlitefile.UTF8, sqlitefile.UTF16LE, sqlitefile.UTF16BE} { // the cell does not say which
		rd := m.readingOf(r, cell, enc)
		if rd == nil {
			continue
		}
		known = true
		d := rd.again(r, cell, enc)
		if len(d) == 0 {
			return nil, true
		}
		if differs == nil {
			differs = d
		}
	}
	return differs, known
}

// readingOf finds the reading that made a record: the first of its table whose condition
// holds for its cell.
func (m *Map) readingOf(r *record.Record, cell []byte, enc sqlitefile.Encoding) *Reading {
	var p *partial
	for i := range m.Readings {
		rd := &m.Readings[i]
		if rd.Table != r.Origin().Table || rd.Kind != r.Kind {
			continue
		}
		if p == nil {
			p = cellValues(r, cell)
		}
		if rd.Where.admits(p.get, enc) {
			return rd
		}
	}
	return nil
}

// partial gives the values of a record's cell by the fields that its origin names.
type partial struct {
	values map[string]sqlitefile.Value
	whole  map[string]bool
	lost   []string
	asked  bool // a column that is not whole in the cell was asked for
}

func cellValues(r *record.Record, cell []byte) *partial {
	p := &partial{map[string]sqlitefile.Value{}, map[string]bool{}, r.Origin().Lost, false}
	types := map[string]sqlitefile.SerialType{}
	for _, f := range r.Origin().Fields {
		at := f.Offset - r.Origin().Offset
		if at < 0 || f.Length < 0 || at+int64(f.Length) > int64(len(cell)) {
			continue
		}
		raw := cell[at : at+int64(f.Length)]
		if name, is := strings.CutPrefix(f.Name, "type of "); is && f.Role == "type" {
			n, size := sqlitefile.Varint(raw)
			if size == 0 {
				continue
			}
			types[name] = sqlitefile.SerialType(n)
			if v, ok := sqlitefile.ReadValue(types[name], nil, 0); ok { // its type is its value
				p.values[name], p.whole[name] = v, true
			}
		} else if t, known := types[f.Name]; f.Role == "value" && known {
			v, ok := sqlitefile.ReadValue(t, raw, 0)
			switch class := t.Class(); { // its beginning
			case ok:
			case class == sqlitefile.Text:
				v, _ = sqlitefile.ReadValue(sqlitefile.SerialType(13+2*len(raw)), raw, 0)
			case class == sqlitefile.Blob:
				v, _ = sqlitefile.ReadValue(sqlitefile.SerialType(12+2*len(raw)), raw, 0)
			}
			p.values[f.Name], p.whole[f.Name] = v, ok
		}
	}
	return p
}

func (p *partial) get(column string) (sqlitefile.Value, bool) {
	v, there := p.values[column]
	lost := slices.Contains(p.lost, column)
	if !lost && !(there && p.whole[column]) {
		p.asked = true
	}
	return v, there && !lost
}

// again compares a record with what its cell gives, part by part: of a part that asks
// for a column that is not whole in the cell nothing is said.
func (rd *Reading) again(r *record.Record, cell []byte, enc sqlitefile.Encoding) (differs []Difference) {
	p := cellValues(r, cell)
	part := func(what, has string, one Reading, read func(*record.Record) string) {
		p.asked = false
		got := &record.Record{}
		one.read(got, p.get, enc)
		for i := range got.Times {
			got.Times[i] = got.Times[i].Doubted(time.Time{})
		}
		if s := read(got); !p.asked && s != has && record.Clean(s) != has {
			differs = append(differs, Difference{what, s, has})
		}
	}
	at := func(role string) func(*record.Record) string {
		return func(x *record.Record) string {
			for _, t := range x.Times {
				if t.Role == role && t.Doubt == record.TooEarly {
					return stamp(t.At) + " " + t.Stored + ", " + t.Doubt
				} else if t.Role == role { // whether it is too late the bytes do not say
					return stamp(t.At) + " " + t.Stored
				}
			}
			return ""
		}
	}
	if rd.Time != nil {
		one := at(rd.Kind.About().Time)
		part("time", one(r), Reading{Kind: rd.Kind, Time: rd.Time}, one)
	}
	for _, m := range rd.Times {
		part("time "+m.Role, at(m.Role)(r), Reading{Times: []Moment{m}}, at(m.Role))
	}
	part("conversation", r.Thread(), Reading{Conversation: rd.Conversation}, (*record.Record).Thread)
	if one := (Reading{Kind: rd.Kind, Direction: rd.Direction, Handle: rd.Handle, Parties: rd.Parties}); len(one.handles()) > 0 &&
		!slices.ContainsFunc(one.handles(), func(p *Part) bool { return p.Lookup != "" }) {
		parties := func(x *record.Record) string {
			var all []string
			for _, p := range x.Parties {
				all = append(all, p.Role+" "+p.Handle)
			}
			return strings.Join(all, ", ")
		}
		part("handle", parties(r), one, parties)
	}
	part("direction", r.Direction, Reading{Direction: rd.Direction}, func(x *record.Record) string { return x.Direction })
	part("text", r.Text, Reading{Text: rd.Text}, func(x *record.Record) string { return x.Text })
	fact := func(name string) func(*record.Record) string {
		return func(x *record.Record) string {
			for _, f := range x.Facts {
				if f.Name == name {
					return f.Value + string(f.Unit)
				}
			}
			return ""
		}
	}
	for _, f := range rd.Facts {
		if f.Lookup != "" {
			continue
		}
		part(f.Name, fact(f.Name)(r), Reading{Facts: []Fact{f}}, fact(f.Name))
	}
	place := func(x *record.Record) string {
		if x.Place == nil {
			return fact(record.NoPlace)(x)
		}
		b, _ := json.Marshal(x.Place) // of numbers and a text
		return string(b)
	}
	part("place", place(r), Reading{Place: rd.Place}, place)
	if own := slices.DeleteFunc(slices.Clone(rd.Attachments), func(a Attachments) bool { return a.Table != "" }); len(own) == len(rd.Attachments) {
		files := func(x *record.Record) string {
			var all []string
			for _, a := range x.Attachments {
				a.SHA256, a.Missing, a.Parts = "", "", nil
				b, _ := json.Marshal(a)
				all = append(all, string(b))
			}
			return strings.Join(all, ", ")
		}
		part("attachments", files(r), Reading{Attachments: own}, files)
	}
	return differs
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}
