package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
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
const sourcesQuery = `SELECT a.*, e.reference AS exhibit_ref, ARRAY(SELECT kind FROM unnest($2::text[]) k(kind) WHERE EXISTS (SELECT FROM record_sum r WHERE (r.case_id, r.exhibit_id, r.acquisition_id, r.kind, r.state) = (a.case_id, a.exhibit_id, a.id, k.kind, 'intact'))) AS kinds,
  (SELECT count(*) FROM acquisition_fault x WHERE x.acquisition_id = a.id) AS faults,
  coalesce((SELECT v.authority_id FROM recovery v WHERE v.acquisition_id = a.id AND v.ended_at IS NOT NULL ORDER BY v.id DESC LIMIT 1), 0) AS authority,
  EXISTS (SELECT FROM recovery v WHERE v.acquisition_id = a.id AND v.ended_at IS NOT NULL AND v.full_pass) AS full
FROM acquisition a JOIN exhibit e ON e.id = a.exhibit_id WHERE a.case_id = $1 AND EXISTS (SELECT FROM record_sum r WHERE (r.case_id, r.exhibit_id, r.acquisition_id) = (a.case_id, a.exhibit_id, a.id)) ORDER BY e.reference, a.number`

// Successive pairs sources with the next of their exhibit in the order of their times.
func Successive(all []SourceOf) (out [][2]*SourceOf) {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b SourceOf) int {
		return cmp.Or(strings.Compare(a.ExhibitRef, b.ExhibitRef), a.Made().Compare(b.Made()), cmp.Compare(a.Number, b.Number))
	})
	for i := 1; i < len(all); i++ {
		if a, b := &all[i-1], &all[i]; a.ExhibitID == b.ExhibitID {
			out = append(out, [2]*SourceOf{a, b})
		}
	}
	return out
}

// ComparedPage is how many records of each side are listed at once.
const ComparedPage = 300

