package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"crosswind/core/scope"

	"github.com/jackc/pgx/v5"
)

// PageMap says what each page of a database is for, and what was recovered there.
type PageMap struct {
	RecoveryID int64 `db:"recovery_id"`
	Path       string
	PageSize   int `db:"page_size"`
	Pages      int64
	Cells      []byte        // MapCell bytes a page
	Tables     Array[string] // whose the pages are
	Tally      json.RawMessage
	Rows       []FoundRow `db:"-"`
}

// MapCell is how many bytes each page has in a map: use, origins (two, little
// endian, a bit for each of Origins), table (two: 1 + its index), rows recovered
// (two), and one that is 0.
const MapCell = 8

// Tally counts the recovered rows of a table and an origin.
type Tally struct {
	Table  string `json:"table"`
	Origin string `json:"origin"`
	Rows   int64  `json:"rows"`
	Places int64  `json:"places"` // where they lie: each row version may lie in several
}

// FoundRow is a recovered row.
type FoundRow struct {
	ID          int64
	RecoveryID  int64 `db:"recovery_id"`
	Path        string
	Part        int
	Page        int64
	Frame       int64
	At          int64 // offset in the part's file
	Length      int
	Origin      string
	Tab         string
	RowID       *int64 `db:"row_id"`
	Confidence  float64
	Uncommitted bool
	UID         string // of the record that it became, "" if none
	Fields      json.RawMessage
}

// savePageMap keeps a map and its rows.
func (t *Tx) savePageMap(m *PageMap) error {
	err := t.exec("keeping the page map of "+m.Path, "INSERT INTO page_map(recovery_id, path, page_size, pages, cells, tables, tally) VALUES ($1, $2, $3, $4, $5, $6, $7) "+
		"ON CONFLICT (recovery_id, path) DO UPDATE SET page_size = excluded.page_size, pages = excluded.pages, cells = excluded.cells, tables = excluded.tables, tally = excluded.tally",
		m.RecoveryID, m.Path, m.PageSize, m.Pages, m.Cells, m.Tables.param(), m.Tally)
	if err == nil {
		err = t.exec("keeping the recovered rows of "+m.Path, "DELETE FROM found_row WHERE recovery_id = $1 AND path = $2", m.RecoveryID, m.Path)
	}
	if err != nil {
		return err
	}
	cols := []string{"recovery_id", "path", "part", "page", "frame", "at", "length", "origin", "tab", "row_id", "confidence", "uncommitted", "uid", "fields"}
	err = t.load("found_row", cols, pgx.CopyFromSlice(len(m.Rows), func(i int) ([]any, error) {
		r := m.Rows[i]
		return []any{m.RecoveryID, m.Path, int16(r.Part), r.Page, r.Frame, r.At, int32(r.Length), r.Origin, r.Tab, r.RowID, float32(r.Confidence), r.Uncommitted, r.UID, []byte(r.Fields)}, nil
	}))
	if err != nil {
		return fmt.Errorf("keeping the recovered rows of %s: %w", m.Path, err)
	}
	return nil
}

// PageMapOf finds the page map of a database.
func (s *Store) PageMapOf(ctx context.Context, recovery int64, path string) (*PageMap, error) {
	m := &PageMap{}
	return m, s.get(ctx, m, "page map of "+path, "SELECT * FROM page_map WHERE recovery_id = $1 AND path = $2", recovery, path)
}

// PageMaps lists the paths of the databases of a recovery of which a map is kept.
func (s *Store) PageMaps(ctx context.Context, recovery int64) (paths []string, err error) {
	err = s.list(ctx, &paths, "listing the page maps", "SELECT path FROM page_map WHERE recovery_id = $1", recovery)
	return paths, err
}

