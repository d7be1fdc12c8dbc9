package store

import (
	"context"
	"fmt"
	"time"

	"crosswind/core/record"
)

// Compared is what two sources have of the same kinds: records that are there, by what they say and when. Those of a device
// are the same if kind, words, time, conversation and handle are; those of two devices, of which the talk that both have
// is compared, if the times are ten minutes apart at most.
type Compared struct {
	Kinds []record.Kind // of which both have some
	Bins  []ComparedBin
	OnlyA []Record // that the second lacks, a page of them in order of time
	OnlyB []Record
	A, B  int64 // how many
	Both  int64
}

// ComparedBin counts within an interval of the window.
type ComparedBin struct {
	Bin        int
	A, B, Both int64
}

// SourceOf is an acquisition that can be compared.
type SourceOf struct {
	Acquisition
	ExhibitRef string        `db:"exhibit_ref"`
	Kinds      Array[string] // of those that were asked for those of which it has records that are there
	Faults     int64         // that were met when it was acquired
	Authority  int64         // the last that was there when its records were read: what is covered may differ by it
	Full       bool          // a full pass has read it
}

// Sources lists the acquisitions of a case of which there are records, and of which of some kinds.
func (s *Store) Sources(ctx context.Context, caseID int64, of []record.Kind) (out []SourceOf, err error) {
	var kinds []string
	for _, k := range of {
		kinds = append(kinds, string(k))
	}
	err = s.list(ctx, &out, "listing sources", sourcesQuery, caseID, Array[string](kinds).param())
	return out, err
}

// sourcesQuery lists the sources of a case, and of which of some kinds each has records.
const sourcesQuery = `SELECT a.*, e.reference AS exhibit_ref, ARRAY(SELECT kind FROM unnest($2::text[]) k(kind) WHERE EXISTS (SELECT FROM record r WHERE r.case_id = a.case_id AND r.kind = k.kind AND r.acquisition_id = a.id AND r.state = 'intact')) AS kinds,
  (SELECT count(*) FROM acquisition_fault x WHERE x.acquisition_id = a.id) AS faults,
  coalesce((SELECT v.authority_id FROM recovery v WHERE v.acquisition_id = a.id AND v.ended_at IS NOT NULL ORDER BY v.id DESC LIMIT 1), 0) AS authority,
  EXISTS (SELECT FROM recovery v WHERE v.acquisition_id = a.id AND v.ended_at IS NOT NULL AND v.full_pass) AS full
FROM acquisition a JOIN exhibit e ON e.id = a.exhibit_id WHERE a.case_id = $1 AND EXISTS (SELECT FROM record r WHERE r.acquisition_id = a.id) ORDER BY e.reference, a.number`

// ComparedPage is how many records of each side are listed at once.
const ComparedPage = 300

