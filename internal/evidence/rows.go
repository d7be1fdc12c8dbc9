package evidence

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"crosswind/core/fieldmap"
	"crosswind/core/salvage"
	"crosswind/core/scope"
	"crosswind/core/sqlitefile"
	"crosswind/internal/recovery"
	"crosswind/internal/store"
)

// Rows are the rows of a database that may be seen, live ones and recovered ones together.
type Rows struct {
	Tables   []*Table // in the schema's order; last, without a name, the rows whose table cannot be told
	Full     bool     // also from pages that nothing refers to
	Withheld int      // rows that may not be seen
	Why      string   // why they may not, "" if nothing is limited
	Cut      bool     // there are more rows than are held
	Encoding sqlitefile.Encoding
	Notes    []string // what is wrong with the database
}

// Table is a table with its rows.
type Table struct {
	*sqlitefile.Table // nil of the rows whose table cannot be told
	Rows              []*Row
	Live, Below       int
	name              string
}

// Row is a row, and the record that it became.
type Row struct {
	*salvage.Row
	Record int64 // 0 if it became none, or none that may be seen
}

// What of a database is held at a time.
const (
	maxRows     = 200_000
	maxRowBytes = 64 << 20
)

// rowAt names a row: a live one by its table and row id, others by where the cell lies.
type rowAt struct {
	table  string
	id     string
	part   sqlitefile.Part
	offset int64
}

func nameOf(r *salvage.Row) rowAt {
	if r.Live && r.HasRowID && r.Table != nil {
		return rowAt{table: r.Table.Name, id: strconv.FormatInt(r.RowID, 10)}
	}
	return rowAt{part: r.Part, offset: r.Offset}
}

// Rows reads the rows of a database of an acquisition, as its latest recovery did. Where something is limited, only
// those that became a record which the gate admits can be told to be within it.
func (d *Door) Rows(ctx context.Context, caseID int64, a *store.Acquisition, path string) (*Rows, error) {
	g, err := d.store.Gate(ctx, caseID)
	if err != nil {
		return nil, err
	}
	full, err := d.store.ReadFully(ctx, a.ID, path)
	if err != nil {
		return nil, err
	}
	view := g.View(scope.Reading{Full: full, LiveOnly: a.LiveOnly}, nil)
	out := &Rows{Why: view.Why()}
	latest, err := d.store.LatestRecovery(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	records, err := d.recordsAt(ctx, caseID, a, path)
	if err != nil {
		return nil, err
	}
	db, err := d.reader().OpenDatabase(ctx, a.ID, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	out.Full, out.Encoding = latest.FullPass, db.Encoding
	tables, err := db.Tables()
	out.note(err)
	byName := map[string]*Table{}
	for _, t := range tables {
		if t.Root != 1 { // the schema's own
			byName[t.Name] = &Table{Table: t, name: t.Name}
			out.Tables = append(out.Tables, byName[t.Name])
		}
	}
	if !view.Whole() && !full {
		return out, nil
	}
	held, n := 0, 0
	for row, err := range db.Survey().Rows(salvage.Options{Live: true, Full: out.Full, Seen: func(int64) bool { return ctx.Err() == nil }}) {
		if err != nil {
			out.note(err)
			continue
		}
		id := records[nameOf(row)]
		if !view.Whole() && id == 0 {
			out.Withheld++
			continue
		}
		for _, v := range row.Values {
			held += 64 + len(v.Bytes())
		}
		if n++; held > maxRowBytes || n > maxRows {
			out.Cut = true
			break
		}
		name := ""
		if row.Table != nil {
			name = row.Table.Name
			if t := byName[name]; t == nil || len(t.Columns) < len(row.Values) {
				name += " (dropped)"
			}
		}
		t := byName[name]
		if t == nil || t.Table != nil && len(t.Columns) < len(row.Values) { // of several of the name that with most columns
			if t == nil {
				t = &Table{name: name}
				byName[name] = t
				out.Tables = append(out.Tables, t)
			}
			t.Table = row.Table
		}
		if row.Live {
			t.Live++
		} else {
			t.Below++
		}
		t.Rows = append(t.Rows, &Row{row.Clone(), id})
	}
	return out, ctx.Err()
}

const maxNotes = 20

func (r *Rows) note(err error) {
	if err != nil && len(r.Notes) < maxNotes {
		r.Notes = append(r.Notes, err.Error())
	}
}

// recordsAt are the records of a database that the gate admits, by their rows.
func (d *Door) recordsAt(ctx context.Context, caseID int64, a *store.Acquisition, path string) (map[rowAt]int64, error) {
	all, err := d.store.RecordCells(ctx, caseID, a.ID, path)
	if err != nil {
		return nil, err
	}
	out := make(map[rowAt]int64, len(all))
	for i := range all {
		r := &all[i]
		if !r.Placed() {
			if r.RowID != nil {
				out[rowAt{table: r.Table, id: *r.RowID}] = r.ID
			}
			continue
		}
		for _, part := range []sqlitefile.Part{sqlitefile.Main, sqlitefile.Log, sqlitefile.Journal} {
			if *r.Path == path+part.Suffix() {
				out[rowAt{part: part, offset: *r.Offset}] = r.ID
			}
		}
	}
	return out, nil
}

// Try says what a field map would make of a database, as far as it may be seen.
func (d *Door) Try(ctx context.Context, c *store.Case, a *store.Acquisition, path string, m *fieldmap.Map) (*recovery.Trial, error) {
	return d.reader().Try(ctx, c, a, path, m)
}

// Columns learns what the columns of a table look like from all its live rows. What comes of it tells no value: a row
// that may not be seen is counted only.
func (d *Door) Columns(ctx context.Context, a *store.Acquisition, path, table, country string, from, to time.Time) (*fieldmap.Columns, []*sqlitefile.Table, error) {
	db, err := d.reader().OpenDatabase(ctx, a.ID, path)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	tables, err := db.Tables()
	for _, t := range tables {
		if t.Name != table || db.Adopted() {
			continue
		}
		c := fieldmap.NewColumns(t, db.Encoding, country, from, to)
		var keys []*fieldmap.Key
		for _, other := range tables {
			k, ok := fieldmap.KeyOf(other)
			if !ok || other.Name == table || len(keys) == mostKeyTables {
				continue
			}
			n := 0
			for row, err := range db.Rows(other) {
				if n++; n > learnedRows || ctx.Err() != nil {
					break
				}
				if err == nil {
					k.See(row.Values, db.Encoding)
				}
			}
			keys = append(keys, k)
		}
		c.Refer(keys)
		n := 0
		for row, err := range db.Rows(t) {
			if n++; n > learnedRows || ctx.Err() != nil {
				break
			}
			if err == nil {
				c.See(row.Values)
			}
		}
		return c, tables, ctx.Err()
	}
	return nil, tables, err
}

// learnedRows is how many rows of a table tell what columns look like, and mostKeyTables of how many other tables.
const (
	learnedRows   = 50_000
	mostKeyTables = 60
)

// At finds the row whose cell lies at an offset of a part, nil if there is none.
func (t *Table) At(part, offset string) *Row {
	for _, r := range t.Rows {
		if fmt.Sprint(int(r.Part)) == part && fmt.Sprint(r.Offset) == offset {
			return r
		}
	}
	return nil
}

// Called is the table's name, "" of rows whose table cannot be told; of one that is not in the schema any more it says so.
func (t *Table) Called() string { return t.name }
