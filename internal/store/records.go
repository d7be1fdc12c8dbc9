package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/core/timeline"
)

// Record is a record as it is kept.
type Record struct {
	ID            int64
	CaseID        int64 `db:"case_id"`
	ExhibitID     int64 `db:"exhibit_id"`
	AcquisitionID int64 `db:"acquisition_id"`
	UID           string
	Kind          record.Kind
	State         record.State
	Place         string
	At            *time.Time
	Thread        string
	ThreadTitle   string `db:"thread_title"`
	Person        string
	Handle        string
	Parties       Array[string] // handles in normal form
	ThreadLost    bool          `db:"thread_lost"`
	DB            string        `db:"db"` // path of the database
	RecoveryID    *int64        `db:"recovery_id"`
	Members       Array[string] // of its conversation, by any reading
	Direction     string
	Summary       string
	Words         string  // that it is found by, as package search writes them
	FieldMap      string  `db:"field_map"`
	Table         string  `db:"tab"` // of its origin
	RowID         *string `db:"row_id"`
	Page          int64
	Latitude      *float64 // degrees, of a record with a place
	Longitude     *float64
	Accuracy      *float64      // metres
	Attached      bool          // files belong to it
	Bytes         *int64        // of the largest of them
	Types         Array[string] // of them
	Hidden        bool          // it, or one of them, lies in a hidden file
	GoneAt        *time.Time    `db:"gone_at"` // when its source says that it was deleted
	Body          string        // the whole record, JSON
	ExhibitRef    string        `db:"exhibit_ref"`
	AcqNo         int           `db:"acq_no"`
	MarkReason    *string       `db:"mark_reason"`
	MarkLabel     string        `db:"mark_label"` // "" if it has none
	MarkBy        *string       `db:"mark_by"`
	MarkAt        *time.Time    `db:"mark_at"`
	Noted         bool          // there is a working note of it
	Key           string        // by which it is listed, see Order
}

// Whole gives the record with its origin.
func (r Record) Whole() (*record.Record, error) {
	w := &record.Record{}
	if err := json.Unmarshal([]byte(r.Body), w); err != nil {
		return nil, fmt.Errorf("record %d: %w", r.ID, err)
	}
	return w, nil
}

const recordFrom = ` FROM record r JOIN exhibit e ON e.id = r.exhibit_id JOIN acquisition q ON q.id = r.acquisition_id LEFT JOIN mark m ON m.record_id = r.id
  LEFT JOIN record_whole w ON w.record_id = r.id WHERE `
const recordSelect = `SELECT r.*, coalesce(w.body, '') AS body, e.reference AS exhibit_ref, q.number AS acq_no, m.reason AS mark_reason, coalesce(m.label, '') AS mark_label, m.by AS mark_by, m.at AS mark_at,
  EXISTS (SELECT FROM working_note n WHERE n.acquisition_id = r.acquisition_id AND n.uid = r.uid) AS noted,
  ` + membersOf + recordFrom

// gateSelect reads of a record what the gate asks of it, and where it comes from.
const gateSelect = `SELECT r.id, r.case_id, r.exhibit_id, r.acquisition_id, r.kind, r.state, r.place, r.at, r.thread, r.thread_lost, r.parties, r.db, r.tab, r.row_id,
  ` + membersOf + ` FROM record r WHERE `

const membersOf = "ARRAY(SELECT k.member FROM conversation_member k WHERE k.exhibit_id = r.exhibit_id AND k.db = r.db AND k.thread = r.thread AND r.thread <> '' ORDER BY 1) AS members"

// byExhibit is the order of the exhibits' references, which is not one of records: they are listed exhibit by exhibit.
const byExhibit = "e.reference"

// Orders are what records can be listed by, beside their time, with how that is written as a text whose bytes are compared: as
// the indexes have it, and no longer than an index takes.
var Orders = map[string]string{
	"kind":    "r.kind",
	"people":  "lower(left(coalesce(nullif(r.person, ''), r.handle), 100))",
	"what":    "lower(left(r.summary, 100))",
	"state":   "r.state || ' ' || r.place",
	"exhibit": byExhibit,
	"file":    "left(r.db, 400)",
	"bytes":   "lpad(coalesce(r.bytes, 0)::text, 19, '0')",
}

