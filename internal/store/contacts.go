package store

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

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
	out, ok, err := s.heldContacts(ctx, f)
	if err == nil && !ok {
		out, err = s.contacts(ctx, f)
	}
	kept := out[:0]
	for _, c := range out {
		if !gate.Privileged([]string{c.Handle}) {
			kept = append(kept, c)
		}
	}
	return kept, err
}

// contacts counts them in the database.
func (s *Store) contacts(ctx context.Context, f Filter) (out []Contacts, err error) {
	began := time.Now()
	x, _, args, err := s.monthly(ctx, &f, kindsOf(isTalk))
	if err != nil {
		return nil, err
	}
	err = s.list(ctx, &out, "counting contacts", `SELECT x.exhibit_id, h.handle, x.direction, sum(x.n)::bigint AS n, coalesce(sum(x.n) FILTER (WHERE x.state <> 'intact'), 0)::bigint AS below
FROM (`+x+") x CROSS JOIN LATERAL unnest(x.parties) h(handle) WHERE h.handle <> '' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3", args...)
	if err == nil && time.Since(began) > tooLong {
		s.holdTalkBehind(f)
	}
	return out, err
}

func isTalk(a record.About) bool { return a.Group == record.Talk }

// talkOf is what a conversation of an acquisition has between the same parties, of one kind, state and direction.
type talkOf struct {
	ExhibitID     int64 `db:"exhibit_id"`
	AcquisitionID int64 `db:"acquisition_id"`
	DB, Thread    string
	Kind          record.Kind
	State         record.State
	Direction     string
	Parties       Array[string]
	instants
}

func talkKey(caseID int64) string { return fmt.Sprintf("the talk of case %d", caseID) }

// holdTalk reads what was said in a case, where and with whom, and holds it.
func (s *Store) holdTalk(ctx context.Context, caseID int64) ([]talkOf, error) {
	return hold(ctx, s, caseID, nil, talkKey(caseID), func(ctx context.Context) (out []talkOf, size int, err error) {
		var rows []struct {
			talkOf
			At, IDs []byte
		}
		err = s.grouped(ctx, &rows, false, `SELECT r.exhibit_id, r.acquisition_id, r.db, r.thread, r.kind, r.state, r.direction, r.parties, string_agg(timestamptz_send(r.at), '') AS at,
  string_agg(int8send(r.id), '') AS ids FROM record r WHERE r.case_id = $1 AND r.kind = ANY($2) AND r.at IS NOT NULL GROUP BY 1, 2, 3, 4, 5, 6, 7, 8`, caseID, kindsOf(isTalk))
		for _, r := range rows {
			x := r.talkOf
			x.instants = sentInstants(r.At, r.IDs)
			out, size = append(out, x), size+16*len(x.at)+len(x.DB)+len(x.Thread)+300
		}
		return out, size, err
	})
}

// holdTalkBehind holds it behind an answer that took long, and the times of the filter that was asked for.
func (s *Store) holdTalkBehind(f Filter) {
	s.holdBehind(f.CaseID, talkKey(f.CaseID), func(ctx context.Context) error {
		_, err := s.holdTalk(ctx, f.CaseID)
		if err == nil && f.some() {
			_, err = s.holdTimes(ctx, f)
		}
		return err
	})
}

// heldTalk yields what is held of a filter's talk, if it is: with how many records of it meet the filter, and the first and
// the last of them.
func (s *Store) heldTalk(ctx context.Context, f Filter) (iter.Seq2[*talkOf, said], bool, error) {
	talk, ok, err := held[[]talkOf](ctx, s, f.CaseID, nil, talkKey(f.CaseID))
	var meet *roaring64.Bitmap
	if ok && f.some() {
		var t times
		t, ok, err = s.heldTimes(ctx, f)
		meet = t.ids()
	}
	if !ok || err != nil {
		return nil, false, err
	}
	return func(yield func(*talkOf, said) bool) {
		for k := range talk {
			x := &talk[k]
			if !f.wants(x.ExhibitID, x.Kind, x.State) {
				continue
			}
			i, end := x.between(f.From, f.To)
			n := end - i
			first, last := i, end-1
			if meet != nil {
				for n = 0; i < end; i++ {
					if meet.Contains(uint64(x.id[i])) {
						if last = i; n == 0 {
							first = i
						}
						n++
					}
				}
			}
			if n > 0 && !yield(x, said{int64(n), first, last}) {
				return
			}
		}
	}, true, nil
}

// said is how many records of some talk meet a filter, and which are the first and the last of them.
type said struct {
	n           int64
	first, last int
}

// heldContacts counts contacts by what is held, if it is.
func (s *Store) heldContacts(ctx context.Context, f Filter) (out []Contacts, ok bool, err error) {
	talk, ok, err := s.heldTalk(ctx, f)
	if !ok || err != nil {
		return nil, false, err
	}
	type way struct {
		exhibit           int64
		handle, direction string
	}
	all := map[way]*Contacts{}
	for x, said := range talk {
		for _, h := range x.Parties {
			if h == "" {
				continue
			}
			w := way{x.ExhibitID, h, x.Direction}
			if all[w] == nil {
				all[w] = &Contacts{ExhibitID: w.exhibit, Handle: w.handle, Direction: w.direction}
			}
			if all[w].N += said.n; x.State != record.Intact {
				all[w].Below += said.n
			}
		}
	}
	for _, c := range all {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Contacts) int {
		return cmp.Or(cmp.Compare(a.ExhibitID, b.ExhibitID), strings.Compare(a.Handle, b.Handle), strings.Compare(a.Direction, b.Direction))
	})
	return out, true, nil
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
	if f.some() || !first.Before(end) {
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
