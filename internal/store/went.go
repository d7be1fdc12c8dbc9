package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"crosswind/core/record"
	"crosswind/core/timeline"
)

// sources are the acquisitions of a case of which there are records, with when what they read was made.
type sources []SourceOf

// at is when a source was made, as the database keeps times.
func (a *SourceOf) at() time.Time { return a.Made().Round(time.Microsecond) }

// went writes a query of one row with the span in which what r tells of was deleted, after and before: none if nothing
// says that it was. args grow with it.
//
// It went after its own time, if that is a time at which it was recorded, and after the last source of its exhibit that
// still has it; and before the first source after that which has records of its database, and not this one, though it
// would not have been withheld. If the source itself says when, that is both. What was changed was not deleted.
func (all sources) went(args []any) (string, []any) {
	var ids, exhibits []int64
	var times []time.Time
	for _, a := range all {
		ids, exhibits, times = append(ids, a.ID), append(exhibits, a.ExhibitID), append(times, a.at())
	}
	// Kinds whose time says nothing of when they were recorded, or changes with them.
	planned := kindsOf(func(a record.About) bool { return a.Group == record.Plans && a.Time != "changed" })
	changing := kindsOf(func(a record.About) bool { return a.Time == "changed" })
	args = append(args, Array[int64](ids).param(), Array[int64](exhibits).param(), times, planned, changing)
	n := len(args) - 5
	from := fmt.Sprintf("unnest($%d::bigint[], $%d::bigint[], $%d::timestamptz[]) s(id, exhibit, made) WHERE s.exhibit = r.exhibit_id AND ", n+1, n+2, n+3)
	// A source still has it if it says the same at that time, or has its row otherwise; and it could if it has others of its database.
	// Each looks a few rows up by an index: EXISTS might be answered by hashing what all sources have of a database, for every record,
	// and what is in no order by reading all that comes before it.
	still := fmt.Sprintf(`coalesce((SELECT true FROM record x WHERE x.case_id = r.case_id AND x.at = r.at AND x.acquisition_id = s.id AND x.kind = r.kind AND x.summary = r.summary AND x.state = 'intact' AND (r.state <> 'intact' OR x.thread = r.thread) LIMIT 1),
  (SELECT true FROM record x WHERE x.exhibit_id = r.exhibit_id AND x.db = r.db AND x.row_id = r.row_id AND x.tab = r.tab AND x.acquisition_id = s.id AND x.kind = r.kind AND x.state = 'intact' AND (x.at = r.at OR r.kind = ANY($%d)) LIMIT 1), false)`, n+5)
	// Nor was it withheld there: the last reading of the database was under the authorities as they are now, or withheld nothing.
	const could = `(coalesce((SELECT true FROM record y WHERE y.acquisition_id = s.id AND y.db = r.db ORDER BY y.page LIMIT 1), false) AND
  coalesce((SELECT v.scope_epoch = k.scope_epoch OR d.withheld::text = '{}' FROM recovered_database d JOIN recovery v ON v.id = d.recovery_id JOIN cases k ON k.id = r.case_id
    WHERE v.acquisition_id = s.id AND v.ended_at IS NOT NULL AND d.path = r.db ORDER BY v.id DESC LIMIT 1), false))`
	return fmt.Sprintf(`SELECT coalesce(r.gone_at, l.at, '-infinity') AS after, coalesce(r.gone_at, u.at) AS before
FROM (SELECT s.made FROM %[1]s s.id = r.acquisition_id) own
CROSS JOIN LATERAL (SELECT greatest(CASE WHEN r.kind <> ALL($%[2]d) THEN least(r.at, own.made) END, CASE WHEN r.state = 'intact' THEN own.made END, (SELECT max(s.made) FROM %[1]s s.made < own.made AND %[3]s)) AS at) l
CROSS JOIN LATERAL (SELECT CASE WHEN r.state = 'intact' AND EXISTS (SELECT FROM %[1]s s.made > own.made AND %[3]s) THEN NULL
  ELSE (SELECT min(s.made) FROM %[1]s s.made >= coalesce(l.at, '-infinity') AND (s.id = r.acquisition_id AND r.state <> 'intact' OR s.made <> own.made AND %[4]s AND NOT %[3]s)) END AS at) u
WHERE r.state <> 'earlier' AND coalesce(r.gone_at, u.at) IS NOT NULL`, from, n+4, still, could), args
}