// Order is what records are listed by: one of Orders, or "" for time, by which those of one key are listed, too.
type Order struct {
	By   string
	Down bool // the last first
}

// After is where a page of records in an order goes on: after this key, time and id. Without an id it is the first.
type After struct {
	Order
	Key string // "" in order of time
	At  time.Time
	ID  int64
}

// Compare compares places in one list.
func (a After) Compare(b After) int {
	c := cmp.Or(cmp.Compare(a.Key, b.Key), a.At.Compare(b.At), cmp.Compare(a.ID, b.ID))
	if a.Down {
		return -c
	}
	return c
}

// After is where a list in an order goes on behind r, which has a time.
func (r *Record) After(o Order) After { return After{o, r.Key, *r.At, r.ID} }

// Records lists records in the order that after has, and says where the next page begins, nil if
// this is the last. Records without a time come under no window; they are listed by
// Untimed.
func (s *Store) Records(ctx context.Context, f Filter, after After, limit int) (out []Record, next *After, err error) {
	if after.By == "exhibit" {
		return s.recordsByExhibit(ctx, f, after, limit)
	}
	if after.By != "" || f.ID != 0 {
		return s.listed(ctx, f, after, limit)
	}
	t, ok, err := s.soonest(ctx, f, func(ctx context.Context) (err error) {
		out, next, err = s.listed(ctx, f, after, limit)
		return err
	})
	if ok {
		var ids []int64
		ids, next = t.page(&f, after, limit)
		sel := strings.Replace(recordSelect, " FROM record r ", " FROM unnest($1::bigint[]) WITH ORDINALITY k(id, n) JOIN record r ON r.id = k.id ", 1)
		out, err = s.records(ctx, f.CaseID, "listing records", nil, sel+"true ORDER BY k.n", Array[int64](ids).param())
	}
	return out, next, err
}

// listed is Records in an order of the database's.
func (s *Store) listed(ctx context.Context, f Filter, after After, limit int) (out []Record, next *After, err error) {
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, nil, err
	}
	key, known := Orders[after.By]
	if key = "(" + key + `) COLLATE "C"`; after.By == "" {
		key = "''"
	} else if !known {
		return nil, nil, fmt.Errorf("records are not listed by %q", after.By)
	}
	up, way := ">", ""
	if after.Down {
		up, way = "<", " DESC"
	}
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	switch {
	case after.ID == 0:
	case after.By == "":
		q += " AND (r.at, r.id) " + up + " (" + arg(after.At) + ", " + arg(after.ID) + ")"
	default:
		q += " AND (" + key + ", r.at, r.id) " + up + " (" + arg(after.Key) + ", " + arg(after.At) + ", " + arg(after.ID) + ")"
	}
	by := "r.at" + way + ", r.id" + way
	if after.By != "" {
		by = "key" + way + ", " + by
	}
	// The page is chosen before what is beside its records is read.
	page := "SELECT r.id, " + key + " AS key" + f.countFrom() + q + " AND r.at IS NOT NULL ORDER BY " + by + " LIMIT " + arg(limit)
	sel := strings.Replace(recordSelect, "SELECT r.*,", "SELECT r.*, k.key,", 1)
	sel = strings.Replace(sel, " FROM record r ", " FROM ("+page+") k JOIN record r ON r.id = k.id ", 1)
	out, err = s.records(ctx, f.CaseID, "listing records", func(last *Record, n int) {
		if n == limit {
			a := last.After(after.Order)
			next = &a
		}
	}, sel+"true ORDER BY "+by, args...)
	return out, next, err
}