// FoundRows lists the recovered rows of a page, by where they lie.
func (s *Store) FoundRows(ctx context.Context, recovery int64, path string, page int64) (out []FoundRow, err error) {
	err = s.list(ctx, &out, "listing the recovered rows", "SELECT * FROM found_row WHERE recovery_id = $1 AND path = $2 AND page = $3 ORDER BY part, frame, at LIMIT 2000", recovery, path, page)
	return out, err
}

// RecordsOfPage lists the records of a case whose cells lie in a page of a file of an
// acquisition, live and recovered.
func (s *Store) RecordsOfPage(ctx context.Context, caseID, acquisition int64, path string, page int64) (out []Record, err error) {
	return s.records(ctx, caseID, "listing the records of a page", nil, recordSelect+` r.acquisition_id = $1 AND r.db = $2 AND r.page = $3
ORDER BY (w.body::json->'origins'->0->>'offset')::bigint LIMIT 2000`, acquisition, path, page)
}

// RecordCell is a record without its body, and where its row lies: of a live one by its table and row id, of others, and of
// those without a row id, by the cell.
type RecordCell struct {
	Record
	Path   *string `db:"cell_path"`
	Offset *int64  `db:"cell_offset"`
}

// Placed reports whether the cell is given.
func (r *RecordCell) Placed() bool { return r.Path != nil && r.Offset != nil }

// RecordCells lists where the records of a database of an acquisition lie that may be seen.
func (s *Store) RecordCells(ctx context.Context, caseID, acquisition int64, path string) (out []RecordCell, err error) {
	gate, err := s.Gate(ctx, caseID)
	if err != nil {
		return nil, err
	}
	q := strings.Replace(recordSelect, "coalesce(w.body, '')", "''", 1)
	const placed = "SELECT CASE WHEN r.place <> 'live' OR r.row_id IS NULL THEN "
	q = strings.Replace(q, "SELECT ", placed+"w.body::json #>> '{origins,0,path}' END AS cell_path, "+strings.TrimPrefix(placed, "SELECT ")+"(w.body::json #>> '{origins,0,offset}')::bigint END AS cell_offset, ", 1)
	err = s.list(ctx, &out, "listing the cells of a database's records", q+" r.acquisition_id = $1 AND r.db = $2 AND w.body IS NOT NULL", acquisition, path)
	return slices.DeleteFunc(out, func(r RecordCell) bool { return gate.Record(r.Subject()) != scope.Admitted }), err
}

// DatabaseOf is a database of a case, as the reading that speaks for its acquisition gave it.
type DatabaseOf struct {
	RecoveredDatabase
	AcquisitionID int64  `db:"acquisition_id"`
	AcqNo         int    `db:"acq_no"`
	ExhibitRef    string `db:"exhibit_ref"`
	FullPass      bool   `db:"full_pass"`
	Pages         int64
	PageSize      int `db:"page_size"`
	Size          int64
}

// Below is how many of its rows are recovered.
func (d *DatabaseOf) Below() (n int64) {
	for _, k := range d.Origins() {
		n += k
	}
	return n
}

// Databases lists the databases of a case, or of one of its exhibits, by acquisition and path.
func (s *Store) Databases(ctx context.Context, caseID, exhibit int64) (out []DatabaseOf, err error) {
	err = s.list(ctx, &out, "listing the databases", `SELECT d.*, q.id AS acquisition_id, q.number AS acq_no, e.reference AS exhibit_ref, v.full_pass, m.pages, m.page_size, m.pages * m.page_size AS size
FROM acquisition q JOIN exhibit e ON e.id = q.exhibit_id
JOIN LATERAL (SELECT * FROM recovery v WHERE v.acquisition_id = q.id AND `+speaking+`) v ON true
JOIN recovered_database d ON d.recovery_id = v.id JOIN page_map m ON m.recovery_id = v.id AND m.path = d.path
WHERE q.case_id = $1 AND ($2 = 0 OR q.exhibit_id = $2) ORDER BY e.reference, q.number, d.path`, caseID, exhibit)
	return out, err
}
