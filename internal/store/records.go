package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/scope"
	"crosswind/core/timeline"

	"github.com/jackc/pgx/v5"
)

// Recovery is one reading of an acquisition's databases.
type Recovery struct {
	ID            int64
	AcquisitionID int64 `db:"acquisition_id"`
	RunID         int64 `db:"run_id"`
	FullPass      bool  `db:"full_pass"`
	Authority     int64 `db:"authority_id"` // the last one whose scope was known when it began
	Epoch         int64 `db:"scope_epoch"`  // of the case's scope, when it began
	Tool          string
	StartedAt     time.Time  `db:"started_at"`
	EndedAt       *time.Time `db:"ended_at"`
}

// RecoveredDatabase is what one database gave.
type RecoveredDatabase struct {
	RecoveryID int64 `db:"recovery_id"`
	Path       string
	FieldMap   string `db:"field_map"`
	Live       int64
	ByOrigin   json.RawMessage `db:"by_origin"`
	Notes      Array[string]
	Withheld   json.RawMessage  // outside scope: why to how many
	Whole      bool             // every byte was read, by a full pass
	Map        *PageMap         `db:"-"`
	Outside    []string         `db:"-"` // UIDs of what is withheld: what was kept of it under an earlier scope goes
	Members    fieldmap.Members `db:"-"` // who was seen in its conversations
}

// Origins gives ByOrigin as counts.
func (d *RecoveredDatabase) Origins() map[string]int64 {
	return counts(d.ByOrigin)
}

// OutsideScope gives Withheld as counts.
func (d *RecoveredDatabase) OutsideScope() map[string]int64 { return counts(d.Withheld) }

func counts(b json.RawMessage) map[string]int64 {
	m := map[string]int64{}
	json.Unmarshal(b, &m) // written by SaveDatabase
	return m
}

// RecoveryForRun finds the recovery that a run makes, or begins it. One that began under
// an earlier scope begins again under the present one.
func (s *Store) RecoveryForRun(ctx context.Context, c *Case, run *Run, r Recovery) (got *Recovery, again bool, err error) {
	got = &Recovery{}
	err = s.Held(ctx, run, func(t *Tx) error {
		err := t.GetContext(ctx, &r.Epoch, "SELECT scope_epoch FROM cases WHERE id = $1", c.ID)
		if err == nil {
			err = t.GetContext(ctx, &r.Authority, "SELECT coalesce(max(id), 0) FROM authority WHERE case_id = $1", c.ID)
		}
		if err != nil {
			return fmt.Errorf("reading the scope: %w", err)
		}
		if err := t.exec("beginning the recovery", "INSERT INTO recovery(acquisition_id, run_id, full_pass, authority_id, scope_epoch, tool, started_at) VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (run_id) DO NOTHING",
			r.AcquisitionID, run.ID, r.FullPass, r.Authority, r.Epoch, r.Tool, r.StartedAt); err != nil {
			return err
		}
		if err := t.GetContext(ctx, got, "SELECT * FROM recovery WHERE run_id = $1", run.ID); err != nil {
			return fmt.Errorf("beginning the recovery: %w", err)
		}
		if again = got.Epoch != r.Epoch; again {
			got.Epoch, got.Authority, got.StartedAt = r.Epoch, r.Authority, r.StartedAt
			return t.exec("beginning the recovery again", "UPDATE recovery SET scope_epoch = $2, authority_id = $3, started_at = $4 WHERE id = $1", got.ID, r.Epoch, r.Authority, r.StartedAt)
		}
		return nil
	})
	return got, again, err
}

// LatestRecovery finds the recovery of an acquisition that speaks for it: of those that
// ended the last full pass, or else the last light one.
func (s *Store) LatestRecovery(ctx context.Context, acquisition int64) (*Recovery, error) {
	r := &Recovery{}
	return r, s.get(ctx, r, "recovery", "SELECT * FROM recovery WHERE acquisition_id = $1 AND ended_at IS NOT NULL ORDER BY full_pass DESC, id DESC LIMIT 1", acquisition)
}

// RecoveryByID finds a recovery.
func (s *Store) RecoveryByID(ctx context.Context, id int64) (*Recovery, error) {
	r := &Recovery{}
	return r, s.get(ctx, r, "recovery", "SELECT * FROM recovery WHERE id = $1", id)
}

