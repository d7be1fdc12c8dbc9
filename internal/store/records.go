package store

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"strings"
	"time"

	"crosswind/core/record"
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
	Withheld   json.RawMessage // outside scope: why to how many
	Map        *PageMap        `db:"-"`
	Outside    []string        `db:"-"` // UIDs of what is withheld: what was kept of it under an earlier scope goes
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

// RecoveryForRun finds the recovery that a run makes, or begins it.
func (s *Store) RecoveryForRun(ctx context.Context, r Recovery) (*Recovery, error) {
	got := &Recovery{}
	err := s.Change(ctx, func(t *Tx) error {
		if err := t.exec("beginning the recovery", "INSERT INTO recovery(acquisition_id, run_id, full_pass, authority_id, tool, started_at) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (run_id) DO NOTHING",
			r.AcquisitionID, r.RunID, r.FullPass, r.Authority, r.Tool, r.StartedAt); err != nil {
			return err
		}
		return t.GetContext(ctx, got, "SELECT * FROM recovery WHERE run_id = $1", r.RunID)
	})
	return got, err
}

// LatestRecovery finds the last recovery of an acquisition that ended.
func (s *Store) LatestRecovery(ctx context.Context, acquisition int64) (*Recovery, error) {
	r := &Recovery{}
	return r, s.get(ctx, r, "recovery", "SELECT * FROM recovery WHERE acquisition_id = $1 AND ended_at IS NOT NULL ORDER BY id DESC LIMIT 1", acquisition)
}

// RecoveredDatabases lists what the databases of a recovery gave.
func (s *Store) RecoveredDatabases(ctx context.Context, recovery int64) (out []RecoveredDatabase, err error) {
	err = s.list(ctx, &out, "listing the databases", "SELECT * FROM recovered_database WHERE recovery_id = $1 ORDER BY path", recovery)
	return out, err
}

// SaveDatabase keeps the records of one database, as they come, and then what it
// gave, which d says once they have come. A record that is there already stays, and
// with it its mark; what the same recovery said of the database before is replaced. An
// error among the records keeps nothing.
func (s *Store) SaveDatabase(ctx context.Context, a *Acquisition, d *RecoveredDatabase, records iter.Seq2[*record.Record, error]) error {
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return fmt.Errorf("keeping records: %w", err)
	}
	defer tx.Rollback(ctx)
	cols := []string{"case_id", "exhibit_id", "acquisition_id", "uid", "kind", "state", "place", "at", "thread", "thread_title", "person", "handle", "direction", "summary", "body"}
	if _, err := tx.Exec(ctx, "CREATE TEMPORARY TABLE incoming (LIKE record) ON COMMIT DROP; ALTER TABLE incoming ALTER COLUMN id DROP NOT NULL"); err != nil {
		return fmt.Errorf("keeping records: %w", err)
	}
	next, stop := iter.Pull2(records)
	defer stop()
	var fault error // of the records
	_, err = tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, cols, pgx.CopyFromFunc(func() ([]any, error) {
		r, err, ok := next()
		if !ok || err != nil {
			fault = err
			return nil, err
		}
		body, err := json.Marshal(r)
		body = []byte(cleanJSON(body))
		return []any{a.CaseID, a.ExhibitID, a.ID, r.UID, string(r.Kind), string(r.State), r.Origin.Place, r.At, clean(r.Thread), clean(r.ThreadTitle),
			clean(r.Person), clean(r.Handle), r.Direction, clean(r.Text), body}, err
	}))
	if fault != nil {
		return fault
	}
	if err != nil {
		return fmt.Errorf("loading records: %w", err)
	}
	// A later authority may name further privileged people.
	if _, err := tx.Exec(ctx, `WITH gone AS (SELECT id FROM record WHERE acquisition_id = $1 AND uid = ANY($2)), unmarked AS (DELETE FROM mark WHERE record_id IN (SELECT id FROM gone))
DELETE FROM record WHERE id IN (SELECT id FROM gone)`, a.ID, Array[string](d.Outside).param()); err != nil {
		return fmt.Errorf("withholding records: %w", err)
	}
	list := strings.Join(cols, ", ")
	if _, err := tx.Exec(ctx, "INSERT INTO record("+list+") SELECT "+list+" FROM incoming ON CONFLICT (acquisition_id, uid) DO NOTHING"); err != nil {
		return fmt.Errorf("keeping records: %w", err)
	}
	_, err = tx.Exec(ctx, "INSERT INTO recovered_database(recovery_id, path, field_map, live, by_origin, notes, withheld) VALUES ($1, $2, $3, $4, $5, $6, $7) "+
		"ON CONFLICT (recovery_id, path) DO UPDATE SET live = excluded.live, by_origin = excluded.by_origin, notes = excluded.notes, withheld = excluded.withheld",
		d.RecoveryID, d.Path, d.FieldMap, d.Live, string(d.ByOrigin), d.Notes.param(), string(d.Withheld))
	if err != nil {
		return fmt.Errorf("keeping what %s gave: %w", d.Path, err)
	}
	if d.Map != nil {
		d.Map.RecoveryID, d.Map.Path = d.RecoveryID, d.Path
		if err := savePageMap(ctx, tx, d.Map); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}

