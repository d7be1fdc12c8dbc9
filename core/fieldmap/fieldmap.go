// Package fieldmap turns the rows of an app's database into records: it knows
// which column means what, and how the app counts time.
//
// Maps are data, so that a reading can be shown, checked and challenged. Rows
// come from package salvage, live and recovered alike; a name or a conversation
// that a row refers to is looked up among both. What did not survive is left
// out of a record and named in its origin, never guessed.
package fieldmap

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"slices"
	"strconv"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
)

// Map reads one database of an app. Its file's form is described in docs/fieldmaps.md.
type Map struct {
	Name    string `toml:"name"`
	Version int    `toml:"version"` // of the app's layout
	// Path is of the database on the handset: a pattern as path.Match takes it.
	Path string `toml:"path"`
	// Tables are the columns by which the layout is told from others, by table.
	Tables   map[string][]string `toml:"tables"`
	Lookups  []Lookup            `toml:"lookup"`
	Readings []Reading           `toml:"reading"`
	Backups  []Backup            `toml:"backup"`

	SHA256       string `toml:"-"` // of the file, hex
	file, source string
}

// ID names the map and the layout, as records do.
func (m *Map) ID() string { return fmt.Sprintf("%s %d", m.Name, m.Version) }

// Source is the map's file.
func (m *Map) Source() string { return m.source }

// Lookup is a table in which other rows' references are found, rows that were recovered
// beside live ones; Key may be the row id's own column. Of several values all are given.
type Lookup struct {
	Name  string `toml:"name"`
	Table string `toml:"table"`
	Key   string `toml:"key"`
	Value string `toml:"value"`
}

// Reading makes records of a kind from the rows of a table.
type Reading struct {
	Table        string        `toml:"table"`
	Where        *Condition    `toml:"where"`
	Kind         record.Kind   `toml:"kind"`
	State        record.State  `toml:"state"`        // of its live rows: Intact or Held
	Time         *Part         `toml:"time"`         // the one on the timeline
	Times        []Moment      `toml:"times"`        // further ones
	Conversation *Part         `toml:"conversation"` // its lookup gives the title
	Handle       *Part         `toml:"handle"`       // a number or address of the other side
	Direction    *Part         `toml:"direction"`
	Text         *Part         `toml:"text"`
	Parties      []Party       `toml:"parties"` // beside the other side
	Place        *Position     `toml:"place"`
	Attachments  []Attachments `toml:"attachments"`
	Facts        []Fact        `toml:"facts"`
}

// Source is the file that rows are read from.
type Source struct {
	Path   string // on the handset
	Stored string // below the source
	SHA256 string // hex
	// Country is the exhibit's home country, ISO 3166-1 alpha-2, "" if not known: it
	// brings national numbers into their normal form.
	Country string
	// Made is when the source was made: no record of it is later. It may be the zero time.
	Made  time.Time
	Bytes io.ReaderAt
	// File finds the SHA-256 of a file that was read with the database, by its path on the
	// handset; ok is false if there is none. It may be nil.
	File func(path string) (sha256 string, ok bool)
	// Log and Journal are the same for the files beside the database, if they are
	// there.
	Log, Journal *Source
}

// Name is what a contact calls whoever its handles reach.
type Name struct {
	Text  string
	Card  string // the contact's UID
	State record.State
}

// Names finds a person's name by a handle in normal form. Contacts fill it.
type Names map[string]Name

// Learn adds what a contact record says. Live contacts go before others.
func (n Names) Learn(r *record.Record) {
	for _, h := range r.Handles() {
		if _, known := n[h]; r.Text != "" && (!known || r.State == record.Intact) {
			n[h] = Name{r.Text, r.UID, r.State}
		}
	}
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
		forms := people.NewNormals(src.Country)
		look, seen := m.join(s, forms, ahead)
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
			rd := m.reading(row, s.File().Encoding)
			if rd == nil {
				other(row)
				continue
			}
			r, err := rd.record(m, s.File(), row, src, look, names, forms)
			if !yield(r, err) {
				return
			}
		}
	}
}

