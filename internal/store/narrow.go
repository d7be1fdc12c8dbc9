package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"crosswind/core/casefile"
	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/scope"
)

// Gate is the gate of a case as its authorities are now.
func (s *Store) Gate(ctx context.Context, caseID int64) (*scope.Gate, error) {
	auth, err := s.Authorities(ctx, caseID)
	if err != nil {
		return nil, err
	}
	return scope.New(Scopes(auth), time.Now()), nil
}

// Members lists who was seen in the conversations of a database of an exhibit, by any
// reading of any of its sources.
func (s *Store) Members(ctx context.Context, exhibit int64, db string) (map[string][]string, error) {
	var all []struct{ Thread, Member string }
	if err := s.list(ctx, &all, "listing the members of conversations", "SELECT thread, member FROM conversation_member WHERE exhibit_id = $1 AND db = $2 ORDER BY thread, member", exhibit, db); err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, m := range all {
		out[m.Thread] = append(out[m.Thread], m.Member)
	}
	return out, nil
}

// keepMembers keeps who was seen in the conversations of a database, and withholds what
// lies outside scope for it: of the database, and of all of the exhibit if somebody
// privileged was seen where no reading had seen them.
func (t *Tx) keepMembers(c *Case, a *Acquisition, d *RecoveredDatabase, by string) error {
	var auth []Authority
	if err := t.SelectContext(t.ctx, &auth, "SELECT * FROM authority WHERE case_id = $1 ORDER BY id", c.ID); err != nil {
		return fmt.Errorf("listing the authorities: %w", err)
	}
	gate := scope.New(Scopes(auth), time.Now())
	what := narrowed{exhibit: a.ExhibitID, acquisition: a.ID, db: d.Path}
	var threads, members []string
	for thread, ms := range d.Members {
		for _, m := range ms {
			threads, members = append(threads, thread), append(members, m)
		}
	}
	var added []string
	err := t.SelectContext(t.ctx, &added, `INSERT INTO conversation_member(exhibit_id, db, thread, member) SELECT $1, $2, m.thread, m.member FROM unnest($3::text[], $4::text[]) m(thread, member)
ON CONFLICT DO NOTHING RETURNING member`, a.ExhibitID, d.Path, Array[string](threads).param(), Array[string](members).param())
	if err != nil {
		return fmt.Errorf("keeping the members of conversations: %w", err)
	}
	if gate.Privileged(added) {
		what.acquisition, what.db = 0, ""
	}
	return t.narrow(c, what, by)
}

// narrowed says where narrowing looks; zero values are everywhere.
type narrowed struct {
	exhibit, acquisition int64
	db                   string
}

// narrow withholds the records that lie outside scope as the authorities are now: they
// are dropped, counted, and each mark that goes with one is an entry of the ledger.
func (t *Tx) narrow(c *Case, where narrowed, by string) error {
	var auth []Authority
	if err := t.SelectContext(t.ctx, &auth, "SELECT * FROM authority WHERE case_id = $1 ORDER BY id", c.ID); err != nil {
		return fmt.Errorf("listing the authorities: %w", err)
	}
	gate := scope.New(Scopes(auth), time.Now())
	const from = " FROM record r WHERE r.case_id = $1 AND ($2 = 0 OR r.exhibit_id = $2) AND ($3 = 0 OR r.acquisition_id = $3) AND ($4 = '' OR r.db = $4)"
	var seen []struct {
		Exhibit            int64 `db:"exhibit_id"`
		DB, Thread, Member string
	}
	err := t.SelectContext(t.ctx, &seen, "SELECT k.exhibit_id, k.db, k.thread, k.member FROM conversation_member k JOIN exhibit e ON e.id = k.exhibit_id WHERE e.case_id = $1 AND ($2 = 0 OR k.exhibit_id = $2)", c.ID, where.exhibit)
	if err != nil {
		return fmt.Errorf("listing the members of conversations: %w", err)
	}
	type talk struct {
		exhibit    int64
		db, thread string
	}
	members := map[talk][]string{}
	for _, m := range seen {
		k := talk{m.Exhibit, m.DB, m.Thread}
		members[k] = append(members[k], m.Member)
	}
	rows, err := t.QueryxContext(t.ctx, "SELECT r.id, r.exhibit_id, r.kind, r.place, r.at, r.thread, r.parties, r.thread_lost, r.db"+from, c.ID, where.exhibit, where.acquisition, where.db)
	if err != nil {
		return fmt.Errorf("reading records again under the scope: %w", err)
	}
	gone := map[scope.Why][]int64{}
	for rows.Next() {
		var r Record
		if err := rows.StructScan(&r); err != nil {
			rows.Close()
			return fmt.Errorf("reading records again under the scope: %w", err)
		}
		if r.Thread != "" {
			r.Members = members[talk{r.ExhibitID, r.DB, r.Thread}]
		}
		if why := gate.Record(r.Subject()); why != scope.Admitted {
			gone[why] = append(gone[why], r.ID)
		}
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading records again under the scope: %w", err)
	}
	for _, why := range slices.Sorted(maps.Keys(gone)) {
		if err := t.count(gone[why], why); err != nil {
			return err
		}
		if err := t.drop(c, gone[why], string(why), by); err != nil {
			return err
		}
	}
	return nil
}

