package store

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"crosswind/core/geo"
	"crosswind/core/record"
	"crosswind/core/scope"
)

// Fix is a record that has a place and a time: what a map asks of it.
type Fix struct {
	ID int64
	*FixesOf
	At                  time.Time
	Latitude, Longitude float64 // degrees
	Accuracy            float64 // metres, 0 if it is not known
}

// FixesOf is what many of them have in common: beside what a map asks, what the gate does.
type FixesOf struct {
	ExhibitID  int64  `db:"exhibit_id"`
	ExhibitRef string `db:"-"`
	Kind       record.Kind
	State      record.State
	Place      string
	ThreadLost bool `db:"thread_lost"`
	Parties    Array[string]
	Members    Array[string]
}

// Fix is where and when it was.
func (x *Fix) Fix() geo.Fix {
	return geo.Fix{Point: geo.Point{Latitude: x.Latitude, Longitude: x.Longitude}, At: x.At, Accuracy: x.Accuracy}
}

// fixes are those of which this is so, in order of time.
type fixes struct {
	FixesOf
	instants
	lat, lon, about []float64
}

func (x *fixes) Swap(i, j int) {
	x.instants.Swap(i, j)
	for _, v := range [][]float64{x.lat, x.lon, x.about} {
		v[i], v[j] = v[j], v[i]
	}
}

// readFixes reads those of records that where asks for, as SQL over r, and how many bytes they take.
func (s *Store) readFixes(ctx context.Context, f *Filter, where string, args []any) (out []fixes, size int, err error) {
	var rows []struct {
		FixesOf
		At, ID, Lat, Lon, About []byte
	}
	// The members of conversations are put together once, and not for each record.
	err = s.grouped(ctx, &rows, f.Words != "", `WITH talk AS MATERIALIZED (SELECT k.exhibit_id, k.db, k.thread, array_agg(k.member ORDER BY k.member) AS members
  FROM conversation_member k JOIN exhibit e ON e.id = k.exhibit_id WHERE e.case_id = $1 AND k.thread <> '' GROUP BY 1, 2, 3)
SELECT r.exhibit_id, r.kind, r.state, r.place, r.thread_lost, r.parties, k.members, string_agg(timestamptz_send(r.at), '') AS at, string_agg(int8send(r.id), '') AS id,
  string_agg(float8send(r.latitude), '') AS lat, string_agg(float8send(r.longitude), '') AS lon, string_agg(float8send(coalesce(r.accuracy, 0)), '') AS about
FROM (SELECT r.*`+f.countFrom()+where+`) r LEFT JOIN talk k ON (k.exhibit_id, k.db, k.thread) = (r.exhibit_id, r.db, r.thread) GROUP BY 1, 2, 3, 4, 5, 6, 7`, args...)
	for _, r := range rows {
		x := fixes{FixesOf: r.FixesOf, instants: instants{sentTimes(r.At), sentNumbers(r.ID)}}
		for _, v := range []struct {
			to   *[]float64
			sent []byte
		}{{&x.lat, r.Lat}, {&x.lon, r.Lon}, {&x.about, r.About}} {
			for _, n := range sentNumbers(v.sent) {
				*v.to = append(*v.to, math.Float64frombits(uint64(n)))
			}
		}
		if !sort.IsSorted(&x) {
			sort.Sort(&x)
		}
		out, size = append(out, x), size+40*len(x.at)+400
	}
	return out, size, err
}

func fixesKey(caseID int64) string { return fmt.Sprintf("the fixes of case %d", caseID) }

// holdFixes reads all fixes of a case, and holds them.
func (s *Store) holdFixes(ctx context.Context, caseID int64) ([]fixes, error) {
	return hold(ctx, s, caseID, nil, fixesKey(caseID), func(ctx context.Context) ([]fixes, int, error) {
		f := Filter{CaseID: caseID, Placed: true}
		where, args := f.sql(false, nil)
		return s.readFixes(ctx, &f, where+" AND r.at IS NOT NULL", args)
	})
}

// Placed lists the records of a filter that have a place and a time, in their order, limit at most.
func (s *Store) Placed(ctx context.Context, f Filter, limit int) (out []Fix, err error) {
	gate, err := s.Gate(ctx, f.CaseID)
	if err != nil {
		return nil, err
	}
	exhibits, err := s.Exhibits(ctx, f.CaseID)
	if err != nil {
		return nil, err
	}
	refs := map[int64]string{}
	for _, e := range exhibits {
		refs[e.ID] = e.Reference
	}
	all, meet, err := s.fixes(ctx, f, limit)
	if err != nil {
		return nil, err
	}
	for i := range all {
		x := &all[i]
		if !f.wants(x.ExhibitID, x.Kind, x.State) {
			continue
		}
		of := x.FixesOf
		of.ExhibitRef = refs[x.ExhibitID]
		k, end := x.between(f.From, f.To)
		for n := 0; k < end && n < limit; k++ {
			at := time.UnixMicro(x.at[k])
			if meet != nil && !meet.Contains(uint64(x.id[k])) || gate.Record(scope.Subject{Kind: x.Kind, At: &at, Parties: x.Parties, Members: x.Members, Lost: x.ThreadLost, Place: x.Place}) != scope.Admitted {
				continue
			}
			out = append(out, Fix{x.id[k], &of, at, x.lat[k], x.lon[k], x.about[k]})
			n++
		}
	}
	slices.SortFunc(out, func(a, b Fix) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.ID, b.ID)) })
	return out[:min(len(out), limit)], nil
}

// fixes gives the fixes among which those of a filter are, and which of them meet it, nil for all: those that are held, or
// the first ones as the database has them.
func (s *Store) fixes(ctx context.Context, f Filter, limit int) (all []fixes, meet *roaring64.Bitmap, err error) {
	all, ok, err := held[[]fixes](ctx, s, f.CaseID, nil, fixesKey(f.CaseID))
	if ok && f.some() {
		var t times
		t, ok, err = s.heldTimes(ctx, f)
		meet = t.ids()
	}
	if ok || err != nil {
		return all, meet, err
	}
	began, asked := time.Now(), f
	f.Placed = true
	where, args, err := s.where(ctx, &f, true)
	if err != nil {
		return nil, nil, err
	}
	args = append(args, limit)
	all, _, err = s.readFixes(ctx, &f, where+fmt.Sprintf(" AND r.at IS NOT NULL ORDER BY r.at, r.id LIMIT $%d", len(args)), args)
	if err == nil && time.Since(began) > tooLong {
		s.holdBehind(asked.CaseID, fixesKey(asked.CaseID), func(ctx context.Context) error {
			_, err := s.holdFixes(ctx, asked.CaseID)
			if err == nil && asked.some() {
				_, err = s.holdTimes(ctx, asked)
			}
			return err
		})
	}
	return all, nil, err
}