// whenDeleted is what the spans are kept as.
const whenDeleted = "when records were deleted"

// keepWent keeps the spans in which what the records of a case tell of was deleted.
func (s *Store) keepWent(ctx context.Context, caseID int64) error {
	_, err := kept(ctx, s, caseID, whenDeleted, nil, func(t *Tx) (n int64, err error) {
		var all sources
		if err := t.SelectContext(t.ctx, &all, sourcesQuery, caseID, Array[string]{}.param()); err != nil {
			return 0, err
		}
		var outlived []int64 // sources of whose exhibits there are later ones: what is in others is not known to have gone
		for _, a := range all {
			if slices.ContainsFunc(all, func(b SourceOf) bool { return b.ExhibitID == a.ExhibitID && b.at().After(a.at()) }) {
				outlived = append(outlived, a.ID)
			}
		}
		q, args := all.went([]any{caseID, Array[int64](outlived).param()})
		if err := t.exec("forgetting when records were deleted", "DELETE FROM record_went WHERE case_id = $1", caseID); err != nil {
			return 0, err
		}
		err = t.GetContext(t.ctx, &n, `WITH kept AS (INSERT INTO record_went(record_id, case_id, after, before) SELECT r.id, r.case_id, w.after, w.before FROM record r CROSS JOIN LATERAL (`+q+`) w
  WHERE r.case_id = $1 AND (r.gone_at IS NOT NULL OR r.state <> 'intact' OR r.acquisition_id = ANY($2)) RETURNING 1) SELECT count(*) FROM kept`, args...)
		return n, err
	})
	return err
}

// Went is between when a record was deleted: after the first of these times and before the second, with the sources that
// say so.
type Went struct {
	After       *time.Time // nil if nothing says after when
	Before      time.Time
	Last, First *SourceOf // the last that still has it, and the first that does not; nil if its own time, or the source itself, says it
	Said        bool      // the source itself says when
}

// Went says of records between when what they tell of was deleted, by all sources of their exhibits. Those of which nothing
// says that it was are left out. One that was recovered has at least its own time and its source's.
func (s *Store) Went(ctx context.Context, caseID int64, ids ...int64) (map[int64]*Went, error) {
	listed, err := s.Sources(ctx, caseID, nil)
	if err != nil {
		return nil, err
	}
	all := sources(listed)
	var there bool // what is kept: to plan finding it takes longer than all else that a page asks of a record
	if err := s.get(ctx, &there, "when records were deleted", "SELECT EXISTS ("+isKept+")", caseID, []int64(nil), whenDeleted); err != nil {
		return nil, err
	}
	args := []any{caseID, Array[int64](ids).param()}
	q := "SELECT after, before FROM record_went WHERE record_id = r.id"
	if !there {
		q, args = all.went(args)
	}
	var found []struct {
		ID            int64
		ExhibitID     int64 `db:"exhibit_id"`
		After, Before *time.Time
	}
	err = s.list(ctx, &found, "when records were deleted", "SELECT r.id, r.exhibit_id, nullif(w.after, '-infinity') AS after, w.before FROM record r CROSS JOIN LATERAL ("+q+") w WHERE r.case_id = $1 AND r.id = ANY($2)", args...)
	if err != nil {
		return nil, err
	}
	out := map[int64]*Went{}
	for _, x := range found {
		w := &Went{After: x.After, Before: *x.Before}
		if w.Said = w.After != nil && w.After.Equal(w.Before); !w.Said {
			for i := range all {
				switch a := &all[i]; {
				case a.ExhibitID != x.ExhibitID:
				case a.at().Equal(w.Before):
					w.First = a
				case w.After != nil && a.at().Equal(*w.After):
					w.Last = a
				}
			}
		}
		out[x.ID] = w
	}
	return out, nil
}