// count moves records from what their readings gave to what these withheld.
func (t *Tx) count(ids []int64, why scope.Why) error {
	var by []struct {
		Recovery int64 `db:"recovery_id"`
		DB       string
		State    record.State
		Place    string
		N        int64
	}
	err := t.SelectContext(t.ctx, &by, "SELECT recovery_id, db, state, place, count(*) AS n FROM record WHERE id = ANY($1) AND recovery_id IS NOT NULL GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4", ids)
	if err != nil {
		return fmt.Errorf("counting what is withheld: %w", err)
	}
	for _, b := range by {
		var d RecoveredDatabase
		if err := t.GetContext(t.ctx, &d, "SELECT * FROM recovered_database WHERE recovery_id = $1 AND path = $2 FOR UPDATE", b.Recovery, b.DB); err != nil {
			continue // an older reading that kept none
		}
		origins, withheld := d.Origins(), d.OutsideScope()
		if b.State == record.Intact {
			d.Live = max(0, d.Live-b.N)
		} else if k := OriginWords(b.State, b.Place); origins[k] > b.N {
			origins[k] -= b.N
		} else {
			delete(origins, k)
		}
		withheld[string(why)] += b.N
		o, err1 := json.Marshal(origins)
		w, err2 := json.Marshal(withheld)
		if err := cmp.Or(err1, err2); err != nil {
			return err
		}
		if err := t.exec("counting what is withheld", "UPDATE recovered_database SET live = $3, by_origin = $4, withheld = $5 WHERE recovery_id = $1 AND path = $2", b.Recovery, b.DB, d.Live, json.RawMessage(o), json.RawMessage(w)); err != nil {
			return err
		}
	}
	return nil
}

// OriginWords is under which words a reading counts records of a state and place.
func OriginWords(s record.State, place string) string {
	if s == record.Held {
		return "held, in the holding area"
	}
	return lowerFirst(s.Title()) + ", " + record.PlaceWords(s, place)
}

func lowerFirst(s string) string { return string(s[0]|0x20) + s[1:] }

// drop takes records away. Each mark that goes with one is an entry of the ledger, and
// names that came from a contact that goes are looked up again.
func (t *Tx) drop(c *Case, ids []int64, why, by string) error {
	if len(ids) == 0 {
		return nil
	}
	var marks []struct {
		UID    string
		Ref    string
		Number int
		Reason string
	}
	err := t.SelectContext(t.ctx, &marks, `SELECT r.uid, e.reference AS ref, a.number, m.reason FROM mark m JOIN record r ON r.id = m.record_id JOIN acquisition a ON a.id = r.acquisition_id
JOIN exhibit e ON e.id = r.exhibit_id WHERE m.record_id = ANY($1) ORDER BY r.id`, ids)
	if err != nil {
		return fmt.Errorf("reading marks: %w", err)
	}
	for _, m := range marks {
		if err := t.Log(Act{c.Book(), by, "record.unmarked", m.UID, map[string]string{"withheld": why, "was": m.Reason, "source": casefile.SourceName(m.Ref, m.Number)}}); err != nil {
			return err
		}
	}
	if err := t.exec("taking marks away", "DELETE FROM mark WHERE record_id = ANY($1)", ids); err != nil {
		return err
	}
	var cards []struct {
		Acquisition int64 `db:"acquisition_id"`
		Handle      string
	}
	err = t.SelectContext(t.ctx, &cards, "SELECT DISTINCT acquisition_id, unnest(parties) AS handle FROM record WHERE id = ANY($1) AND kind = ANY($2)", ids, record.Cards())
	if err != nil {
		return fmt.Errorf("reading names: %w", err)
	}
	if err := t.exec("forgetting where withheld rows lie", "DELETE FROM found_row f USING record r, recovery v WHERE r.id = ANY($1) AND v.id = f.recovery_id AND v.acquisition_id = r.acquisition_id AND f.uid = r.uid", ids); err != nil {
		return err
	}
	if err := t.exec("withholding records", "DELETE FROM record WHERE id = ANY($1)", ids); err != nil {
		return err
	}
	for _, k := range cards {
		if err := t.nameAgain(k.Acquisition, k.Handle); err != nil {
			return err
		}
	}
	return nil
}

