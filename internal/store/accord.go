package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
)

// kindsOf are the kinds of which something is so, as a parameter.
func kindsOf(so func(record.About) bool) any { return Array[string](record.KindsOf(so)).param() }

// Own are the handles of an exhibit's own, in normal form: the numbers that were noted of it, and those of its SIM cards.
func (s *Store) Own(ctx context.Context, e *Exhibit) (out []string, err error) {
	err = s.list(ctx, &out, "listing the numbers of "+e.Reference, "SELECT DISTINCT unnest(parties) FROM record WHERE case_id = $1 AND exhibit_id = $2 AND kind = ANY($3)", e.CaseID, e.ID, kindsOf(func(a record.About) bool { return a.Own }))
	for n := range strings.SplitSeq(e.Numbers, ",") {
		if h := people.Normal(n, e.Home()); h != "" && !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	return out, err
}

// SameSaid finds what a record says in the same conversation as other handsets have it, one record of each: in those that
// share two lines or more with its own within a day.
func (s *Store) SameSaid(ctx context.Context, r *Record) (out []Record, err error) {
	if !r.Kind.About().InTalk || r.At == nil || r.Thread == "" || r.Summary == "" {
		return nil, nil
	}
	sides, err := s.Beside(ctx, r, r.At.AddDate(0, 0, -1), r.At.AddDate(0, 0, 1))
	if err != nil {
		return nil, err
	}
	for _, k := range sides {
		if k.ExhibitID == r.ExhibitID || k.Shared < 2 || slices.ContainsFunc(out, func(x Record) bool { return x.ExhibitID == k.ExhibitID }) {
			continue
		}
		same, err := s.records(ctx, r.CaseID, "finding what another handset has", nil, recordSelect+`r.case_id = $1 AND r.acquisition_id = $2 AND r.db = $3 AND r.thread = $4 AND r.kind = $5 AND r.summary = $6
  AND r.at BETWEEN $7::timestamptz - interval '10 minutes' AND $7::timestamptz + interval '10 minutes' ORDER BY abs(extract(epoch FROM r.at - $7)), r.id LIMIT 1`,
			r.CaseID, k.AcquisitionID, k.DB, k.Thread, string(k.Kind), r.Summary, r.At)
		if err != nil {
			return nil, err
		}
		out = append(out, same...)
	}
	return out, nil
}

// OfFiles finds what files of a record's acquisition were read as, few at most.
func (s *Store) OfFiles(ctx context.Context, r *Record, paths []string) ([]Record, error) {
	const few = 8
	return s.records(ctx, r.CaseID, "finding what files say", nil, recordSelect+`r.case_id = $1 AND r.acquisition_id = $2 AND r.db = ANY($3) AND r.state <> 'earlier' ORDER BY r.id LIMIT $4`,
		r.CaseID, r.AcquisitionID, Array[string](paths).param(), few)
}

// CallsBetween lists calls of an exhibit, one of each that several of its sources have, in order of time, limit at most.
func (s *Store) CallsBetween(ctx context.Context, caseID, exhibit int64, from, to time.Time, limit int) ([]Record, error) {
	return s.records(ctx, caseID, "listing calls", nil, recordSelect+`r.case_id = $1 AND r.id IN (SELECT DISTINCT ON (c.at, c.handle, c.direction) c.id FROM record c
  WHERE c.case_id = $1 AND c.exhibit_id = $2 AND c.kind = ANY($3) AND c.at >= $4 AND c.at < $5 AND c.state <> 'earlier' ORDER BY c.at, c.handle, c.direction, c.state <> 'intact', c.id LIMIT $6) ORDER BY r.at, r.id`,
		caseID, exhibit, kindsOf(func(a record.About) bool { return a.Rung }), from, to, limit)
}

// FixesNear finds for records the fix of the same exhibit that is nearest in time, within ten minutes.
func (s *Store) FixesNear(ctx context.Context, caseID int64, ids []int64) (map[int64]*Record, error) {
	near := func(on, order string) string {
		return fmt.Sprintf(`(SELECT f.id, f.at FROM record f WHERE f.case_id = o.case_id AND f.latitude IS NOT NULL AND f.exhibit_id = o.exhibit_id AND f.kind = ANY($3) AND f.state <> 'earlier' AND %s ORDER BY f.at %s LIMIT 1)`, on, order)
	}
	var found []struct{ Of, Fix int64 }
	err := s.list(ctx, &found, "finding fixes", `SELECT o.id AS of, n.id AS fix FROM record o CROSS JOIN LATERAL (SELECT id FROM (`+
		near("f.at <= o.at AND f.at >= o.at - interval '10 minutes'", "DESC")+" UNION ALL "+near("f.at > o.at AND f.at <= o.at + interval '10 minutes'", "")+
		`) x ORDER BY abs(extract(epoch FROM x.at - o.at)) LIMIT 1) n WHERE o.case_id = $1 AND o.id = ANY($2) AND o.kind <> ALL($3)`, caseID, Array[int64](ids).param(), kindsOf(func(a record.About) bool { return a.Located }))
	if err != nil || len(found) == 0 {
		return nil, err
	}
	ids = nil
	for _, f := range found {
		ids = append(ids, f.Fix)
	}
	fixes, err := s.RecordsByID(ctx, caseID, ids)
	out := map[int64]*Record{}
	for _, f := range found {
		if r := fixes[f.Fix]; r != nil {
			out[f.Of] = r
		}
	}
	return out, err
}
