package store

import (
	"context"
	"fmt"
	"time"

	"crosswind/core/record"
)

// Contacts is how much an exhibit has with a handle, one way.
type Contacts struct {
	ExhibitID int64 `db:"exhibit_id"`
	Handle    string
	Direction string // in, out, or "" if neither is known
	N, Below  int64
	First     time.Time
	Last      time.Time
}

// Contacts counts what a filter has of talk, by exhibit, handle and direction. Whoever may not be seen is not there.
func (s *Store) Contacts(ctx context.Context, f Filter) (out []Contacts, err error) {
	gate, err := s.Gate(ctx, f.CaseID)
	if err != nil {
		return nil, err
	}
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, err
	}
	var kinds []string
	for _, k := range record.Kinds() {
		if k.About().Group == record.Talk {
			kinds = append(kinds, string(k))
		}
	}
	args = append(args, Array[string](kinds).param())
	err = s.list(ctx, &out, "counting contacts", `SELECT r.exhibit_id, h.handle, r.direction, count(*) AS n, count(*) FILTER (WHERE r.state <> 'intact') AS below, min(r.at) AS first, max(r.at) AS last`+
		" FROM record r LEFT JOIN mark m ON m.record_id = r.id CROSS JOIN LATERAL unnest(r.parties) h(handle) WHERE "+q+fmt.Sprintf(" AND r.at IS NOT NULL AND r.kind = ANY($%d) AND h.handle <> '' GROUP BY 1, 2, 3", len(args)), args...)
	kept := out[:0]
	for _, c := range out {
		if !gate.Privileged([]string{c.Handle}) {
			kept = append(kept, c)
		}
	}
	return kept, err
}

// Habit is how many records lie in an hour of the week.
type Habit struct {
	Weekday int // 1 is Monday
	Hour    int
	N       int64
}

// Habits counts the records of a filter by the hours of the week in a zone.
func (s *Store) Habits(ctx context.Context, f Filter, zone *time.Location) (out []Habit, err error) {
	q, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, err
	}
	args = append(args, zone.String())
	n := len(args)
	err = s.list(ctx, &out, "counting hours", fmt.Sprintf("SELECT extract(isodow FROM r.at AT TIME ZONE $%[1]d)::int AS weekday, extract(hour FROM r.at AT TIME ZONE $%[1]d)::int AS hour, count(*) AS n", n)+f.countFrom()+q+" AND r.at IS NOT NULL GROUP BY 1, 2", args...)
	return out, err
}