// recordsByExhibit is Records in the order of the exhibits' references, and within one of time.
func (s *Store) recordsByExhibit(ctx context.Context, f Filter, after After, limit int) (out []Record, next *After, err error) {
	all, err := s.Exhibits(ctx, f.CaseID)
	if err != nil {
		return nil, nil, err
	}
	slices.SortFunc(all, func(a, b Exhibit) int {
		if after.Down {
			a, b = b, a
		}
		return strings.Compare(a.Reference, b.Reference)
	})
	for _, e := range all {
		from := After{Order: Order{Down: after.Down}}
		if after.ID != 0 {
			c := strings.Compare(e.Reference, after.Key)
			if c < 0 && !after.Down || c > 0 && after.Down {
				continue
			}
			if c == 0 {
				from.At, from.ID = after.At, after.ID
			}
		}
		one := f
		if f.Exhibit != 0 && f.Exhibit != e.ID || len(f.Exhibits) > 0 && !slices.Contains(f.Exhibits, e.ID) {
			continue
		}
		one.Exhibit, one.Exhibits = e.ID, nil
		for more := &from; more != nil && len(out) < limit; {
			var page []Record
			if page, more, err = s.Records(ctx, one, *more, limit-len(out)); err != nil {
				return nil, nil, err
			}
			for _, r := range page {
				r.Key = e.Reference
				out = append(out, r)
			}
			if more != nil {
				next = &After{after.Order, e.Reference, more.At, more.ID}
			}
		}
		if len(out) >= limit {
			return out, next, nil
		}
	}
	return out, nil, nil
}

// records lists records that may be seen: each passes the gate as the authorities are
// now. What a reading kept is within scope already; this is the second lock. read, if not
// nil, is told of the last record that was read and of their number.
func (s *Store) records(ctx context.Context, caseID int64, what string, read func(*Record, int), q string, args ...any) (out []Record, err error) {
	if err := s.list(ctx, &out, what, q, args...); err != nil {
		return nil, err
	}
	if n := len(out); n > 0 && read != nil {
		read(&out[n-1], n)
	}
	return s.admitted(ctx, caseID, out)
}

// admitted leaves of records those that may be seen.
func (s *Store) admitted(ctx context.Context, caseID int64, out []Record) ([]Record, error) {
	gate, err := s.Gate(ctx, caseID)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(out, func(r Record) bool { return gate.Record(r.Subject()) != scope.Admitted }), nil
}

// Subject is what the gate asks of the record.
func (r *Record) Subject() scope.Subject {
	return scope.Subject{Kind: r.Kind, At: r.At, Parties: r.Parties, Members: r.Members, Lost: r.ThreadLost, Place: r.Place}
}

// Untimed lists records whose time did not survive, after the one with an id, and says
// after which one the next page begins, 0 if this is the last.
func (s *Store) Untimed(ctx context.Context, f Filter, after int64, limit int) (out []Record, next int64, err error) {
	q, args, err := s.where(ctx, &f, false)
	if err != nil {
		return nil, 0, err
	}
	args = append(args, after, limit)
	out, err = s.records(ctx, f.CaseID, "listing records without a time", func(last *Record, n int) {
		if n == limit {
			next = last.ID
		}
	}, recordSelect+q+fmt.Sprintf(" AND r.at IS NULL AND r.id > $%d ORDER BY r.id LIMIT $%d", len(args)-1, len(args)), args...)
	return out, next, err
}

// UntimedBefore lists the last of what Untimed lists before the record with an id, in its order, and says before which id the page
// before begins, 0 if this is the first.
func (s *Store) UntimedBefore(ctx context.Context, f Filter, before int64, limit int) (out []Record, next int64, err error) {
	q, args, err := s.where(ctx, &f, false)
	if err != nil {
		return nil, 0, err
	}
	args = append(args, before, limit+1)
	out, err = s.records(ctx, f.CaseID, "listing records without a time", func(last *Record, n int) {
		if n > limit {
			next = last.ID + 1
		}
	}, recordSelect+q+fmt.Sprintf(" AND r.at IS NULL AND r.id < $%d ORDER BY r.id DESC LIMIT $%d", len(args)-1, len(args)), args...)
	out = slices.DeleteFunc(out, func(r Record) bool { return r.ID < next })
	slices.Reverse(out)
	return out, next, err
}

// Kinds lists the kinds of which a case has records, in the order of the table of kinds.
func (s *Store) Kinds(ctx context.Context, caseID int64) ([]record.Kind, error) {
	var there []record.Kind
	err := s.list(ctx, &there, "listing the kinds of records", "SELECT DISTINCT kind FROM record_sum WHERE case_id = $1", caseID)
	return slices.DeleteFunc(record.Kinds(), func(k record.Kind) bool { return !slices.Contains(there, k) }), err
}