// missing is which live records of older sources of a case are missing in later ones of their exhibits: see [Filter.Missing].
const missing = "r.state = 'intact' AND r.id IN (SELECT w.record_id FROM record_went w WHERE w.case_id = $1)"

// missingKey is a name for their times.
func missingKey(caseID int64) string { return fmt.Sprint("missing later ", caseID) }

// heldMissing gives the times of all of a case that are missing later. In a large case of which it is not kept when records
// were deleted this is worked out behind the answer, and ok is false.
func (s *Store) heldMissing(ctx context.Context, caseID int64) (out times, ok bool, err error) {
	key := missingKey(caseID)
	if out, ok, err = held[times](ctx, s, caseID, nil, key); ok || err != nil {
		return out, ok, err
	}
	find := func(ctx context.Context) (times, error) {
		return hold(ctx, s, caseID, nil, key, func(ctx context.Context) (times, int, error) {
			return s.times(ctx, Filter{CaseID: caseID, Missing: true})
		})
	}
	var kept bool
	n := int64(0)
	err = s.get(ctx, &kept, "when records were deleted", "SELECT EXISTS ("+isKept+")", caseID, []int64(nil), whenDeleted)
	if err == nil && !kept {
		n, err = s.Recorded(ctx, caseID, 0)
	}
	if err != nil {
		return nil, false, err
	}
	if n >= largeCase {
		s.holdBehind(caseID, key, func(ctx context.Context) error { _, err := find(ctx); return err })
		return nil, false, nil
	}
	out, err = find(ctx)
	return out, err == nil, err
}

// MissingCounts counts as [Store.Counts] does those records of a filter that are live in an older source of their exhibit, and
// missing in a later one: some of those that Counts has as intact. known is false while it is being worked out.
func (s *Store) MissingCounts(ctx context.Context, f Filter, n int) (out []timeline.Count, known bool, err error) {
	micros := f.To.UnixMicro() - f.From.UnixMicro()
	if micros <= 0 || n <= 0 || f.State != "" && f.State != string(record.Intact) {
		return nil, true, nil
	}
	all, known, err := s.heldMissing(ctx, f.CaseID)
	if !known || err != nil {
		return nil, false, err
	}
	stride := (micros + int64(n) - 1) / int64(n)
	if !f.some() {
		return all.counts(&f, stride), true, nil
	}
	if len(all) == 0 {
		return nil, true, nil
	}
	found, ok, err := s.soonest(ctx, f, func(ctx context.Context) (err error) {
		f.Missing = true
		out, err = s.counted(ctx, f, n, stride)
		return err
	})
	if ok {
		f.Missing = false
		out = all.both(found).counts(&f, stride)
	}
	return out, true, err
}

// both are those of t that are among others, too.
func (t times) both(others times) (out times) {
	for _, m := range t {
		for _, o := range others {
			if o.Kind == m.Kind && o.State == m.State && o.Exhibit == m.Exhibit {
				out = append(out, moments{Kind: m.Kind, State: m.State, Exhibit: m.Exhibit, instants: m.both(&o.instants)})
			}
		}
	}
	return out
}

func (x *instants) both(y *instants) (out instants) {
	for i, j := 0, 0; i < len(x.at) && j < len(y.at); {
		switch c := x.compare(i, y.at[j], y.id[j]); {
		case c < 0:
			i++
		case c > 0:
			j++
		default:
			out.at, out.id = append(out.at, x.at[i]), append(out.id, x.id[i])
			i, j = i+1, j+1
		}
	}
	return out
}

// Missing says which of some records are live in an older source of their exhibit and missing in a later one, as far as that
// has been worked out.
func (s *Store) Missing(ctx context.Context, caseID int64, ids []int64) (map[int64]bool, error) {
	var found []int64
	err := s.list(ctx, &found, "finding what is missing later", "SELECT r.id FROM record r WHERE r.case_id = $1 AND r.id = ANY($4) AND r.state = 'intact' AND EXISTS (SELECT FROM record_went w WHERE w.record_id = r.id) AND EXISTS ("+isKept+")",
		caseID, []int64(nil), whenDeleted, Array[int64](ids).param())
	out := map[int64]bool{}
	for _, id := range found {
		out[id] = true
	}
	return out, err
}