// ReadFully reports whether a database of an acquisition has been read to its last byte
// by a full pass that ended, under the authorities as they are now.
func (s *Store) ReadFully(ctx context.Context, acquisition int64, path string) (is bool, err error) {
	err = s.get(ctx, &is, "whether "+path+" was read fully", `SELECT EXISTS (SELECT FROM recovery v JOIN recovered_database d ON d.recovery_id = v.id JOIN acquisition a ON a.id = v.acquisition_id
  JOIN cases c ON c.id = a.case_id WHERE v.acquisition_id = $1 AND v.ended_at IS NOT NULL AND v.full_pass AND v.scope_epoch = c.scope_epoch AND d.path = $2 AND d.whole)`, acquisition, path)
	return is, err
}

// RecoveredDatabases lists what the databases of a recovery gave.
func (s *Store) RecoveredDatabases(ctx context.Context, recovery int64) (out []RecoveredDatabase, err error) {
	err = s.list(ctx, &out, "listing the databases", "SELECT * FROM recovered_database WHERE recovery_id = $1 ORDER BY path", recovery)
	return out, err
}

// recordColumns are those that a reading gives.
var recordColumns = []string{"case_id", "exhibit_id", "acquisition_id", "recovery_id", "uid", "kind", "state", "place", "at", "thread", "thread_title", "thread_lost",
	"person", "handle", "parties", "db", "direction", "summary", "body"}

// Changes says what a reading changed of what an earlier one had said of a database.
type Changes struct {
	Again int64 // records whose content is another now
	Gone  int64 // records that it does not find, or that lie outside scope now
}

// SaveDatabase keeps the records of one database that a run reads, as they come, and
// then what it gave, which d says once they have come. What an earlier reading said of a
// record is replaced, and its mark stays. A record that a full pass does not find any
// more, or that an older field map read, goes; so does what lies outside scope as the
// authorities are when the transaction ends, whatever they were when the reading began.
// An error among the records keeps nothing.
func (s *Store) SaveDatabase(ctx context.Context, c *Case, r *Run, a *Acquisition, d *RecoveredDatabase, records iter.Seq2[*record.Record, error]) (ch Changes, err error) {
	err = s.Held(ctx, r, func(t *Tx) error {
		if err := t.exec("keeping records", "CREATE TEMPORARY TABLE incoming (LIKE record) ON COMMIT DROP"); err != nil {
			return err
		}
		if err := t.exec("keeping records", "ALTER TABLE incoming ALTER COLUMN id DROP NOT NULL"); err != nil {
			return err
		}
		if err := t.loadRecords(a, d, records); err != nil {
			return err
		}
		// No statistics are there for what is new in this transaction: without an index
		// every record might be compared with every other.
		if err := t.exec("keeping records", "CREATE INDEX ON incoming (uid)"); err != nil {
			return err
		}
		if err := t.exec("keeping records", "ANALYZE incoming"); err != nil {
			return err
		}
		// From here on the scope stands still.
		if err := t.exec("holding the scope", "SELECT 1 FROM cases WHERE id = $1 FOR SHARE", c.ID); err != nil {
			return err
		}
		if err := t.exec("locking the exhibit", "SELECT 1 FROM exhibit WHERE id = $1 FOR UPDATE", a.ExhibitID); err != nil {
			return err
		}
		if ch, err = t.merge(c, a, d, r.By); err != nil {
			return err
		}
		if err := t.exec("keeping what "+d.Path+" gave", "INSERT INTO recovered_database(recovery_id, path, field_map, live, by_origin, notes, withheld, whole) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) "+
			"ON CONFLICT (recovery_id, path) DO UPDATE SET field_map = excluded.field_map, live = excluded.live, by_origin = excluded.by_origin, notes = excluded.notes, withheld = excluded.withheld, whole = excluded.whole",
			d.RecoveryID, d.Path, d.FieldMap, d.Live, d.ByOrigin, d.Notes.param(), d.Withheld, d.Whole); err != nil {
			return err
		}
		if d.Map != nil {
			d.Map.RecoveryID, d.Map.Path = d.RecoveryID, d.Path
			if err := t.savePageMap(d.Map); err != nil {
				return err
			}
		}
		return t.keepMembers(c, a, d, r.By)
	})
	return ch, err
}

