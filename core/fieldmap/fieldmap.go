// Package fieldmap turns the rows of an app's database into records: it knows
// which column means what, and how the app counts time.
//
// Maps are data, so that a reading can be shown, checked and challenged. Rows
// come from package salvage, live and recovered alike; a name or a conversation
// that a row refers to is looked up among both. What did not survive is left
// out of a record and named in its origin, never guessed.
package fieldmap

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"strconv"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// Map reads one database of an app.
type Map struct {
	Name     string // of the map, with the version of the app's layout
	Path     string // of the database on the handset
	Lookups  []Lookup
	Readings []Reading
}

// Lookup is a table in which other rows' references are found.
type Lookup struct {
	Table, Key, Value string // Key may be the row id's own column
}

// Reading makes records of a kind from the rows of a table. Names are columns;
// an empty one is not there.
type Reading struct {
	Table       string
	Kind        record.Kind
	State       record.State // of its live rows: Intact or Held
	Time        string
	Epoch       Epoch
	Purge       string
	PurgeEpoch  Epoch
	Thread      string
	ThreadTitle string // name of the lookup table that the thread's key leads into
	Handle      string // a number or address of the other side
	Handles     string // or the lookup table that leads to them by the row's id
	Direction   func(get func(column string) (sqlitefile.Value, bool)) string
	Text        func(get func(column string) (sqlitefile.Value, bool), enc sqlitefile.Encoding) string
	Details     []Detail
}

// Detail is a further column worth showing.
type Detail struct{ Label, Column string }

// Source is the file that rows are read from.
type Source struct {
	Path   string // on the handset
	Stored string // below the source
	SHA256 string // hex
	// Country is the exhibit's home country, ISO 3166-1 alpha-2, "" if not known: it
	// brings national numbers into their normal form.
	Country string
	Bytes   io.ReaderAt
	// Log and Journal are the same for the files beside the database, if they are
	// there.
	Log, Journal *Source
}

// Names finds a person's name by a handle in normal form. Contacts fill it.
type Names map[string]string

// Learn adds what a contact record says. Live contacts go before others.
func (n Names) Learn(r *record.Record) {
	for _, h := range r.Parties {
		if _, known := n[h]; r.Text != "" && (!known || r.State == record.Intact) {
			n[h] = r.Text
		}
	}
}

// For finds the map for a database by its path on the handset.
func For(path string) *Map {
	for _, m := range Builtin {
		if m.Path == path {
			return m
		}
	}
	return nil
}

// Members are the handles, in normal form, that are seen in each conversation of a
// database.
type Members map[string][]string

// Records reads the database that s surveyed, which is src's, and yields a record for each row
// that the map reads, in salvage's order. Before the first one, members is told who
// is seen in which conversation. Rows of other tables are given to other. Damage is
// yielded as errors and does not end the iteration.
func (m *Map) Records(s *salvage.Survey, src *Source, names Names, opt salvage.Options, members func(Members), other func(*salvage.Row)) iter.Seq2[*record.Record, error] {
	return func(yield func(*record.Record, error) bool) {
		opt.Live = true
		ahead := salvage.Options{Live: opt.Live, Full: opt.Full}
		if opt.Seen != nil {
			ahead.Seen = func(int64) bool { return opt.Seen(0) } // told of when the rows are read
		}
		look, seen := m.join(s, src.Country, ahead)
		members(seen)
		if err := s.Fault(); err != nil && !yield(nil, err) {
			return
		}
		for row, err := range s.Rows(opt) {
			if err != nil {
				if !yield(nil, err) {
					return
				}
				continue
			}
			rd := m.reading(row)
			if rd == nil {
				other(row)
				continue
			}
			r, err := rd.record(m, s.File(), row, src, look, names)
			if !yield(r, err) {
				return
			}
		}
	}
}

func (m *Map) reading(row *salvage.Row) *Reading {
	if row.Table == nil {
		return nil
	}
	for i := range m.Readings {
		if m.Readings[i].Table == row.Table.Name {
			return &m.Readings[i]
		}
	}
	return nil
}

// columns gives the values of a row by the names of their columns.
type columns struct {
	row *salvage.Row
	enc sqlitefile.Encoding
}

// get is false for a column that the table lacks or whose value is lost.
func (c columns) get(name string) (sqlitefile.Value, bool) {
	for i := range c.row.Table.Columns {
		if c.row.Table.Columns[i].Name == name && i < len(c.row.Values) {
			return c.row.Values[i], !c.row.Lost[i]
		}
	}
	return sqlitefile.Value{}, false
}

func (c columns) text(name string) (string, bool) {
	v, ok := c.get(name)
	if !ok {
		return "", false
	}
	return Text(v, c.enc)
}

