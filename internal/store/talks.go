package store

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"crosswind/core/reading"
	"crosswind/core/record"
)

// Talk is a conversation as an acquisition has it.
type Talk struct {
	AcquisitionID int64 `db:"acquisition_id"`
	ExhibitID     int64 `db:"exhibit_id"`
	DB            string
	Thread        string
	Kind          record.Kind
	N, Below      int64
	First, Last   time.Time
	Shared        int64 // of another conversation: how much of what was said is the same
	Record        int64 // one of it, to find it again
}

// Of reports whether a record is of the conversation.
func (k *Talk) Of(r *Record) bool {
	return r.AcquisitionID == k.AcquisitionID && r.DB == k.DB && r.Thread == k.Thread && r.Kind == k.Kind
}

// File is the name of the file that it lies in, behind those of the archives in which that lies.
func (k *Talk) File() string {
	parts := strings.Split(k.DB, reading.Inside)
	for i, p := range parts {
		parts[i] = path.Base(p)
	}
	return strings.Join(parts, reading.Inside)
}

// Talks lists the conversations of a filter, those with most in its window first.
func (s *Store) Talks(ctx context.Context, f Filter, limit int) ([]Talk, error) {
	if out, ok, err := s.heldTalks(ctx, f, limit); ok || err != nil {
		return out, err
	}
	began := time.Now()
	out, err := s.talks(ctx, f, limit)
	if err == nil && time.Since(began) > tooLong {
		s.holdTalkBehind(f)
	}
	return out, err
}

// heldTalks lists them by what is held, if it is.
func (s *Store) heldTalks(ctx context.Context, f Filter, limit int) (out []Talk, ok bool, err error) {
	talk, ok, err := s.heldTalk(ctx, f)
	if !ok || err != nil {
		return nil, false, err
	}
	type one struct {
		acquisition int64
		db, thread  string
		kind        record.Kind
	}
	all := map[one]*Talk{}
	for x, said := range talk {
		if x.Thread == "" || !x.Kind.About().InTalk {
			continue
		}
		k := one{x.AcquisitionID, x.DB, x.Thread, x.Kind}
		first, last := time.UnixMicro(x.at[said.first]), time.UnixMicro(x.at[said.last])
		t := all[k]
		if t == nil {
			t = &Talk{AcquisitionID: k.acquisition, ExhibitID: x.ExhibitID, DB: k.db, Thread: k.thread, Kind: k.kind, First: first, Last: last, Record: x.id[said.first]}
			all[k] = t
		}
		if t.N += said.n; x.State != record.Intact {
			t.Below += said.n
		}
		if c := first.Compare(t.First); c < 0 || c == 0 && x.id[said.first] < t.Record {
			t.First, t.Record = first, x.id[said.first]
		}
		if last.After(t.Last) {
			t.Last = last
		}
	}
	for _, t := range all {
		out = append(out, *t)
	}
	slices.SortFunc(out, func(a, b Talk) int {
		return cmp.Or(cmp.Compare(b.Below, a.Below), cmp.Compare(b.N, a.N), cmp.Compare(a.AcquisitionID, b.AcquisitionID), strings.Compare(a.DB, b.DB),
			strings.Compare(a.Thread, b.Thread), cmp.Compare(a.Kind, b.Kind))
	})
	return out[:min(len(out), limit)], true, nil
}

// talks lists them by the database.
func (s *Store) talks(ctx context.Context, f Filter, limit int) (out []Talk, err error) {
	x, all, args, err := s.monthly(ctx, &f, kindsOf(func(a record.About) bool { return a.InTalk }))
	if err != nil {
		return nil, err
	}
	const order = `below DESC, n DESC, acquisition_id, db COLLATE "C", thread COLLATE "C", kind COLLATE "C"`
	args = append(args, limit)
	q := `SELECT x.acquisition_id, x.exhibit_id, x.db, x.thread, x.kind, sum(x.n)::bigint AS n, coalesce(sum(x.n) FILTER (WHERE x.state <> 'intact'), 0)::bigint AS below,
  min(x.at) AS first, max(x.at) AS last, min(x.id) AS record FROM (` + x + ") x WHERE x.thread <> '' GROUP BY 1, 2, 3, 4, 5 ORDER BY " + order + fmt.Sprintf(" LIMIT $%d", len(args))
	if all != "" { // of those that are listed the first and the last are looked up
		end := func(as, way string) string {
			return " CROSS JOIN LATERAL (SELECT r.at, r.id FROM record r WHERE r.acquisition_id = k.acquisition_id AND r.db = k.db AND r.thread = k.thread AND r.thread <> '' AND r.kind = k.kind AND " +
				all + " ORDER BY r.at" + way + ", r.id" + way + " LIMIT 1) " + as
		}
		q = "SELECT k.acquisition_id, k.exhibit_id, k.db, k.thread, k.kind, k.n, k.below, a.at AS first, z.at AS last, a.id AS record FROM (" + q + ") k" + end("a", "") + end("z", " DESC") + " ORDER BY " + order
	}
	err = s.list(ctx, &out, "listing conversations", q, args...)
	return out, err
}

// Beside finds the conversations of other sources that have what the conversation of r has between two times: those of
// the same rows, and those in which the same was said within ten minutes, by most that is the same.
func (s *Store) Beside(ctx context.Context, r *Record, from, to time.Time) (out []Talk, err error) {
	err = s.list(ctx, &out, "finding the other sides of a conversation", `WITH own AS MATERIALIZED (
  SELECT DISTINCT at, summary FROM record WHERE acquisition_id = $2 AND db = $3 AND thread = $4 AND kind = $5 AND at BETWEEN $6 AND $7 AND summary <> '' ORDER BY at LIMIT 400
), near AS (
  SELECT o.* FROM own CROSS JOIN LATERAL (SELECT r.acquisition_id, r.exhibit_id, r.db, r.thread, r.kind, r.summary, own.at AS own, r.id FROM record r
    WHERE r.case_id = $1 AND r.at BETWEEN own.at - interval '10 minutes' AND own.at + interval '10 minutes' AND r.kind = $5 AND r.summary = own.summary AND r.thread <> '' OFFSET 0) o
  WHERE (o.acquisition_id, o.db, o.thread) <> ($2, $3, $4)
)
SELECT acquisition_id, exhibit_id, db, thread, kind, 0 AS n, 0 AS below, min(own) AS first, max(own) AS last, count(DISTINCT (own, summary)) AS shared, min(id) AS record FROM near
GROUP BY 1, 2, 3, 4, 5 ORDER BY shared DESC, acquisition_id, db, thread LIMIT 12`, r.CaseID, r.AcquisitionID, r.DB, r.Thread, string(r.Kind), from, to)
	return out, err
}

// Said lists what a conversation has between two times, in their order, limit records at most.
func (s *Store) Said(ctx context.Context, caseID int64, k Talk, from, to time.Time, limit int) (out []Record, err error) {
	return s.records(ctx, caseID, "reading a conversation", nil, recordSelect+`r.case_id = $1 AND r.acquisition_id = $2 AND r.db = $3 AND r.thread = $4 AND r.kind = $5 AND r.at BETWEEN $6 AND $7 ORDER BY r.at, r.id LIMIT $8`,
		caseID, k.AcquisitionID, k.DB, k.Thread, string(k.Kind), from, to, limit)
}