// clean makes a text that PostgreSQL takes: its texts hold no NUL; evidence may. The
// bytes stay in the vault.
func clean(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "�"), "\x00", "␀")
}

// cleanJSON does the same for JSON.
func cleanJSON(b []byte) string { return strings.ReplaceAll(string(b), `\u0000`, `␀`) }

// EndRecovery ends a recovery and its run.
func (s *Store) EndRecovery(ctx context.Context, r *Run, v *Recovery, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("ending the recovery", "UPDATE recovery SET ended_at = now() WHERE id = $1", v.ID); err != nil {
			return err
		}
		return t.Log(act)
	})
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
	Direction     string
	Summary       string
	Body          json.RawMessage
	ExhibitRef    string     `db:"exhibit_ref"`
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

const recordFrom = ` FROM record r JOIN exhibit e ON e.id = r.exhibit_id LEFT JOIN mark m ON m.record_id = r.id WHERE `
const recordSelect = `SELECT r.*, e.reference AS exhibit_ref, m.reason AS mark_reason, m.by AS mark_by, m.at AS mark_at` + recordFrom

// After is where a page of records goes on: after this time and id.
type After struct {
	At time.Time
	ID int64
}

// Records lists records in order of time. Records without a time come under
// no window; they are listed by Untimed.
func (s *Store) Records(ctx context.Context, f Filter, after After, limit int) (out []Record, err error) {
	q, args := f.where(true)
	args = append(args, after.At, after.ID, limit)
	n := len(args)
	q += fmt.Sprintf(" AND (r.at, r.id) > ($%d, $%d) ORDER BY r.at, r.id LIMIT $%d", n-2, n-1, n)
	err = s.list(ctx, &out, "listing records", recordSelect+q, args...)
	return out, err
}

// Untimed lists records whose time did not survive.
func (s *Store) Untimed(ctx context.Context, f Filter, limit int) (out []Record, err error) {
	q, args := f.where(false)
	args = append(args, limit)
	err = s.list(ctx, &out, "listing records without a time", recordSelect+q+fmt.Sprintf(" AND r.at IS NULL ORDER BY r.id LIMIT $%d", len(args)), args...)
	return out, err
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

// Extent gives the times of the first and the last record of a filter.
func (s *Store) Extent(ctx context.Context, f Filter) (first, last *time.Time, err error) {
	q, args := f.where(false)
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
	r := &Record{}
	return r, s.get(ctx, r, fmt.Sprintf("record %d", id), recordSelect+"r.case_id = $1 AND r.id = $2", caseID, id)
}

// Around lists the conversation of a record: n before it and n after.
func (s *Store) Around(ctx context.Context, r *Record, n int) (out []Record, err error) {
	err = s.list(ctx, &out, "reading the conversation", `SELECT * FROM (
  (`+recordSelect+`r.acquisition_id = $1 AND r.kind = $2 AND r.thread = $3 AND (r.at, r.id) <= ($4, $5) ORDER BY r.at DESC, r.id DESC LIMIT $6)
  UNION ALL
  (`+recordSelect+`r.acquisition_id = $1 AND r.kind = $2 AND r.thread = $3 AND (r.at, r.id) > ($4, $5) ORDER BY r.at, r.id LIMIT $6)) c ORDER BY at, id`,
		r.AcquisitionID, string(r.Kind), r.Thread, r.At, r.ID, n)
	return out, err
}

// Mark marks a record with a reason, or changes the reason.
func (s *Store) Mark(ctx context.Context, c *Case, r *Record, reason, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("marking the record", "INSERT INTO mark(record_id, by, at, reason) VALUES ($1, $2, now(), $3) ON CONFLICT (record_id) DO UPDATE SET by = $2, at = now(), reason = $3", r.ID, by, reason); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "record.marked", r.UID, map[string]string{"reason": reason, "kind": string(r.Kind), "state": string(r.State)}})
	})
}

// Unmark takes a mark away.
func (s *Store) Unmark(ctx context.Context, c *Case, r *Record, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("unmarking the record", "DELETE FROM mark WHERE record_id = $1", r.ID); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), by, "record.unmarked", r.UID, nil})
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