// CountUntimed counts the records of a filter whose time did not survive.
func (s *Store) CountUntimed(ctx context.Context, f Filter) (n int64, err error) {
	q, args, err := s.where(ctx, &f, false)
	if err != nil {
		return 0, err
	}
	err = s.get(ctx, &n, "counting records without a time", "SELECT count(*)"+f.countFrom()+q+" AND r.at IS NULL", args...)
	return n, err
}

// Months lists the months in which a filter has records, in order of time. They are
// counted only where that matters, since that reads all records: if some lie apart.
func (s *Store) Months(ctx context.Context, f Filter) (out []timeline.Month, err error) {
	q, args, err := s.where(ctx, &f, false)
	if err != nil {
		return nil, err
	}
	from := "SELECT date_trunc('month', r.at, 'UTC')" + f.countFrom() + q + " AND r.at "
	err = s.list(ctx, &out, "listing the months of records", `WITH RECURSIVE month(at) AS (
  (`+from+`IS NOT NULL ORDER BY r.at LIMIT 1)
  UNION ALL
  SELECT (`+from+`>= (month.at AT TIME ZONE 'UTC' + interval '1 month') AT TIME ZONE 'UTC' ORDER BY r.at LIMIT 1) FROM month WHERE month.at IS NOT NULL
) SELECT at, 1::bigint AS n FROM month WHERE at IS NOT NULL`, args...)
	if err != nil || !timeline.Apart(out) {
		return out, err
	}
	out = nil
	err = s.list(ctx, &out, "counting records by month", "SELECT date_trunc('month', r.at, 'UTC') AS at, count(*) AS n"+f.countFrom()+q+" AND r.at IS NOT NULL GROUP BY 1 ORDER BY 1", args...)
	return out, err
}

// Extent gives the times of the first and the last record of a filter.
func (s *Store) Extent(ctx context.Context, f Filter) (first, last *time.Time, err error) {
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, nil, err
	}
	var w struct{ First, Last *time.Time }
	// With OFFSET 0 what parties have is found by these, and not by trying all records in order of time.
	if len(f.Parties) > 0 {
		err = s.get(ctx, &w, "reading the extent", "SELECT min(at) AS first, max(at) AS last FROM (SELECT r.at"+f.countFrom()+q+" OFFSET 0) x", args...)
	} else {
		err = s.get(ctx, &w, "reading the extent", "SELECT min(r.at) AS first, max(r.at) AS last"+f.countFrom()+q, args...)
	}
	return w.First, w.Last, err
}

// Counts counts the records of a filter by kind and state, in n bins of
// equal length, in whole microseconds, over its window. A bin can come in parts.
func (s *Store) Counts(ctx context.Context, f Filter, n int) (out []timeline.Count, err error) {
	micros := f.To.UnixMicro() - f.From.UnixMicro()
	if micros <= 0 || n <= 0 {
		return nil, nil
	}
	stride := (micros + int64(n) - 1) / int64(n)
	t, ok, err := s.soonest(ctx, f, func(ctx context.Context) (err error) {
		out, err = s.counted(ctx, f, n, stride)
		return err
	})
	if ok {
		out = t.counts(&f, stride)
	}
	return out, err
}

// counted is Counts by the database, in bins of stride microseconds.
func (s *Store) counted(ctx context.Context, f Filter, n int, stride int64) (out []timeline.Count, err error) {
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, err
	}
	args = append(args, fmt.Sprintf("%d microseconds", stride), f.From)
	var rows []struct {
		At    time.Time
		Kind  record.Kind
		State record.State
		N     int
	}
	bin := fmt.Sprintf("SELECT date_bin($%d::interval, r.at, $%d) AS at, r.kind, r.state, ", len(args)-1, len(args))
	by := q + " AND r.at IS NOT NULL GROUP BY 1, 2, 3"
	if f.some() || stride < hourlyFrom {
		err = s.grouped(ctx, &rows, f.Words != "", bin+"count(*) AS n"+f.countFrom()+by, args...)
	} else {
		with, q := hourly(bin, by, f, n, stride, &args)
		err = s.list(ctx, &rows, "counting records", with+q, args...)
	}
	for _, r := range rows {
		out = append(out, timeline.Count{Bin: int((r.At.UnixMicro() - f.From.UnixMicro() + stride/2) / stride), Kind: r.Kind, State: r.State, N: r.N})
	}
	return out, err
}