// loadRecords loads records into the table incoming.
func (t *Tx) loadRecords(a *Acquisition, d *RecoveredDatabase, records iter.Seq2[*record.Record, error]) error {
	next, stop := iter.Pull2(records)
	defer stop()
	var fault error // of the records
	err := t.load("incoming", recordColumns, pgx.CopyFromFunc(func() ([]any, error) {
		r, err, ok := next()
		if !ok || err != nil {
			fault = err
			return nil, err
		}
		Keep(r)
		body, err := json.Marshal(r)
		return []any{a.CaseID, a.ExhibitID, a.ID, d.RecoveryID, r.UID, string(r.Kind), string(r.State), r.Origin.Place, r.At, r.Thread, r.ThreadTitle, r.ThreadLost,
			r.Person, r.Handle, Array[string](r.Parties).param(), d.Path, r.Direction, r.Text, body}, err
	}))
	if fault != nil {
		return fault
	}
	if err != nil {
		return fmt.Errorf("loading records: %w", err)
	}
	return nil
}

// Keep makes a record what the database can keep of it, and says so in it.
func Keep(r *record.Record) {
	changed := false
	for _, s := range []*string{&r.Thread, &r.ThreadTitle, &r.Person, &r.Handle, &r.Text} {
		if c := record.Clean(*s); c != *s {
			*s, changed = c, true
		}
	}
	for i := range r.Details {
		if c := record.Clean(r.Details[i].Value); c != r.Details[i].Value {
			r.Details[i].Value, changed = c, true
		}
	}
	if changed {
		r.Details = append(r.Details, record.Detail{Label: "Kept as", Value: "text in which characters that no text can hold are written ␀ or �; the bytes are as they were"})
	}
}

// merge brings the records of the table incoming together with those that are there.
func (t *Tx) merge(c *Case, a *Acquisition, d *RecoveredDatabase, by string) (ch Changes, err error) {
	var again []struct {
		UID    string
		Marked bool
	}
	err = t.SelectContext(t.ctx, &again, `SELECT r.uid, m.record_id IS NOT NULL AS marked FROM record r JOIN incoming i ON i.acquisition_id = r.acquisition_id AND i.uid = r.uid
LEFT JOIN mark m ON m.record_id = r.id WHERE r.acquisition_id = $1 AND r.body <> i.body ORDER BY r.uid`, a.ID)
	if err != nil {
		return ch, fmt.Errorf("comparing with earlier readings: %w", err)
	}
	ch.Again = int64(len(again))
	for _, x := range again {
		if x.Marked {
			if err := t.Log(Act{c.Book(), by, "record.read_again", x.UID, map[string]string{"field_map": d.FieldMap, "marked": "yes"}}); err != nil {
				return ch, err
			}
		}
	}
	list := strings.Join(recordColumns, ", ")
	var set []string
	for _, col := range recordColumns[3:] {
		switch col {
		case "uid":
		case "recovery_id": // a light pass that says the same leaves it to the full one before
			set = append(set, fmt.Sprintf("recovery_id = CASE WHEN record.body = excluded.body AND record.recovery_id IS NOT NULL AND NOT %t THEN record.recovery_id ELSE excluded.recovery_id END", d.Whole))
		default:
			set = append(set, col+" = excluded."+col)
		}
	}
	if err := t.exec("keeping records", "INSERT INTO record("+list+") SELECT DISTINCT ON (uid) "+list+" FROM incoming ORDER BY uid ON CONFLICT (acquisition_id, uid) DO UPDATE SET "+strings.Join(set, ", ")); err != nil {
		return ch, err
	}
	var gone []int64
	err = t.SelectContext(t.ctx, &gone, `SELECT r.id FROM record r WHERE r.acquisition_id = $1 AND (r.uid = ANY($2) OR r.db = $3 AND r.recovery_id IS DISTINCT FROM $4
  AND NOT EXISTS (SELECT FROM incoming i WHERE i.uid = r.uid) AND ($5 OR r.body->'origin'->>'field_map' <> $6))`, a.ID, Array[string](d.Outside).param(), d.Path, d.RecoveryID, d.Whole, d.FieldMap)
	if err != nil {
		return ch, fmt.Errorf("comparing with earlier readings: %w", err)
	}
	ch.Gone = int64(len(gone))
	return ch, t.drop(c, gone, "not found again, or outside scope, by the reading with "+cmp.Or(d.FieldMap, "no field map"), by)
}