// reading finds the reading of a row: the first of its table whose condition holds.
func (m *Map) reading(row *salvage.Row, enc sqlitefile.Encoding) *Reading {
	if row.Table == nil {
		return nil
	}
	for i := range m.Readings {
		if rd := &m.Readings[i]; rd.Table == row.Table.Name && rd.Where.admits(columns{row, enc}.get, enc) {
			return rd
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

func (rd *Reading) record(m *Map, f *sqlitefile.File, row *salvage.Row, src *Source, look *joins, names Names, forms *people.Normals) (*record.Record, error) {
	c := columns{row, f.Encoding}
	r := &record.Record{Kind: rd.Kind, State: rd.State}
	if !row.Live {
		r.State = record.Recovered
		if row.Earlier {
			r.State = record.Earlier
		}
	}
	rd.read(r, c.get, f.Encoding)
	gave := rd.lookUp(r, c, look)
	for i := range r.Attachments {
		a := &r.Attachments[i]
		if a.Missing != "" { // its row has it
			continue
		}
		sum, there := "", false
		if a.Path != "" && src.File != nil {
			sum, there = src.File(a.Path)
		}
		switch {
		case a.Path == "":
			a.Missing = record.NoPath
		case there:
			a.SHA256 = sum
		default:
			a.Missing = record.NotInSource
		}
	}
	for i := range r.Times {
		r.Times[i] = r.Times[i].Doubted(src.Made)
	}
	for i := range r.Parties {
		p := &r.Parties[i]
		p.Normal = forms.Normal(p.Handle)
		p.Scheme = people.Scheme(p.Normal)
		if n, known := names[p.Normal]; known && !r.Kind.Card() {
			p.Name, p.Card, p.CardState = n.Text, n.Card, n.State
		}
	}
	rd.within(r, f, row, src)
	o, err := origin(row, src)
	o.FieldMap, o.MapSHA256 = m.ID(), m.SHA256
	r.Origins = []record.Origin{o}
	for _, g := range gave {
		if !slices.ContainsFunc(m.Readings, func(rd Reading) bool { return rd.Table == g.at.table }) { // else it is of a record of its own
			r.Origins = append(r.Origins, g.origin(src))
		}
	}
	r.SetUID()
	return r, err
}

// within finds where the bytes of those attachments lie that the row itself has.
func (rd *Reading) within(r *record.Record, f *sqlitefile.File, row *salvage.Row, src *Source) {
	n, c := 0, columns{row, f.Encoding}
	for i := range rd.Attachments {
		def := &rd.Attachments[i]
		if def.Table != "" {
			continue
		}
		if _, ok := def.read(c.get, c.enc); !ok {
			continue
		}
		if a := &r.Attachments[n]; def.Data != nil && a.Missing == record.WithinIt {
			v, _ := c.get(def.Data.Column)
			if a.Parts = src.spans(f, row, def.Data.Column, v.Bytes()); a.Parts != nil {
				sum := sha256.Sum256(v.Bytes())
				a.SHA256, a.Missing = hex.EncodeToString(sum[:]), ""
			}
		}
		n++
	}
}

// spans says where the bytes of a column lie: in the row's cell, and in the overflow pages that it leads to (SQLite's
// file format, section 1.6). It is nil where these do not hold them, as where another version of a page did.
func (src *Source) spans(f *sqlitefile.File, row *salvage.Row, column string, want []byte) (spans []record.Span) {
	i := slices.IndexFunc(row.Fields(), func(f salvage.Field) bool { return f.Name == column && f.Role == "value" })
	if i < 0 {
		return nil
	}
	local := row.Fields()[i]
	own := src.of(row.Part)
	holds := func(in *Source, at int64, n int) bool {
		b := make([]byte, n)
		if k, _ := in.Bytes.ReadAt(b, at); k < n || !bytes.Equal(b, want[:n]) {
			return false
		}
		s := record.Span{Offset: at, Length: n}
		if in != own {
			s.Stored, s.SHA256 = in.Stored, in.SHA256
		}
		spans, want = append(spans, s), want[n:]
		return true
	}
	if local.Length > len(want) || local.Length > 0 && !holds(own, local.Offset, local.Length) {
		return nil
	}
	next := make([]byte, 4)
	if _, err := own.Bytes.ReadAt(next, row.Offset+int64(row.Length)-4); err != nil && len(want) > 0 {
		return nil
	}
	for len(want) > 0 {
		n := binary.BigEndian.Uint32(next)
		if n == 0 || n > f.Pages {
			return nil
		}
		page := f.Current(n)
		in := src.of(page.Part)
		if _, err := in.Bytes.ReadAt(next, page.Offset); err != nil || !holds(in, page.Offset+4, min(len(want), f.Usable()-4)) {
			return nil
		}
	}
	return spans
}

// given is where something of a record was read from.
type given struct {
	what string
	at   spot
}

// lookUp reads into a record what other rows say of it, and tells where these lie.
func (rd *Reading) lookUp(r *record.Record, c columns, look *joins) (gave []given) {
	note := func(what string, at []spot) {
		for _, s := range at {
			gave = append(gave, given{what, s})
		}
	}
	if p := rd.Conversation; p != nil && p.Lookup != "" && r.Thread() != "" {
		title, at := look.find(p.Lookup, r.Thread())
		r.Conversation.Title = title
		note("the conversation's title", at)
	}
	for _, p := range rd.handles() {
		k, ok := p.value(c.get, c.enc)
		if p.Lookup == "" || !ok {
			continue
		}
		handles, at := look.find(p.Lookup, k)
		rd.parties(r, p, handles)
		note("a handle", at)
	}
	for i := range rd.Facts {
		f := &rd.Facts[i]
		k, ok := f.value(c.get, c.enc)
		if f.Lookup == "" || !ok {
			continue
		}
		if v, at := look.find(f.Lookup, k); v != "" {
			r.Facts = append(r.Facts, record.Fact{Name: f.Name, Value: v})
			note("the fact "+f.Name, at)
		}
	}
	for i := range rd.Attachments {
		a := &rd.Attachments[i]
		if a.Table == "" {
			continue
		}
		if k, ok := c.text(a.Of); ok {
			for _, f := range look.attached[attachedTo{a, k}] {
				r.Attachments = append(r.Attachments, f.Attachment)
				gave = append(gave, given{"an attachment", f.at})
			}
		}
	}
	return gave
}

// read reads into a record what its row alone says.
func (rd *Reading) read(r *record.Record, get getter, enc sqlitefile.Encoding) {
	moment := func(role string, p *Part) {
		v, ok := get(p.Column)
		enc := enc // of what lies within JSON another
		if ok {
			v, enc, ok = p.counted(v, enc)
		}
		if ok {
			at := record.Time{Role: role, Stored: p.epoch.original(v, enc)}
			if t, ok := p.epoch.Time(v, enc); ok {
				at.At = &t
			}
			r.Times = append(r.Times, at)
		}
	}
	if rd.Time != nil {
		moment(rd.Kind.About().Time, rd.Time)
	}
	for i := range rd.Times {
		moment(rd.Times[i].Role, &rd.Times[i].Part)
	}
	if p := rd.Conversation; p != nil {
		r.Conversation = &record.Conversation{}
		_, survived := get(p.Column)
		r.Conversation.Lost = !survived
		if s, ok := p.value(get, enc); ok {
			r.Conversation.Key = s
		}
	}
	if s, ok := rd.Direction.value(get, enc); ok {
		r.Direction = s
	}
	for _, p := range rd.handles() {
		if s, ok := p.value(get, enc); ok && p.Lookup == "" {
			rd.parties(r, p, s)
		}
	}
	// Of a text that is lost in part, the part that is there is shown; the record's
	// origin names the column as lost.
	r.Text, _ = rd.Text.value(get, enc)
	for i := range rd.Facts {
		f := &rd.Facts[i]
		if v, ok := f.value(get, enc); ok && f.Lookup == "" {
			fact := record.Fact{Name: f.Name, Value: v}
			if f.Words == nil {
				fact.Unit = f.unit
			}
			r.Facts = append(r.Facts, fact)
		}
	}
	rd.place(r, get, enc)
	for i := range rd.Attachments {
		if a := &rd.Attachments[i]; a.Table == "" {
			if f, ok := a.read(get, enc); ok {
				r.Attachments = append(r.Attachments, f)
			}
		}
	}
}

// place reads where a record says that something was.
func (rd *Reading) place(r *record.Record, get getter, enc sqlitefile.Encoding) {
	if rd.Place == nil {
		return
	}
	var n [4]*float64
	for i, p := range rd.Place.parts() {
		if s, ok := p.value(get, enc); ok {
			if f, err := strconv.ParseFloat(s, 64); err == nil {
				n[i] = &f
			}
		}
	}
	if n[0] == nil || n[1] == nil {
		return
	}
	var stored [2]string
	for i, p := range rd.Place.parts()[:2] {
		bare := *p
		bare.per = 0
		stored[i], _ = bare.value(get, enc)
	}
	at := &record.Place{Latitude: *n[0], Longitude: *n[1], Accuracy: n[2], Altitude: n[3], Stored: stored[0] + ", " + stored[1]}
	if at.Known() {
		r.Place = at
	} else {
		r.Facts = append(r.Facts, record.Fact{Name: record.NoPlace, Value: at.Stored})
	}
}

// parties gives a record those whose handles a list names, as a part of the reading says.
func (rd *Reading) parties(r *record.Record, p *Part, handles string) {
	role, known := map[string]string{"in": "from", "out": "to"}[r.Direction]
	switch {
	case rd.Kind.Card():
		role = "card"
	case !known:
		role = "with"
	}
	for i := range rd.Parties {
		if p == &rd.Parties[i].Part {
			role = rd.Parties[i].Role
		}
	}
	for _, h := range people.Split(handles) {
		r.Parties = append(r.Parties, record.Party{Role: role, Handle: h})
	}
}

// maxOthers is how many other places of a row version are listed.
const maxOthers = 8

// origin is the trail from a row to its bytes, which it reads and hashes.
func origin(row *salvage.Row, src *Source) (record.Origin, error) {
	src = src.of(row.Part)
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
	var err error
	o.Digest, err = src.digest(row.Offset, row.Length)
	return o, err
}

// digest is the SHA-256 of bytes of a file, hex.
func (src *Source) digest(offset int64, length int) (string, error) {
	b := make([]byte, length)
	if _, err := src.Bytes.ReadAt(b, offset); err != nil && err != io.EOF {
		return "", fmt.Errorf("fieldmap: reading the bytes of a row at offset %d of %s: %w", offset, src.Path, err)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:]), nil
}

// of is the file that a part of a database lies in.
func (src *Source) of(part sqlitefile.Part) *Source {
	if p := map[sqlitefile.Part]*Source{sqlitefile.Log: src.Log, sqlitefile.Journal: src.Journal}[part]; p != nil {
		return p
	}
	return src
}