// hourlyFrom is how long a bin is at least, in microseconds, for its hours to be counted together.
const hourlyFrom = int64(2 * time.Hour / time.Microsecond)

// hourly writes as SQL a count in n bins of records by how many are of each hour; those of hours in which a bin begins, or
// the window ends, are counted themselves.
func hourly(bin, by string, f Filter, n int, stride int64, args *[]any) (with, q string) {
	*args = append(*args, f.From, fmt.Sprintf("%d microseconds", stride), n, f.To)
	k := len(*args)
	return fmt.Sprintf("WITH edge AS MATERIALIZED (SELECT DISTINCT date_trunc('hour', e, 'UTC') AS hour FROM (SELECT $%d::timestamptz + i * $%d::interval AS e FROM generate_series(0, $%d) i UNION SELECT $%d) x) ", k-3, k-2, k-1, k),
		bin + "sum(n)::bigint AS n FROM record_hour r WHERE r.at > '-infinity' AND r.at NOT IN (SELECT hour FROM edge) AND " + by +
			// With OFFSET 0 each edge enters the index: else all records may be held and compared with every edge.
			" UNION ALL " + bin + "count(*) AS n FROM edge CROSS JOIN LATERAL (SELECT * FROM record WHERE case_id = $1 AND at >= edge.hour AND at < edge.hour + interval '1 hour' OFFSET 0) r WHERE " + by
}

// grouped reads records in groups, without sorting them: the database would, since it takes bins for as many as records.
// What words find it finds by their index, even if all records have them: to divide all texts again takes longer than
// anything else.
func (s *Store) grouped(ctx context.Context, dst any, words bool, q string, args ...any) error {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{ReadOnly: true})
	if err == nil {
		defer tx.Rollback()
		set := "SET LOCAL enable_sort = off"
		if words {
			set += "; SET LOCAL enable_seqscan = off"
		}
		_, err = tx.ExecContext(ctx, set)
	}
	if err == nil {
		err = tx.SelectContext(ctx, dst, q, args...)
	}
	if err != nil {
		return fmt.Errorf("reading records in groups: %w", err)
	}
	return nil
}