// EndRecovery ends a recovery and its run.
func (s *Store) EndRecovery(ctx context.Context, r *Run, v *Recovery, act Act) error {
	return s.change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("ending the recovery", "UPDATE recovery SET ended_at = now() WHERE id = $1", v.ID); err != nil {
			return err
		}
		return t.Log(act)
	}, false)
}

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
	Body          json.RawMessage
	ExhibitRef    string     `db:"exhibit_ref"`
	AcqNo         int        `db:"acq_no"`
	MarkReason    *string    `db:"mark_reason"`
	MarkBy        *string    `db:"mark_by"`
	MarkAt        *time.Time `db:"mark_at"`
}

// Whole gives the record with its origin.
func (r *Record) Whole() (*record.Record, error) {
	w := &record.Record{}
	if err := json.Unmarshal(r.Body, w); err != nil {
		return nil, fmt.Errorf("record %d: %w", r.ID, err)
	}
	return w, nil
}

// Filter narrows records. Zero values narrow nothing.
type Filter struct {
	CaseID   int64
	Exhibit  int64
	From, To time.Time
	Kinds    []string
	State    string // a state's name, or "below" for all that was deleted
	Words    string
	Marked   bool
}

// where writes the filter as SQL over r and m. args grow with it.
func (f *Filter) where(timed bool) (string, []any) {
	q, args := "r.case_id = $1", []any{f.CaseID}
	add := func(cond string, v any) {
		args = append(args, v)
		q += " AND " + strings.ReplaceAll(cond, "$", fmt.Sprintf("$%d", len(args)))
	}
	if f.Exhibit != 0 {
		add("r.exhibit_id = $", f.Exhibit)
	}
	if timed && !f.From.IsZero() {
		add("r.at >= $", f.From)
	}
	if timed && !f.To.IsZero() {
		add("r.at < $", f.To)
	}
	if len(f.Kinds) > 0 {
		add("r.kind = ANY($)", f.Kinds)
	}
	switch f.State {
	case "":
	case "below":
		q += " AND r.state <> 'intact'"
	default:
		add("r.state = $", f.State)
	}
	if f.Words != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Words) + "%"
		add("(r.summary ILIKE $ OR r.person ILIKE $ OR r.handle ILIKE $ OR r.thread_title ILIKE $)", like)
	}
	if f.Marked {
		q += " AND m.record_id IS NOT NULL"
	}
	return q, args
}

const recordFrom = ` FROM record r JOIN exhibit e ON e.id = r.exhibit_id JOIN acquisition q ON q.id = r.acquisition_id LEFT JOIN mark m ON m.record_id = r.id WHERE `
const recordSelect = `SELECT r.*, e.reference AS exhibit_ref, q.number AS acq_no, m.reason AS mark_reason, m.by AS mark_by, m.at AS mark_at,
  ARRAY(SELECT k.member FROM conversation_member k WHERE k.exhibit_id = r.exhibit_id AND k.db = r.db AND k.thread = r.thread AND r.thread <> '' ORDER BY 1) AS members` + recordFrom

// After is where a page of records goes on: after this time and id.
type After struct {
	At time.Time
	ID int64
}

// Records lists records in order of time, and says where the next page begins, nil if
// this is the last. Records without a time come under no window; they are listed by
// Untimed.
func (s *Store) Records(ctx context.Context, f Filter, after After, limit int) (out []Record, next *After, err error) {
	q, args := f.where(true)
	args = append(args, after.At, after.ID, limit)
	n := len(args)
	q += fmt.Sprintf(" AND (r.at, r.id) > ($%d, $%d) ORDER BY r.at, r.id LIMIT $%d", n-2, n-1, n)
	out, err = s.records(ctx, f.CaseID, "listing records", func(last *Record, n int) {
		if n == limit {
			next = &After{*last.At, last.ID}
		}
	}, recordSelect+q, args...)
	return out, next, err
}

// records lists records that may be seen: each passes the gate as the authorities are
// now. What a reading kept is within scope already; this is the second lock. read, if not
// nil, is told of the last record that was read and of their number.
func (s *Store) records(ctx context.Context, caseID int64, what string, read func(*Record, int), q string, args ...any) (out []Record, err error) {
	gate, err := s.Gate(ctx, caseID)
	if err != nil {
		return nil, err
	}
	if err := s.list(ctx, &out, what, q, args...); err != nil {
		return nil, err
	}
	if n := len(out); n > 0 && read != nil {
		read(&out[n-1], n)
	}
	return slices.DeleteFunc(out, func(r Record) bool { return gate.Record(r.Subject()) != scope.Admitted }), nil
}

