package store

import (
	"context"
	"fmt"
	"time"

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

// Talks lists the conversations of a filter, those with most in its window first.
func (s *Store) Talks(ctx context.Context, f Filter, limit int) (out []Talk, err error) {
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, err
	}
	var kinds []string
	for _, k := range record.Kinds() {
		if k.About().InTalk {
			kinds = append(kinds, string(k))
		}
	}
	args = append(args, Array[string](kinds).param(), limit)
	n := len(args)
	err = s.list(ctx, &out, "listing conversations", `SELECT r.acquisition_id, r.exhibit_id, r.db, r.thread, r.kind, count(*) AS n, count(*) FILTER (WHERE r.state <> 'intact') AS below,
  min(r.at) AS first, max(r.at) AS last, min(r.id) AS record`+f.countFrom()+q+fmt.Sprintf(` AND r.at IS NOT NULL AND r.thread <> '' AND r.kind = ANY($%d)
GROUP BY 1, 2, 3, 4, 5 ORDER BY below DESC, n DESC, r.acquisition_id, r.db, r.thread LIMIT $%d`, n-1, n), args...)
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