// Compare says of what two acquisitions have what meets a filter, and counts it in n bins over the filter's window. What both
// have meets it if the record of either does, and is of the first one's time. Of what one has alone a page is listed, after so many.
func (s *Store) Compare(ctx context.Context, f Filter, a, b *Acquisition, n int, after [2]int64) (*Compared, error) {
	all, err := s.compared(ctx, a, b)
	if err != nil {
		return nil, err
	}
	out := &Compared{Kinds: all.Kinds}
	micros := f.To.UnixMicro() - f.From.UnixMicro()
	if micros <= 0 || n <= 0 {
		return out, nil
	}
	stride := (micros + int64(n) - 1) / int64(n)
	f.State, f.Exhibit, f.Source = "", 0, 0
	with, from, whole := "", "compared", f.Words == "" && !f.narrow()
	var args []any
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	if !whole {
		within := f
		within.From, within.To = f.From.Add(-apart), f.To.Add(apart) // the second may have it so much earlier or later
		var q string
		if q, args, err = s.where(ctx, &within, true); err != nil {
			return nil, err
		}
		// By their times, too: few are looked up by these.
		met := func(id, at string) string {
			return "SELECT k.* FROM compared k JOIN hit h ON h.id = " + id + " AND " + at + " WHERE k.a = " + fmt.Sprint(a.ID) + " AND k.b = " + fmt.Sprint(b.ID)
		}
		with = fmt.Sprintf("WITH hit AS MATERIALIZED (SELECT r.id, r.at"+f.countFrom()+q+" AND r.acquisition_id IN (%d, %d)), met AS MATERIALIZED (", a.ID, b.ID) +
			met("k.id", "k.at = h.at") + " UNION " + met("k.other", "k.at BETWEEN h.at - interval '10 minutes' AND h.at + interval '10 minutes'") + ") "
		from = "met"
	}
	two := "a = " + arg(a.ID) + " AND b = " + arg(b.ID)
	of := two + " AND r.at >= " + arg(f.From) + " AND r.at < " + arg(f.To)
	if len(f.Kinds) > 0 {
		of += " AND r.kind = ANY(" + arg(f.Kinds) + ")"
	}
	alone := func(side int) string {
		return fmt.Sprintf(" UNION ALL (SELECT r.at, r.side, 0, r.id FROM "+from+" r WHERE "+of+" AND side = %d AND side > 0 ORDER BY r.at, r.id OFFSET %d LIMIT %d)", side, after[side-1], ComparedPage)
	}
	var held *times
	if whole {
		if held, err = s.held(ctx, a.CaseID, comparedKey(a, b)); err != nil {
			return nil, err
		}
	}
	bins := "SELECT NULL::timestamptz AS at, 0 AS side, 0::bigint AS n, 0 AS id WHERE false"
	if held == nil {
		bin, by := "SELECT date_bin("+arg(fmt.Sprintf("%d microseconds", stride))+"::interval, r.at, "+arg(f.From)+") AS at, r.side, ", of+" GROUP BY 1, 2"
		q := bin + "count(*) AS n FROM " + from + " r WHERE " + by
		if whole && stride >= hourlyFrom {
			with, q = hourly("compared", two, bin, by, f, n, stride, &args)
		}
		bins = "SELECT at, side, sum(n)::bigint AS n, 0 AS id FROM (" + q + ") x GROUP BY 1, 2"
	}
	var found []struct { // a bin, or with an id a record that one side has alone
		At      time.Time
		Side, N int64
		ID      int64
	}
	began := time.Now()
	if err := s.list(ctx, &found, "comparing sources", with+"SELECT * FROM ("+bins+alone(1)+alone(2)+") x ORDER BY at, id, side", args...); err != nil {
		return nil, err
	}
	if whole && held == nil && time.Since(began) > tooLong {
		s.holdBehind(func(ctx context.Context) error { return s.holdCompared(ctx, a, b) })
	}
	var only [2][]int64
	in := map[int]*ComparedBin{}
	count := func(bin int, side, n int64) {
		if in[bin] == nil {
			in[bin] = &ComparedBin{Bin: bin}
		}
		all, its := []*int64{&out.Both, &out.A, &out.B}, []*int64{&in[bin].Both, &in[bin].A, &in[bin].B}
		*all[side], *its[side] = *all[side]+n, *its[side]+n
	}
	for _, x := range found {
		if x.ID > 0 {
			only[x.Side-1] = append(only[x.Side-1], x.ID)
		} else {
			count(int((x.At.UnixMicro()-f.From.UnixMicro()+stride/2)/stride), x.Side, x.N)
		}
	}
	if held != nil {
		for _, m := range held.of {
			if len(f.Kinds) == 0 || slices.Contains(f.Kinds, string(m.Kind)) {
				m.each(f.From, f.To, stride, func(bin, n int) { count(bin, m.Of, int64(n)) })
			}
		}
	}
	for _, bin := range slices.Sorted(maps.Keys(in)) {
		out.Bins = append(out.Bins, *in[bin])
	}
	for i, to := range []*[]Record{&out.OnlyA, &out.OnlyB} {
		if *to, err = s.records(ctx, f.CaseID, "comparing sources", nil, recordSelect+"r.id = ANY($1) ORDER BY r.at, r.id", Array[int64](only[i]).param()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// comparedKey names what two acquisitions have among the times that are held.
func comparedKey(a, b *Acquisition) string {
	return fmt.Sprintf("what acquisitions %d and %d have", a.ID, b.ID)
}

// holdCompared compares two acquisitions, and holds the times of what they have.
func (s *Store) holdCompared(ctx context.Context, a, b *Acquisition) error {
	return s.holdAs(ctx, comparedKey(a, b), a.CaseID, func(dst any) error {
		if _, err := s.compared(ctx, a, b); err != nil {
			return err
		}
		return s.list(ctx, dst, "reading what two sources have", "SELECT kind, side AS of, string_agg(timestamptz_send(at), '') AS at FROM compared WHERE a = $1 AND b = $2 GROUP BY 1, 2", a.ID, b.ID)
	})
}

// apart is how far the times of one message may lie apart on two devices.
const apart = 10 * time.Minute

// ComparedKind is how many records of a kind two sources have.
type ComparedKind struct {
	Kind       record.Kind
	A, B, Both int64
}

// CompareKinds counts what two sources have of each kind of which there is something to compare.
func (s *Store) CompareKinds(ctx context.Context, a, b *Acquisition) ([]ComparedKind, error) {
	all, err := s.compared(ctx, a, b)
	return all.Counts, err
}

// compared is what is kept of a comparison beside the table of that name.
type compared struct {
	Kinds  []record.Kind // of which both have some
	Counts []ComparedKind
}

// compared finds what two acquisitions have, and keeps it in the table compared, until their records change.
func (s *Store) compared(ctx context.Context, a, b *Acquisition) (compared, error) {
	return kept(ctx, s, a.CaseID, fmt.Sprintf("comparing acquisitions %d and %d", a.ID, b.ID), []int64{a.ID, b.ID}, func(t *Tx) (out compared, err error) {
		one := a.ExhibitID == b.ExhibitID
		// Of each kind the first of each source is looked up: all of them are not read.
		const has = " AND EXISTS (SELECT FROM record r WHERE r.case_id = $1 AND r.kind = k.kind AND r.acquisition_id = $%d AND r.state = 'intact')"
		if err := t.SelectContext(t.ctx, &out.Kinds, "SELECT kind FROM unnest($4::text[]) k(kind) WHERE true"+fmt.Sprintf(has+has, 2, 3)+" ORDER BY 1", a.CaseID, a.ID, b.ID,
			Array[string](record.KindsOf(func(a record.About) bool { return one || a.InTalk })).param()); err != nil {
			return out, err
		}
		var kinds []string
		for _, k := range out.Kinds {
			kinds = append(kinds, string(k))
		}
		// What an app keeps twice, as in a backup of its own, is said once.
		q := "INSERT INTO compared(a, b, id, other, at, side, kind) SELECT $2, $3, coalesce(a, b), CASE WHEN a IS NOT NULL THEN b END, at, CASE WHEN b IS NULL THEN 1 WHEN a IS NULL THEN 2 ELSE 0 END, kind FROM (" +
			`SELECT r.at, r.kind, min(r.id) FILTER (WHERE r.acquisition_id = $2) AS a, min(r.id) FILTER (WHERE r.acquisition_id = $3) AS b FROM record r
  WHERE r.case_id = $1 AND r.acquisition_id IN ($2, $3) AND r.state = 'intact' AND r.kind = ANY($4) AND r.at IS NOT NULL GROUP BY r.at, r.kind, r.thread, r.handle, r.summary) x ORDER BY at`
		if !one { // of conversations that both have: a third of the lines of the smaller are in the other, and not one by chance
			side := func(acq int) string {
				return fmt.Sprintf(`SELECT DISTINCT ON (r.at, r.kind, r.thread, r.handle, r.summary) r.id, r.kind, r.summary, r.at, r.db, r.thread, date_bin('10 minutes', r.at, 'epoch') AS about
  FROM record r WHERE r.case_id = $1 AND r.acquisition_id = $%d AND r.state = 'intact' AND r.kind = ANY($4) AND r.at IS NOT NULL ORDER BY r.at, r.kind, r.thread, r.handle, r.summary, r.id`, acq)
			}
			// What lies ten minutes apart at most is about the same time, or about the one before or after.
			q = "WITH x AS MATERIALIZED (" + side(2) + "), y AS MATERIALIZED (" + side(3) + `), near AS MATERIALIZED (SELECT x.id AS a, y.id AS b, x.db AS adb, x.thread AS athread, y.db AS bdb, y.thread AS bthread
  FROM x CROSS JOIN (VALUES (-1), (0), (1)) d(i) JOIN y ON x.kind = y.kind AND x.summary = y.summary AND x.summary <> '' AND x.about + d.i * interval '10 minutes' = y.about AND x.at BETWEEN y.at - interval '10 minutes' AND y.at + interval '10 minutes'),
talk AS MATERIALIZED (SELECT adb, athread, bdb, bthread FROM (SELECT adb, athread, bdb, bthread, least(count(DISTINCT a), count(DISTINCT b)) AS n FROM near GROUP BY 1, 2, 3, 4) p
  JOIN (SELECT db AS adb, thread AS athread, count(*) AS nx FROM x GROUP BY 1, 2) nx USING (adb, athread) JOIN (SELECT db AS bdb, thread AS bthread, count(*) AS ny FROM y GROUP BY 1, 2) ny USING (bdb, bthread)
  WHERE n * 3 >= least(nx, ny) AND n >= least(2, nx, ny)),
pair AS MATERIALIZED (SELECT a, b FROM near JOIN talk USING (adb, athread, bdb, bthread))
INSERT INTO compared(a, b, id, other, at, side, kind)
SELECT $2, $3, x.id, p.b, x.at, CASE WHEN p.b IS NULL THEN 1 ELSE 0 END, x.kind FROM x LEFT JOIN (SELECT a, min(b) AS b FROM pair GROUP BY a) p ON p.a = x.id WHERE (db, thread) IN (SELECT adb, athread FROM talk)
UNION ALL SELECT $2, $3, y.id, NULL, y.at, 2, y.kind FROM y WHERE (db, thread) IN (SELECT bdb, bthread FROM talk) AND NOT EXISTS (SELECT FROM pair WHERE b = y.id)`
		}
		for _, table := range []string{"compared", "compared_hour"} {
			if err := t.exec("forgetting what two sources have", "DELETE FROM "+table+" WHERE a = $1 AND b = $2", a.ID, b.ID); err != nil {
				return out, err
			}
		}
		if err := t.exec("comparing sources", q, a.CaseID, a.ID, b.ID, Array[string](kinds).param()); err != nil {
			return out, err
		}
		if err := t.exec("comparing sources", "INSERT INTO compared_hour SELECT a, b, date_trunc('hour', at, 'UTC'), side, kind, count(*) FROM compared WHERE a = $1 AND b = $2 GROUP BY 1, 2, 3, 4, 5", a.ID, b.ID); err != nil {
			return out, err
		}
		if err := t.exec("comparing sources", "SELECT analyze_compared()"); err != nil {
			return out, err
		}
		err = t.SelectContext(t.ctx, &out.Counts, "SELECT kind, coalesce(sum(n) FILTER (WHERE side = 1), 0)::bigint AS a, coalesce(sum(n) FILTER (WHERE side = 2), 0)::bigint AS b, coalesce(sum(n) FILTER (WHERE side = 0), 0)::bigint AS both FROM compared_hour WHERE a = $1 AND b = $2 GROUP BY 1 ORDER BY 1", a.ID, b.ID)
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