// Subject is what the gate asks of the record.
func (r *Record) Subject() scope.Subject {
	return scope.Subject{Kind: r.Kind, At: r.At, Parties: r.Parties, Members: r.Members, Lost: r.ThreadLost}
}

// Untimed lists records whose time did not survive, after the one with an id, and says
// after which one the next page begins, 0 if this is the last.
func (s *Store) Untimed(ctx context.Context, f Filter, after int64, limit int) (out []Record, next int64, err error) {
	q, args := f.where(false)
	args = append(args, after, limit)
	out, err = s.records(ctx, f.CaseID, "listing records without a time", func(last *Record, n int) {
		if n == limit {
			next = last.ID
		}
	}, recordSelect+q+fmt.Sprintf(" AND r.at IS NULL AND r.id > $%d ORDER BY r.id LIMIT $%d", len(args)-1, len(args)), args...)
	return out, next, err
}

// Count counts the records that a filter leaves.
func (s *Store) Count(ctx context.Context, f Filter) (c struct{ All, Below, Untimed int64 }, err error) {
	q, args := f.where(true)
	if err := s.get(ctx, &c, "counting records", "SELECT count(*) AS all, count(*) FILTER (WHERE r.state <> 'intact') AS below, 0::bigint AS untimed"+recordFrom+q+" AND r.at IS NOT NULL", args...); err != nil {
		return c, err
	}
	q, args = f.where(false)
	err = s.get(ctx, &c.Untimed, "counting records", "SELECT count(*)"+recordFrom+q+" AND r.at IS NULL", args...)
	return c, err
}

// Months counts the records of a filter by month, in order of time.
func (s *Store) Months(ctx context.Context, f Filter) (out []timeline.Month, err error) {
	q, args := f.where(false)
	err = s.list(ctx, &out, "counting records by month", "SELECT date_trunc('month', r.at, 'UTC') AS at, count(*) AS n"+recordFrom+q+" AND r.at IS NOT NULL GROUP BY 1 ORDER BY 1", args...)
	return out, err
}

// Extent gives the times of the first and the last record of a filter.
func (s *Store) Extent(ctx context.Context, f Filter) (first, last *time.Time, err error) {
	q, args := f.where(true)
	var w struct{ First, Last *time.Time }
	err = s.get(ctx, &w, "reading the extent", "SELECT min(r.at) AS first, max(r.at) AS last"+recordFrom+q, args...)
	return w.First, w.Last, err
}

// Events yields what a chart needs of the records of a filter. An error ends
// the sequence and is left in *fault.
func (s *Store) Events(ctx context.Context, f Filter, fault *error) iter.Seq[timeline.Event] {
	q, args := f.where(true)
	return func(yield func(timeline.Event) bool) {
		rows, err := s.db.QueryContext(ctx, "SELECT r.at, r.kind, r.state"+recordFrom+q+" AND r.at IS NOT NULL", args...)
		if err != nil {
			*fault = fmt.Errorf("reading events: %w", err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			var e timeline.Event
			if err := rows.Scan(&e.At, &e.Kind, &e.State); err != nil {
				*fault = fmt.Errorf("reading events: %w", err)
				return
			}
			if !yield(e) {
				return
			}
		}
		*fault = rows.Err()
	}
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

// Around lists the conversation of a record: n before it and n after.
func (s *Store) Around(ctx context.Context, r *Record, n int) (out []Record, err error) {
	return s.records(ctx, r.CaseID, "reading the conversation", nil, `SELECT * FROM (
  (`+recordSelect+`r.acquisition_id = $1 AND r.kind = $2 AND r.thread = $3 AND (r.at, r.id) <= ($4, $5) ORDER BY r.at DESC, r.id DESC LIMIT $6)
  UNION ALL
  (`+recordSelect+`r.acquisition_id = $1 AND r.kind = $2 AND r.thread = $3 AND (r.at, r.id) > ($4, $5) ORDER BY r.at, r.id LIMIT $6)) c ORDER BY at, id`,
		r.AcquisitionID, string(r.Kind), r.Thread, r.At, r.ID, n)
}

// Present finds the row that is alive of which r is an earlier version, and the same
// record in other acquisitions of its exhibit.
func (s *Store) Present(ctx context.Context, r *Record) (now *Record, elsewhere []Record, err error) {
	const sameRow = "r.case_id = $1 AND r.exhibit_id = $2 AND r.db = $3 AND r.kind = $4 AND r.body->'origin'->>'table' = $5 AND r.body->'origin'->>'rowid' = $6"
	w, err := r.Whole()
	if err != nil || w.Origin.RowID == nil {
		return nil, nil, err
	}
	id := fmt.Sprint(*w.Origin.RowID)
	all, err := s.records(ctx, r.CaseID, "finding the row's other versions", nil, recordSelect+sameRow+" AND r.id <> $7 ORDER BY r.acquisition_id, r.id LIMIT 50",
		r.CaseID, r.ExhibitID, r.DB, string(r.Kind), w.Origin.Table, id, r.ID)
	for i := range all {
		x := &all[i]
		switch {
		case x.AcquisitionID == r.AcquisitionID && x.State == record.Intact && r.State == record.Earlier:
			now = x
		case x.AcquisitionID != r.AcquisitionID && x.Summary == r.Summary && sameTime(x.At, r.At):
			elsewhere = append(elsewhere, *x)
		}
	}
	return now, elsewhere, err
}

func sameTime(a, b *time.Time) bool {
	return a == nil && b == nil || a != nil && b != nil && a.Equal(*b)
}

// Mark marks a record with a reason, or changes the reason, which was the one that r
// has. What somebody else wrote meanwhile is not overwritten: ErrConflict.
func (s *Store) Mark(ctx context.Context, c *Case, r *Record, reason, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.unmarkedSince(r); err != nil {
			return err
		}
		at, err := t.log(Act{c.Book(), by, "record.marked", r.UID, map[string]string{"reason": reason, "kind": string(r.Kind), "state": string(r.State), "source": casefile.SourceName(r.ExhibitRef, r.AcqNo)}})
		if err != nil {
			return err
		}
		return t.exec("marking the record", "INSERT INTO mark(record_id, by, at, reason) VALUES ($1, $2, $3, $4) ON CONFLICT (record_id) DO UPDATE SET by = $2, at = $3, reason = $4", r.ID, by, at, reason)
	})
}

