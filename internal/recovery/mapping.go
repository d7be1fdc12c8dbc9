package recovery

import (
	"encoding/binary"
	"encoding/json"
	"slices"
	"strings"

	"crosswind/core/fieldmap"
	"crosswind/core/gap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/sqlitefile"
	"crosswind/internal/store"
)

// maxListed bounds the recovered rows of one database that are listed by page; all
// are counted and drawn.
const maxListed = 100000

// mapping counts the recovered rows of a database, by page, table and origin.
type mapping struct {
	survey *salvage.Survey
	source *fieldmap.Source
	cells  []byte
	tables []string
	of     map[string]int // of each table, its index in tables
	tally  map[[2]string]*store.Tally
	others map[string]int64 // rows that no reading makes records of, by origin in words
	list   []store.FoundRow
	rows   int
	gone   map[string]gap.Known // of recovered rows, by table
	held   map[record.Kind][]int64
}

func newMapping(s *salvage.Survey, src *fieldmap.Source) *mapping {
	m := &mapping{survey: s, source: src, of: map[string]int{}, tally: map[[2]string]*store.Tally{}, others: map[string]int64{}, gone: map[string]gap.Known{}, held: map[record.Kind][]int64{},
		cells: make([]byte, store.MapCell*int(s.File().Pages))}
	for n := range s.File().Pages {
		use, table := s.Page(n + 1)
		c := m.cell(int64(n) + 1)
		c[0] = byte(use)
		if table != "" {
			if i := m.table(table) + 1; i <= 65535 { // a map names so many tables, and leaves the others open
				binary.LittleEndian.PutUint16(c[3:], uint16(i))
			}
		}
	}
	return m
}

func (m *mapping) table(name string) int {
	i, ok := m.of[name]
	if !ok {
		i = len(m.tables)
		m.of[name], m.tables = i, append(m.tables, name)
	}
	return i
}

// cell is what the map says of a page; pages beyond the database's end are added.
func (m *mapping) cell(page int64) []byte {
	if page < 1 || page > int64(max(m.survey.File().Pages, m.survey.File().Stored())) {
		return make([]byte, store.MapCell) // a page that is nowhere: a frame claims it
	}
	at := store.MapCell * int(page-1)
	if at+store.MapCell > len(m.cells) {
		m.cells = append(m.cells, make([]byte, at+store.MapCell-len(m.cells))...)
	}
	return m.cells[at : at+store.MapCell]
}

// row takes in a row that no reading makes a record of.
func (m *mapping) row(r *salvage.Row) {
	if r.Live {
		return
	}
	f := store.FoundRow{Part: int(r.Part), Page: int64(r.Page), Frame: int64(r.Frame), At: r.Offset, Length: r.Length, Origin: string(r.Origin),
		Confidence: r.Confidence, Uncommitted: r.Uncommitted}
	if r.Table != nil {
		f.Tab = r.Table.Name
	}
	if r.HasRowID {
		id := r.RowID
		f.RowID = &id
	}
	m.others[store.OriginWords(record.Recovered, f.Origin)+otherTables]++
	m.add(f, len(r.Others), func() any { return r.Fields() })
}

// record takes in a record.
func (m *mapping) record(r *record.Record) {
	o := r.Origin()
	if r.State == record.Held && o.RowID != nil {
		m.held[r.Kind] = append(m.held[r.Kind], int64(*o.RowID))
	}
	if o.Place == "live" {
		return
	}
	f := store.FoundRow{Page: int64(o.Page), Frame: int64(o.Frame), At: o.Offset, Length: o.Length, Origin: o.Place, Tab: o.Table, RowID: (*int64)(o.RowID),
		Confidence: o.Confidence, Uncommitted: o.Uncommitted, UID: r.UID}
	for p := sqlitefile.Log; p <= sqlitefile.Journal; p++ {
		if strings.HasSuffix(o.Path, p.Suffix()) {
			f.Part = int(p)
		}
	}
	m.add(f, o.Copies, func() any { return o.Fields })
}

func (m *mapping) add(f store.FoundRow, copies int, fields func() any) {
	m.rows++
	k := m.gone[f.Tab]
	if f.RowID != nil {
		k.Recovered = append(k.Recovered, *f.RowID)
	} else {
		k.Unnumbered++
	}
	m.gone[f.Tab] = k
	by := [2]string{f.Tab, f.Origin}
	if m.tally[by] == nil {
		m.tally[by] = &store.Tally{Table: f.Tab, Origin: f.Origin}
	}
	m.tally[by].Rows++
	m.tally[by].Places += 1 + int64(copies)
	c := m.cell(f.Page)
	if i := slices.Index(salvage.Origins, salvage.Origin(f.Origin)); i >= 0 {
		binary.LittleEndian.PutUint16(c[1:], binary.LittleEndian.Uint16(c[1:])|1<<i)
	}
	if n := binary.LittleEndian.Uint16(c[5:]); n < 65535 {
		binary.LittleEndian.PutUint16(c[5:], n+1)
	}
	if len(m.list) < maxListed {
		b, err := json.Marshal(fields())
		if err == nil {
			f.Fields = b
			m.list = append(m.list, f)
		}
	}
}

// pageMap gives all as it is kept; rows that are outside scope, by their records'
// UIDs, are counted and not listed.
func (m *mapping) pageMap(outside []string) (*store.PageMap, error) {
	hidden := make(map[string]bool, len(outside))
	for _, uid := range outside {
		hidden[uid] = true
	}
	m.list = slices.DeleteFunc(m.list, func(f store.FoundRow) bool { return hidden[f.UID] })
	tally := make([]*store.Tally, 0, len(m.tally))
	for _, t := range m.tally {
		tally = append(tally, t)
	}
	slices.SortFunc(tally, func(a, b *store.Tally) int { return strings.Compare(a.Table+"\x00"+a.Origin, b.Table+"\x00"+b.Origin) })
	b, err := json.Marshal(tally)
	return &store.PageMap{PageSize: m.survey.File().PageSize, Pages: int64(len(m.cells) / store.MapCell), Cells: m.cells, Tables: m.tables, Tally: b, Rows: m.list}, err
}

// numbers works out what the numbers of those tables say of which a map makes records. A holding area is none of these; it
// may keep the numbers of the tables whose rows it holds.
func (m *mapping) numbers(of *fieldmap.Map) ([]*gap.Numbers, error) {
	var tables []string
	known := map[string]gap.Known{}
	for _, r := range of.Readings {
		if r.State == record.Held {
			continue
		}
		if !slices.Contains(tables, r.Table) {
			tables = append(tables, r.Table)
			known[r.Table] = m.gone[r.Table]
		}
		k := known[r.Table]
		k.Elsewhere = append(k.Elsewhere, m.held[r.Kind]...)
		known[r.Table] = k
	}
	return gap.Tables(m.survey.File(), tables, known)
}
