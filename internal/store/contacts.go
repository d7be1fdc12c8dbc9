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
}

// Contacts counts what a filter has of talk, by exhibit, handle and direction. Whoever may not be seen is not there.
func (s *Store) Contacts(ctx context.Context, f Filter) (out []Contacts, err error) {
	gate, err := s.Gate(ctx, f.CaseID)
	if err != nil {
		return nil, err
	}
	x, _, args, err := s.monthly(ctx, &f, kindsOf(func(a record.About) bool { return a.Group == record.Talk }))
	if err != nil {
		return nil, err
	}
	err = s.list(ctx, &out, "counting contacts", `SELECT x.exhibit_id, h.handle, x.direction, sum(x.n)::bigint AS n, coalesce(sum(x.n) FILTER (WHERE x.state <> 'intact'), 0)::bigint AS below
FROM (`+x+") x CROSS JOIN LATERAL unnest(x.parties) h(handle) WHERE h.handle <> '' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3", args...)
	kept := out[:0]
	for _, c := range out {
		if !gate.Privileged([]string{c.Handle}) {
			kept = append(kept, c)
		}
	}
	return kept, err
}

// monthly writes as SQL what a filter has of kinds within its window: a row for a record, with its time and id, or, where
// that is kept, a row for all of a month that are of one conversation, kind, state, direction and of the same parties, with
// how many they are. If there are such, all is what the filter asks of each record r.
func (s *Store) monthly(ctx context.Context, f *Filter, kinds any) (q, all string, args []any, err error) {
	where, args, err := s.where(ctx, f, true)
	if err != nil {
		return "", "", nil, err
	}
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	const of = "r.exhibit_id, r.acquisition_id, r.db, r.thread, r.kind, r.state, r.direction, r.parties, "
	kind := " AND r.kind = ANY(" + arg(kinds) + ")"
	one := "SELECT " + of + "1 AS n, r.at, r.id" + f.countFrom() + where + kind + " AND r.at IS NOT NULL"
	from, to := f.From.UTC(), f.To.UTC()
	first, end := time.Date(from.Year(), from.Month(), 1, 0, 0, 0, 0, time.UTC), time.Date(to.Year(), to.Month(), 1, 0, 0, 0, 0, time.UTC)
	if first.Before(from) {
		first = first.AddDate(0, 1, 0)
	}
	if f.narrow() || f.Words != "" || !first.Before(end) {
		return one, "", args, nil
	}
	// The filter without its window, which is written as whole months and what is left before and behind.
	where, args = f.sql(false, nil)
	where += " AND r.kind = ANY(" + arg(kinds) + ")"
	a, b, begin, stop := arg(first), arg(end), arg(f.From), arg(f.To)
	one = "SELECT " + of + "1 AS n, r.at, r.id FROM record r WHERE " + where
	return "SELECT " + of + "r.n, NULL::timestamptz AS at, NULL::bigint AS id FROM record_month r WHERE " + where + " AND r.month >= " + a + " AND r.month < " + b +
			" UNION ALL " + one + " AND r.at >= " + begin + " AND r.at < " + a + " UNION ALL " + one + " AND r.at >= " + b + " AND r.at < " + stop,
		where + " AND r.at >= " + begin + " AND r.at < " + stop, args, nil
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
