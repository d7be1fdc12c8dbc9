package recovery

import (
	"context"
	"slices"

	"crosswind/core/fieldmap"
	"crosswind/core/record"
	"crosswind/core/salvage"
	"crosswind/core/scope"
	"crosswind/internal/store"
)

// Trial is what a field map would make of a database, under the authorities as they are now.
type Trial struct {
	Records  map[record.State]int
	Withheld map[scope.Why]int
	Untimed  int              // records without a time, of those that are not withheld
	Left     int              // rows that it makes no record of
	First    []*record.Record // some that are not withheld
	Notes    []string
}

// shownFirst is how many records of a trial are given.
const shownFirst = 20

// Try reads a database by a field map, and keeps nothing.
func (q *Recoverer) Try(ctx context.Context, c *store.Case, a *store.Acquisition, path string, m *fieldmap.Map) (*Trial, error) {
	latest, err := q.Store.LatestRecovery(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	p, err := q.pass(ctx, c, a, latest)
	if err != nil {
		return nil, err
	}
	if p.gate, err = q.Store.Gate(ctx, c.ID); err != nil {
		return nil, err
	}
	db, err := q.OpenDatabase(ctx, a.ID, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.Source.Country, db.Source.Made, db.Source.File = p.home, p.made, p.sha256
	members, err := q.Store.Members(ctx, a.ExhibitID, path)
	if err != nil {
		return nil, err
	}
	seen := func(ms fieldmap.Members) {
		for thread, hs := range ms {
			members[thread] = append(slices.Clone(members[thread]), hs...)
		}
	}
	t := &Trial{Records: map[record.State]int{}, Withheld: map[scope.Why]int{}}
	opt := salvage.Options{Full: p.full, Seen: func(int64) bool { return ctx.Err() == nil }}
	for r, err := range m.Records(db.Survey(), db.Source, p.names, opt, seen, func(*salvage.Row) { t.Left++ }) {
		if err != nil {
			if s := err.Error(); len(t.Notes) < 5 && !slices.Contains(t.Notes, s) {
				t.Notes = append(t.Notes, s)
			}
			continue
		}
		if why := p.admits(r, members); why != scope.Admitted {
			t.Withheld[why]++
			continue
		}
		if t.Records[r.State]++; r.At() == nil {
			t.Untimed++
		}
		if r.Keep(); len(t.First) < shownFirst {
			t.First = append(t.First, r)
		}
	}
	return t, ctx.Err()
}