// unmarkedSince refuses to change a mark that is not as r has it any more.
func (t *Tx) unmarkedSince(r *Record) error {
	var now []string
	// Locking the record keeps two first marks apart.
	if err := t.exec("locking the record", "SELECT 1 FROM record WHERE id = $1 FOR UPDATE", r.ID); err != nil {
		return err
	}
	if err := t.SelectContext(t.ctx, &now, "SELECT reason FROM mark WHERE record_id = $1", r.ID); err != nil {
		return fmt.Errorf("reading the mark: %w", err)
	}
	if len(now) == 0 != (r.MarkReason == nil) || len(now) == 1 && now[0] != *r.MarkReason {
		return fmt.Errorf("the mark %w", ErrConflict)
	}
	return nil
}

// Unmark takes a mark away.
func (s *Store) Unmark(ctx context.Context, c *Case, r *Record, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.unmarkedSince(r); err != nil {
			return err
		}
		if r.MarkReason == nil {
			return nil
		}
		if err := t.exec("unmarking the record", "DELETE FROM mark WHERE record_id = $1", r.ID); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "record.unmarked", r.UID, map[string]string{"source": casefile.SourceName(r.ExhibitRef, r.AcqNo)}})
	})
}

// Package is a case package that was made.
type Package struct {
	ID     int64
	CaseID int64 `db:"case_id"`
	RunID  int64 `db:"run_id"`
	Name   string
	By     string
	At     time.Time
	Size   int64
	SHA256 string `db:"sha256"`
}

// EndPackage keeps a package and ends its run.
func (s *Store) EndPackage(ctx context.Context, r *Run, p Package, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("keeping the package", "INSERT INTO package(case_id, run_id, name, by, at, size, sha256) VALUES ($1, $2, $3, $4, $5, $6, $7)", p.CaseID, r.ID, p.Name, p.By, p.At, p.Size, p.SHA256); err != nil {
			return err
		}
		return t.Log(act)
	})
}

// Packages lists the packages of a case, the newest first.
func (s *Store) Packages(ctx context.Context, caseID int64) (out []Package, err error) {
	err = s.list(ctx, &out, "listing the packages", "SELECT * FROM package WHERE case_id = $1 ORDER BY id DESC LIMIT 50", caseID)
	return out, err
}

// PackageByID finds a package of a case.
func (s *Store) PackageByID(ctx context.Context, caseID, id int64) (*Package, error) {
	p := &Package{}
	return p, s.get(ctx, p, "package", "SELECT * FROM package WHERE case_id = $1 AND id = $2", caseID, id)
}