// Text writes a value as text; false for NULL.
func Text(v sqlitefile.Value, enc sqlitefile.Encoding) (string, bool) {
	switch v.Class() {
	case sqlitefile.Null:
		return "", false
	case sqlitefile.Integer:
		return strconv.FormatInt(v.Int(), 10), true
	case sqlitefile.Real:
		return strconv.FormatFloat(v.Float(), 'g', -1, 64), true
	case sqlitefile.Text:
		return v.String(enc), true
	}
	return hex.EncodeToString(v.Bytes()), true
}

func (rd *Reading) record(m *Map, f *sqlitefile.File, row *salvage.Row, src *Source, look joins, names Names) (*record.Record, error) {
	c := columns{row, f.Encoding}
	r := &record.Record{Kind: rd.Kind, State: rd.State}
	if !row.Live {
		r.State = record.Recovered
		if row.Earlier {
			r.State = record.Earlier
		}
	}
	rd.read(r, c.get, f.Encoding)
	if r.Thread != "" {
		r.ThreadTitle = look.find(rd.ThreadTitle, r.Thread)
	}
	if rd.Handles != "" {
		if k, ok := c.text(idColumn(row.Table)); ok {
			r.Handle = look.find(rd.Handles, k)
		}
	}
	r.Parties = people.List(r.Handle, src.Country)
	for _, h := range r.Parties {
		r.Person = cmp.Or(r.Person, names[h])
	}
	var err error
	r.Origin, err = origin(row, src)
	r.Origin.FieldMap = m.Name
	r.SetUID()
	return r, err
}

// read reads into a record what its row alone says.
func (rd *Reading) read(r *record.Record, get func(column string) (sqlitefile.Value, bool), enc sqlitefile.Encoding) {
	text := func(column string) (string, bool) {
		if v, ok := get(column); ok && column != "" {
			return Text(v, enc)
		}
		return "", false
	}
	if v, ok := get(rd.Time); ok && v.Class() != sqlitefile.Null {
		r.Original = rd.Epoch.original(v)
		if t, ok := rd.Epoch.Time(v); ok {
			r.At = &t
		}
	}
	if rd.Purge != "" {
		if v, ok := get(rd.Purge); ok {
			if t, ok := rd.PurgeEpoch.Time(v); ok {
				r.Purge = &t
				r.Details = append(r.Details, record.Detail{Label: purged, Value: t.Format(time.RFC3339)})
			}
		}
	}
	if rd.Thread != "" {
		_, survived := get(rd.Thread)
		r.ThreadLost = !survived
		r.Thread, _ = text(rd.Thread)
	}
	if rd.Handles == "" {
		r.Handle, _ = text(rd.Handle)
	}
	if rd.Direction != nil {
		r.Direction = rd.Direction(get)
	}
	r.Text = rd.Text(get, enc)
	for _, d := range rd.Details {
		if v, ok := text(d.Column); ok {
			r.Details = append(r.Details, record.Detail{Label: d.Label, Value: v})
		}
	}
}

// purged labels when an item goes.
const purged = "To be purged"

// idColumn is the column that stands for the row id, or "" if none does.
func idColumn(t *sqlitefile.Table) string {
	if t.RowIDColumn < 0 {
		return ""
	}
	return t.Columns[t.RowIDColumn].Name
}

// maxOthers is how many other places of a row version are listed.
const maxOthers = 8

// origin is the trail from a row to its bytes, which it reads and hashes.
func origin(row *salvage.Row, src *Source) (record.Origin, error) {
	if part := map[sqlitefile.Part]*Source{sqlitefile.Log: src.Log, sqlitefile.Journal: src.Journal}[row.Part]; part != nil {
		src = part
	}
	o := record.Origin{Path: src.Path, Stored: src.Stored, SHA256: src.SHA256, Table: row.Table.Name, Place: "live",
		Page: row.Page, Offset: row.Offset, Length: row.Length, Confidence: row.Confidence}
	if !row.Live {
		o.Place = string(row.Origin)
	}
	o.Frame, o.Uncommitted, o.Unproven, o.Copies = row.Frame, row.Uncommitted, row.Unproven, len(row.Others)
	for _, p := range row.Others {
		if len(o.Others) == maxOthers {
			o.Others = append(o.Others, fmt.Sprintf("%d more", len(row.Others)-maxOthers))
			break
		}
		o.Others = append(o.Others, p.String())
	}
	if row.HasRowID {
		id := record.Int(row.RowID)
		o.RowID = &id
	}
	for i, lost := range row.Lost {
		if lost && i < len(row.Table.Columns) {
			o.Lost = append(o.Lost, row.Table.Columns[i].Name)
		}
	}
	for _, f := range row.Fields() {
		o.Fields = append(o.Fields, record.Field(f))
	}
	b := make([]byte, row.Length)
	if _, err := src.Bytes.ReadAt(b, row.Offset); err != nil && err != io.EOF {
		return o, fmt.Errorf("reading the bytes of a row at offset %d of %s: %w", row.Offset, src.Path, err)
	}
	sum := sha256.Sum256(b)
	o.Digest = hex.EncodeToString(sum[:])
	return o, nil
}
