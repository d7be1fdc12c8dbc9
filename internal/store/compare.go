package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

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
const ComparedPage = 40

// Compare says of what two acquisitions have what meets a filter, and counts it in n bins over the filter's window. What both
// have meets it if the record of either does, and is of the first one's time. Of what one has alone a page is listed, after so many.
func (s *Store) Compare(ctx context.Context, f Filter, a, b *Acquisition, n int, after [2]int64) (*Compared, error) {
	all, err := s.pairs(ctx, a, b)
	if err != nil {
		return nil, err
	}
	out := &Compared{Kinds: all.kinds}
	micros := f.To.UnixMicro() - f.From.UnixMicro()
	if micros <= 0 || n <= 0 {
		return out, nil
	}
	stride := (micros + int64(n) - 1) / int64(n)
	var meet *roaring64.Bitmap // the records that do, nil for all
	if f.Source = 0; f.some() {
		t, err := s.holdTimes(ctx, f)
		if err != nil {
			return nil, err
		}
		meet = t.ids()
	}
	bins := make([]ComparedBin, n)
	var alone [2][]int64
	for k := range all.sides {
		side := &all.sides[k]
		passed := int64(0)
		for i, end := side.between(f.From, f.To); i < end; i++ {
			if len(f.Kinds) > 0 && !slices.Contains(f.Kinds, string(all.kinds[side.kind[i]])) ||
				meet != nil && !meet.Contains(uint64(side.id[i])) && !meet.Contains(uint64(side.other[i])) {
				continue
			}
			bin := &bins[(side.at[i]-f.From.UnixMicro())/stride]
			*[]*int64{&bin.Both, &bin.A, &bin.B}[k]++
			if k > 0 && passed >= after[k-1] && len(alone[k-1]) < ComparedPage {
				alone[k-1] = append(alone[k-1], side.id[i])
			}
			passed++
		}
		*[]*int64{&out.Both, &out.A, &out.B}[k] = passed
	}
	for i, bin := range bins {
		if bin.Both+bin.A+bin.B > 0 {
			bin.Bin = i
			out.Bins = append(out.Bins, bin)
		}
	}
	for i, to := range []*[]Record{&out.OnlyA, &out.OnlyB} {
		if *to, err = s.records(ctx, f.CaseID, "comparing sources", nil, recordSelect+"r.id = ANY($1) ORDER BY r.at, r.id", Array[int64](alone[i]).param()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// pairs are what two acquisitions have, as the table compared tells: both of them, or one alone.
type pairs struct {
	kinds []record.Kind // of which both have some
	sides [3]side       // of both, of the first and of the second
}

// side is in order of time.
type side struct {
	instants
	other []int64 // of what both have the record of the second, else 0
	kind  []byte  // which of the kinds
}

func (x *side) Swap(i, j int) {
	x.instants.Swap(i, j)
	x.other[i], x.other[j] = x.other[j], x.other[i]
	x.kind[i], x.kind[j] = x.kind[j], x.kind[i]
}

// pairs compares two acquisitions, if that is not done, and holds what they have.
func (s *Store) pairs(ctx context.Context, a, b *Acquisition) (*pairs, error) {
	key, two := fmt.Sprintf("what acquisitions %d and %d have", a.ID, b.ID), []int64{a.ID, b.ID}
	return hold(ctx, s, a.CaseID, two, key, func(ctx context.Context) (*pairs, int, error) {
		kinds, err := s.compared(ctx, a, b)
		if err != nil {
			return nil, 0, err
		}
		var rows []struct {
			Side                int
			At, ID, Other, Kind []byte
		}
		if err := s.list(ctx, &rows, "reading what two sources have", "SELECT side, at, id, other, kind FROM compared WHERE a = $1 AND b = $2", a.ID, b.ID); err != nil {
			return nil, 0, err
		}
		out, size := &pairs{kinds: kinds}, 0
		for _, r := range rows {
			x := side{instants{sentTimes(r.At), sentNumbers(r.ID)}, sentNumbers(r.Other), r.Kind}
			if !sort.IsSorted(&x) {
				sort.Sort(&x)
			}
			out.sides[r.Side], size = x, size+25*len(x.at)
		}
		return out, size, nil
	})
}

// ComparedKind is how many records of a kind two sources have.
type ComparedKind struct {
	Kind       record.Kind
	A, B, Both int64
}

// CompareKinds counts what two sources have of each kind of which there is something to compare.
func (s *Store) CompareKinds(ctx context.Context, a, b *Acquisition) ([]ComparedKind, error) {
	all, err := s.pairs(ctx, a, b)
	if err != nil {
		return nil, err
	}
	out := make([]ComparedKind, len(all.kinds))
	for i, k := range all.kinds {
		out[i].Kind = k
	}
	for i, side := range all.sides {
		for _, k := range side.kind {
			*[]*int64{&out[k].Both, &out[k].A, &out[k].B}[i]++
		}
	}
	return slices.DeleteFunc(out, func(k ComparedKind) bool { return k.A+k.B+k.Both == 0 }), nil
}

// compared finds what two acquisitions have, keeps it in the table compared until their records change, and tells the kinds
// of which both have some.
func (s *Store) compared(ctx context.Context, a, b *Acquisition) ([]record.Kind, error) {
	return kept(ctx, s, a.CaseID, fmt.Sprintf("comparing acquisitions %d and %d", a.ID, b.ID), []int64{a.ID, b.ID}, func(t *Tx) (found []record.Kind, err error) {
		one := a.ExhibitID == b.ExhibitID
		// Of each kind the first of each source is looked up: all of them are not read.
		const has = " AND EXISTS (SELECT FROM record r WHERE r.case_id = $1 AND r.kind = k.kind AND r.acquisition_id = $%d AND r.state = 'intact')"
		if err := t.SelectContext(t.ctx, &found, "SELECT kind FROM unnest($4::text[]) k(kind) WHERE true"+fmt.Sprintf(has+has, 2, 3)+" ORDER BY 1", a.CaseID, a.ID, b.ID,
			Array[string](record.KindsOf(func(a record.About) bool { return one || a.InTalk })).param()); err != nil {
			return nil, err
		}
		var kinds []string
		for _, k := range found {
			kinds = append(kinds, string(k))
		}
		// What an app keeps twice, as in a backup of its own, is said once.
		q := "SELECT coalesce(a, b) AS id, CASE WHEN a IS NOT NULL THEN b END AS other, at, CASE WHEN b IS NULL THEN 1 WHEN a IS NULL THEN 2 ELSE 0 END AS side, kind FROM (" +
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
SELECT x.id, p.b AS other, x.at, CASE WHEN p.b IS NULL THEN 1 ELSE 0 END AS side, x.kind FROM x LEFT JOIN (SELECT a, min(b) AS b FROM pair GROUP BY a) p ON p.a = x.id WHERE (db, thread) IN (SELECT adb, athread FROM talk)
UNION ALL SELECT y.id, NULL, y.at, 2, y.kind FROM y WHERE (db, thread) IN (SELECT bdb, bthread FROM talk) AND NOT EXISTS (SELECT FROM pair WHERE b = y.id)`
		}
		if err := t.exec("forgetting what two sources have", "DELETE FROM compared WHERE a = $1 AND b = $2", a.ID, b.ID); err != nil {
			return nil, err
		}
		return found, t.exec("comparing sources", `INSERT INTO compared(a, b, side, at, id, other, kind) SELECT $2, $3, side, string_agg(timestamptz_send(at), ''), string_agg(int8send(id), ''),
  string_agg(int8send(coalesce(other, 0)), ''), string_agg(set_byte('\x00', 0, array_position($4, kind) - 1), '') FROM (`+q+") p GROUP BY side", a.CaseID, a.ID, b.ID, Array[string](kinds).param())
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