// RecordByID finds a record of a case.
func (s *Store) RecordByID(ctx context.Context, caseID, id int64) (*Record, error) {
	what := fmt.Sprintf("record %d", id)
	all, err := s.records(ctx, caseID, what, nil, recordSelect+"r.case_id = $1 AND r.id = $2", caseID, id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return &all[0], nil
}

// RecordsByID finds those of some records of a case that may be seen.
func (s *Store) RecordsByID(ctx context.Context, caseID int64, ids []int64) (map[int64]*Record, error) {
	all, err := s.records(ctx, caseID, "finding records", nil, recordSelect+"r.case_id = $1 AND r.id = ANY($2)", caseID, Array[int64](ids).param())
	out := map[int64]*Record{}
	for i := range all {
		out[all[i].ID] = &all[i]
	}
	return out, err
}

// RecordOfFile finds a record that was read from a file of an acquisition, by the file's path on the handset; 0 if there
// is none that may be seen.
func (s *Store) RecordOfFile(ctx context.Context, caseID, acquisition int64, path string) (int64, error) {
	all, err := s.records(ctx, caseID, "a record of "+path, nil, recordSelect+"r.case_id = $1 AND r.acquisition_id = $2 AND r.db = $3 ORDER BY r.page, r.id LIMIT 20", caseID, acquisition, path)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[0].ID, nil
}

// RecordByUID finds a record of an acquisition of a case.
func (s *Store) RecordByUID(ctx context.Context, caseID, acquisition int64, uid string) (*Record, error) {
	return s.oneRecord(ctx, caseID, uid, "r.acquisition_id = $3", acquisition)
}

// RecordOfExhibit finds a record by what a report cites it by: its exhibit's reference, the acquisition's number and its UID.
func (s *Store) RecordOfExhibit(ctx context.Context, caseID int64, exhibit string, number int, uid string) (*Record, error) {
	return s.oneRecord(ctx, caseID, uid, "e.reference = $3 AND q.number = $4", exhibit, number)
}

func (s *Store) oneRecord(ctx context.Context, caseID int64, uid, which string, args ...any) (*Record, error) {
	all, err := s.records(ctx, caseID, "record "+uid, nil, recordSelect+"r.case_id = $1 AND r.uid = $2 AND "+which, append([]any{caseID, uid}, args...)...)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("record %s: %w", uid, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return &all[0], nil
}

// Around lists the conversation of a record, in its own database: n before it and n after.
// A record that is of none, or has no time, has nothing around it.
func (s *Store) Around(ctx context.Context, r *Record, n int) (out []Record, err error) {
	if r.Thread == "" || r.At == nil {
		return nil, nil
	}
	const same = "r.acquisition_id = $1 AND r.db = $7 AND r.kind = $2 AND r.thread = $3 AND r.thread <> '' AND (r.at, r.id)"
	return s.records(ctx, r.CaseID, "reading the conversation", nil, `SELECT * FROM (
  (`+recordSelect+same+` <= ($4, $5) ORDER BY r.at DESC, r.id DESC LIMIT $6)
  UNION ALL
  (`+recordSelect+same+` > ($4, $5) ORDER BY r.at, r.id LIMIT $6)) c ORDER BY at, id`,
		r.AcquisitionID, string(r.Kind), r.Thread, r.At, r.ID, n, r.DB)
}

// Present is what else there is of a record's row.
type Present struct {
	Now       *Record  // the row that is alive, of which the record is an earlier version; nil if there is none
	Elsewhere []Record // the same record in other acquisitions of its exhibit
}

// Present finds what else there is of the rows of records of a case, by their ids.
func (s *Store) Present(ctx context.Context, caseID int64, rs ...Record) (map[int64]*Present, error) {
	var ids, others []int64
	for _, r := range rs {
		ids = append(ids, r.ID)
	}
	var rows []struct{ Of, ID int64 }
	err := s.list(ctx, &rows, "finding other versions of rows", `SELECT o.id AS of, x.id FROM record o CROSS JOIN LATERAL (SELECT r.id FROM record r
  WHERE r.case_id = o.case_id AND r.exhibit_id = o.exhibit_id AND r.db = o.db AND r.kind = o.kind AND r.tab = o.tab AND r.row_id = o.row_id AND r.id <> o.id ORDER BY r.acquisition_id, r.id LIMIT 50) x
WHERE o.case_id = $1 AND o.id = ANY($2) ORDER BY 1, 2`, caseID, Array[int64](ids).param())
	if err != nil {
		return nil, err
	}
	for _, x := range rows {
		others = append(others, x.ID)
	}
	found, err := s.RecordsByID(ctx, caseID, others)
	if err != nil {
		return nil, err
	}
	out := map[int64]*Present{}
	for i := range rs {
		r, p := &rs[i], &Present{}
		out[r.ID] = p
		from, _ := slices.BinarySearchFunc(rows, r.ID, func(x struct{ Of, ID int64 }, id int64) int { return cmp.Compare(x.Of, id) })
		for ; from < len(rows) && rows[from].Of == r.ID; from++ {
			switch x := found[rows[from].ID]; {
			case x == nil: // it may not be seen
			case x.AcquisitionID == r.AcquisitionID && x.State == record.Intact && r.State == record.Earlier:
				p.Now = x
			case x.AcquisitionID != r.AcquisitionID && x.Summary == r.Summary && sameTime(x.At, r.At):
				p.Elsewhere = append(p.Elsewhere, *x)
			}
		}
		slices.SortStableFunc(p.Elsewhere, func(a, b Record) int {
			return cmp.Or(cmp.Compare(a.AcquisitionID, b.AcquisitionID), cmp.Compare(a.ID, b.ID))
		})
	}
	return out, nil
}

func sameTime(a, b *time.Time) bool {
	return a == nil && b == nil || a != nil && b != nil && a.Equal(*b)
}