// nameAgain looks up the name of a handle among the contacts that are left, as a reading
// does: the last one that is intact goes before the first of the others.
func (t *Tx) nameAgain(acquisition int64, handle string) error {
	var names []Record
	err := t.SelectContext(t.ctx, &names, "SELECT uid, summary, state FROM record WHERE acquisition_id = $1 AND kind = ANY($2) AND parties @> ARRAY[$3] AND summary <> '' ORDER BY id", acquisition, record.Cards(), handle)
	if err != nil {
		return fmt.Errorf("reading names: %w", err)
	}
	var name Record // without one it is empty
	for _, n := range names {
		if name.Summary == "" || n.State == record.Intact {
			name = n
		}
	}
	for last := int64(0); ; {
		var rs []Record
		err := t.SelectContext(t.ctx, &rs, `SELECT r.id, w.body FROM record r JOIN record_whole w ON w.record_id = r.id WHERE r.acquisition_id = $1 AND r.kind <> ALL($2) AND r.parties @> ARRAY[$3]
  AND r.id > $4 ORDER BY r.id LIMIT 1000`, acquisition, record.Cards(), handle, last)
		if err != nil || len(rs) == 0 {
			return err
		}
		last = rs[len(rs)-1].ID
		for _, r := range rs {
			w, err := r.Whole()
			if err != nil {
				return err
			}
			for i := range w.Parties {
				// Only parts of files give names themselves; what earlier versions read does not say so.
				if p := &w.Parties[i]; p.Normal == handle && (p.Card != "" || p.Name == "" || !w.Origin().IsPart()) {
					p.Name, p.Card, p.CardState = name.Summary, name.UID, name.State
				}
			}
			if err := t.keepWhole(r.ID, w); err != nil {
				return err
			}
		}
	}
}

// keepWhole keeps a record whose names have changed.
func (t *Tx) keepWhole(id int64, w *record.Record) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := t.exec("naming people again", "UPDATE record SET person = $2, words = $3 WHERE id = $1", id, w.Person(), indexed(w)); err != nil {
		return err
	}
	return t.exec("naming people again", "UPDATE record_whole SET body = $2 WHERE record_id = $1", id, string(cleanJSON(body)))
}

// fillParties gives the records of databases of earlier versions their parties in
// normal form, and their conversations their members, and withholds what by these lies
// outside scope: all of it or nothing.
func (s *Store) fillParties(ctx context.Context) error {
	return s.change(ctx, func(t *Tx) error {
		home, cases := map[int64]string{}, map[int64]bool{}
		for {
			var rs []Record
			if err := t.SelectContext(ctx, &rs, "SELECT r.id, r.case_id, r.exhibit_id, r.handle, r.thread, r.db FROM record r WHERE parties IS NULL ORDER BY id LIMIT 5000"); err != nil {
				return fmt.Errorf("bringing records up to date: %w", err)
			}
			if len(rs) == 0 {
				break
			}
			for _, r := range rs {
				cases[r.CaseID] = true
				if _, known := home[r.ExhibitID]; !known {
					var e Exhibit
					if err := t.GetContext(ctx, &e, "SELECT * FROM exhibit WHERE id = $1", r.ExhibitID); err != nil {
						return fmt.Errorf("bringing records up to date: %w", err)
					}
					home[r.ExhibitID] = e.Home()
				}
				ps := people.List(r.Handle, home[r.ExhibitID])
				if err := t.exec("bringing records up to date", "UPDATE record SET parties = $2 WHERE id = $1", r.ID, Array[string](ps).param()); err != nil {
					return err
				}
				if r.Thread == "" {
					continue
				}
				if err := t.exec("bringing records up to date", "INSERT INTO conversation_member SELECT $1, $2, $3, m FROM unnest($4::text[]) m ON CONFLICT DO NOTHING", r.ExhibitID, r.DB, r.Thread, Array[string](ps).param()); err != nil {
					return err
				}
			}
		}
		for _, id := range slices.Sorted(maps.Keys(cases)) {
			c := &Case{}
			if err := t.GetContext(ctx, c, "SELECT * FROM cases WHERE id = $1", id); err != nil {
				return fmt.Errorf("bringing records up to date: %w", err)
			}
			if err := t.narrow(c, narrowed{}, "Crosswind"); err != nil {
				return err
			}
		}
		return nil
	}, false)
}