// Compare compares what two acquisitions have within a filter, and counts it in n bins over the filter's window. Of what
// one has alone a page is listed, after so many.
func (s *Store) Compare(ctx context.Context, f Filter, a, b *Acquisition, n int, after [2]int64) (*Compared, error) {
	f.State, f.Exhibit, f.Source = string(record.Intact), 0, 0
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, err
	}
	out := &Compared{}
	one := a.ExhibitID == b.ExhibitID
	// Of each kind the first of each source is looked up: all of them are not read.
	const has = " AND EXISTS (SELECT FROM record r WHERE r.case_id = $1 AND r.kind = k.kind AND r.acquisition_id = $%d AND r.state = 'intact')"
	all := record.KindsOf(func(a record.About) bool { return one || a.InTalk })
	if err := s.list(ctx, &out.Kinds, "comparing kinds", "SELECT kind FROM unnest($4::text[]) k(kind) WHERE true"+fmt.Sprintf(has+has, 2, 3)+" ORDER BY 1", f.CaseID, a.ID, b.ID, Array[string](all).param()); err != nil {
		return nil, err
	}
	var kinds []string
	for _, k := range out.Kinds {
		kinds = append(kinds, string(k))
	}
	args = append(args, a.ID, b.ID, Array[string](kinds).param())
	k := len(args)
	const within = " AND r.kind = ANY($%d) AND r.at IS NOT NULL "
	var with string
	if one { // grouped by their times first: these are told apart faster than texts
		with = fmt.Sprintf("WITH one AS (SELECT r.at, min(r.id) FILTER (WHERE r.acquisition_id = $%[1]d) AS a, min(r.id) FILTER (WHERE r.acquisition_id = $%[2]d) AS b"+f.countFrom()+q+" AND r.acquisition_id IN ($%[1]d, $%[2]d)", k-2, k-1) + fmt.Sprintf(within, k) +
			`GROUP BY r.at, r.kind, r.thread, r.handle, r.summary),
known AS MATERIALIZED (SELECT coalesce(a, b) AS id, at, CASE WHEN a IS NULL THEN 2 ELSE 1 END AS side, a IS NOT NULL AND b IS NOT NULL AS twice FROM one)`
	} else { // of conversations that both have: a third of the lines of the smaller are in the other, and not one by chance
		side := func(acq int) string { // what an app keeps twice, as in a backup of its own, is said once
			return fmt.Sprintf("SELECT DISTINCT ON (r.at, r.kind, r.thread, r.handle, r.summary) r.id, r.kind, r.summary, r.at, r.db, r.thread, r.handle"+f.countFrom()+q+" AND r.acquisition_id = $%d", acq) + fmt.Sprintf(within, k) + "ORDER BY r.at, r.kind, r.thread, r.handle, r.summary, r.id"
		}
		with = "WITH x AS MATERIALIZED (" + side(k-2) + "), y AS MATERIALIZED (" + side(k-1) + `), near AS MATERIALIZED (SELECT x.id AS a, y.id AS b, x.db AS adb, x.thread AS athread, y.db AS bdb, y.thread AS bthread FROM x JOIN y
  ON x.kind = y.kind AND x.summary = y.summary AND x.summary <> '' AND x.at BETWEEN y.at - interval '10 minutes' AND y.at + interval '10 minutes'),
talk AS MATERIALIZED (SELECT adb, athread, bdb, bthread FROM (SELECT adb, athread, bdb, bthread, least(count(DISTINCT a), count(DISTINCT b)) AS n FROM near GROUP BY 1, 2, 3, 4) p
  JOIN (SELECT db AS adb, thread AS athread, count(*) AS nx FROM x GROUP BY 1, 2) nx USING (adb, athread) JOIN (SELECT db AS bdb, thread AS bthread, count(*) AS ny FROM y GROUP BY 1, 2) ny USING (bdb, bthread)
  WHERE n * 3 >= least(nx, ny) AND n >= least(2, nx, ny)),
pair AS MATERIALIZED (SELECT a, b FROM near JOIN talk USING (adb, athread, bdb, bthread)),
known AS MATERIALIZED (SELECT id, at, 1 AS side, id IN (SELECT a FROM pair) AS twice FROM x WHERE (db, thread) IN (SELECT adb, athread FROM talk)
  UNION ALL SELECT id, at, 2, id IN (SELECT b FROM pair) FROM y WHERE (db, thread) IN (SELECT bdb, bthread FROM talk))`
	}
	micros := f.To.UnixMicro() - f.From.UnixMicro()
	if micros <= 0 || n <= 0 {
		return out, nil
	}
	stride := (micros + int64(n) - 1) / int64(n)
	args = append(args, fmt.Sprintf("%d microseconds", stride), f.From, after[0], after[1], ComparedPage)
	k = len(args)
	list := func(side int) string {
		return fmt.Sprintf("(SELECT at, id, side FROM known WHERE side = %d AND NOT twice ORDER BY at, id OFFSET $%d LIMIT $%d)", side, k-3+side, k)
	}
	var found []struct { // a bin, or with an id a record that one side has alone
		At         time.Time
		A, B, Both int64
		ID         int64
		Side       int
	}
	if err := s.list(ctx, &found, "comparing sources", with+fmt.Sprintf(`
SELECT date_bin($%d::interval, at, $%d) AS at, count(*) FILTER (WHERE side = 1 AND NOT twice) AS a, count(*) FILTER (WHERE side = 2 AND NOT twice) AS b, count(*) FILTER (WHERE side = 1 AND twice) AS both, 0 AS id, 0 AS side FROM known GROUP BY 1
UNION ALL SELECT at, 0, 0, 0, id, side FROM (%s UNION ALL %s) one ORDER BY at, id`, k-4, k-3, list(1), list(2)), args...); err != nil {
		return nil, err
	}
	var only [2][]int64
	for _, x := range found {
		if x.Side > 0 {
			only[x.Side-1] = append(only[x.Side-1], x.ID)
			continue
		}
		out.A, out.B, out.Both = out.A+x.A, out.B+x.B, out.Both+x.Both
		if x.A+x.B+x.Both > 0 {
			out.Bins = append(out.Bins, ComparedBin{int((x.At.UnixMicro() - f.From.UnixMicro() + stride/2) / stride), x.A, x.B, x.Both})
		}
	}
	for i, to := range []*[]Record{&out.OnlyA, &out.OnlyB} {
		if *to, err = s.records(ctx, f.CaseID, "comparing sources", nil, recordSelect+"r.id = ANY($1) ORDER BY r.at, r.id", Array[int64](only[i]).param()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ComparedKind is how many records of a kind two sources of one exhibit have.
type ComparedKind struct {
	Kind       record.Kind
	A, B, Both int64
}

// CompareKinds counts what two sources of one exhibit have of the kinds that both have, as [Store.Compare] tells records apart.
func (s *Store) CompareKinds(ctx context.Context, a, b *Acquisition) ([]ComparedKind, error) {
	return kept(ctx, s, a.CaseID, fmt.Sprintf("what acquisitions %d and %d have", a.ID, b.ID), func(t *Tx) (out []ComparedKind, err error) {
		err = t.SelectContext(t.ctx, &out, `SELECT kind, count(*) FILTER (WHERE NOT b) AS a, count(*) FILTER (WHERE NOT a) AS b, count(*) FILTER (WHERE a AND b) AS both FROM (
  SELECT kind, bool_or(acquisition_id = $2) AS a, bool_or(acquisition_id = $3) AS b FROM record
  WHERE case_id = $1 AND acquisition_id IN ($2, $3) AND state = 'intact' AND at IS NOT NULL GROUP BY at, kind, thread, handle, summary) x
GROUP BY kind HAVING bool_or(a) AND bool_or(b) ORDER BY kind`, a.CaseID, a.ID, b.ID)
		return out, err
	})
}

// Seen is how a record of one source is found in another: there, or among what had been deleted, or changed.
type Seen struct {
	Of            int64 // the record
	AcquisitionID int64 `db:"acquisition_id"`
	ID            int64
	State         record.State
	Same          bool // it says the same
}

// SeenIn finds records in the acquisitions of their exhibit: by what they say and when, or by their row. What is there
// is of the same conversation and handle; what is recovered may have lost them.
func (s *Store) SeenIn(ctx context.Context, caseID int64, ids []int64) (out []Seen, err error) {
	const other = "SELECT o.id AS of, r.acquisition_id, r.id, r.state, r.summary = o.summary AND r.at IS NOT DISTINCT FROM o.at AS same FROM record o JOIN record r ON r.exhibit_id = o.exhibit_id AND r.case_id = o.case_id AND r.acquisition_id <> o.acquisition_id AND r.kind = o.kind AND "
	const of = " WHERE o.case_id = $1 AND o.id = ANY($2)"
	err = s.list(ctx, &out, "finding records in other sources", "SELECT * FROM ("+other+"r.at = o.at AND r.summary = o.summary AND (r.state <> 'intact' OR r.thread = o.thread AND r.handle = o.handle)"+of+" UNION "+other+"r.db = o.db AND r.row_id = o.row_id AND r.tab = o.tab"+of+") x ORDER BY of, acquisition_id, state <> 'intact', id",
		caseID, Array[int64](ids).param())
	return out, err
}
