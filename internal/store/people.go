package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"crosswind/core/people"
	"crosswind/core/record"
	"crosswind/core/scope"
)

// People is what is known of the persons of a case.
type People struct {
	Persons []*people.Person
	Records map[string]int64 // that name a handle
	Cards   map[string]Card  // by UID: the first of each
}

// Card is a contact: a record that names somebody's handles.
type Card struct {
	ID            int64
	ExhibitID     int64 `db:"exhibit_id"`
	AcquisitionID int64 `db:"acquisition_id"`
	AcqNo         int   `db:"acq_no"`
	UID           string
	Kind          record.Kind
	State         record.State
	Place         string
	At            *time.Time
	Summary       string        // the name
	Parties       Array[string] // handles in normal form
	DB            string        // the path of its database
	ExhibitRef    string        `db:"exhibit_ref"`
}

// Of finds the person who has a handle, nil if nobody has.
func (p *People) Of(handle string) *people.Person {
	for _, x := range p.Persons {
		for _, h := range x.Handles {
			if h == handle {
				return x
			}
		}
	}
	return nil
}

// maxCards bounds the contacts of a case that are brought together.
const maxCards = 50_000

// People brings together the persons of a case, by its contacts and by what was decided. Who
// may not be seen is not there.
func (s *Store) People(ctx context.Context, caseID int64) (*People, error) {
	gate, err := s.Gate(ctx, caseID)
	if err != nil {
		return nil, err
	}
	out := &People{Records: map[string]int64{}, Cards: map[string]Card{}}
	var named []struct {
		Handle string
		N      int64
	}
	if err := s.list(ctx, &named, "listing the handles", "SELECT handle, sum(n)::bigint AS n FROM record_party WHERE case_id = $1 AND handle <> '' GROUP BY 1 ORDER BY 1", caseID); err != nil {
		return nil, err
	}
	var handles []string
	for _, h := range named {
		if !gate.Privileged([]string{h.Handle}) {
			handles = append(handles, h.Handle)
			out.Records[h.Handle] = h.N
		}
	}
	all, err := s.cards(ctx, caseID)
	if err != nil {
		return nil, err
	}
	exhibits, err := s.Exhibits(ctx, caseID)
	if err != nil {
		return nil, err
	}
	refs := map[int64]string{} // by which exhibits can be renamed meanwhile
	for _, e := range exhibits {
		refs[e.ID] = e.Reference
	}
	var cards []people.Card
	for _, r := range all {
		if _, again := out.Cards[r.UID]; again || gate.Record(scope.Subject{Kind: r.Kind, At: r.At, Parties: r.Parties, Place: r.Place}) != scope.Admitted {
			continue
		}
		r.ExhibitRef = refs[r.ExhibitID]
		out.Cards[r.UID] = r
		cards = append(cards, people.Card{ID: r.UID, Name: r.Summary, Handles: r.Parties})
	}
	rulings, err := s.rulings(ctx, caseID)
	out.Persons = people.Gather(handles, cards, rulings)
	return out, err
}

func cardsKey(caseID int64) string { return fmt.Sprintf("the contacts of case %d", caseID) }

// cards lists the contacts of a case without their exhibits' references; they are held.
func (s *Store) cards(ctx context.Context, caseID int64) ([]Card, error) {
	return hold(ctx, s, caseID, nil, cardsKey(caseID), func(ctx context.Context) (out []Card, size int, err error) {
		err = s.list(ctx, &out, "listing the contacts", `SELECT r.id, r.exhibit_id, r.acquisition_id, q.number AS acq_no, r.uid, r.kind, r.state, r.place, r.at, r.summary, r.parties, r.db
  FROM record r JOIN acquisition q ON q.id = r.acquisition_id WHERE r.case_id = $1 AND r.kind = ANY($2) ORDER BY r.state <> 'intact', r.id LIMIT $3`, caseID, record.Cards(), maxCards)
		for i := range out {
			c := &out[i]
			size += 240 + len(c.UID) + len(c.Summary) + len(c.DB) + 32*len(c.Parties)
		}
		return out, size, err
	})
}

// NamesOf lists the names by which the records of a case know whoever has one of the handles, in normal form.
func (s *Store) NamesOf(ctx context.Context, caseID int64, handles []string) (out []string, err error) {
	err = s.list(ctx, &out, "listing names", `SELECT DISTINCT p->>'name' FROM record r JOIN record_whole w ON w.record_id = r.id, LATERAL jsonb_array_elements(w.body::jsonb->'parties') p
  WHERE r.case_id = $1 AND r.parties && $2 AND p->>'normal' = ANY($2) AND p->>'name' <> '' ORDER BY 1`, caseID, handles)
	return out, err
}

func (s *Store) rulings(ctx context.Context, caseID int64) (out []people.Ruling, err error) {
	err = s.list(ctx, &out, "listing the rulings on persons", "SELECT id, apart, card, handle, other, by, reason FROM person_ruling WHERE case_id = $1 ORDER BY id", caseID)
	return out, err
}

// Rule keeps a ruling on persons, as an entry of the ledger, too. The entry names handles by
// their digests.
func (s *Store) Rule(ctx context.Context, c *Case, r people.Ruling) error {
	what, on := "person.together", "handles "+r.Handle[:16]+" and "+r.Other[:min(16, len(r.Other))]
	if r.Apart {
		what, on = "person.apart", r.Card
	}
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("keeping the ruling", "INSERT INTO person_ruling(case_id, apart, card, handle, other, by, at, reason) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
			c.ID, r.Apart, r.Card, r.Handle, r.Other, r.By, time.Now(), r.Reason); err != nil {
			return err
		}
		return t.Log(Act{c.Book(), r.By, what, on, detail(r)})
	})
}

// Unrule takes a ruling back.
func (s *Store) Unrule(ctx context.Context, c *Case, id int64, by, reason string) error {
	return s.Change(ctx, func(t *Tx) error {
		var r people.Ruling
		if err := t.GetContext(ctx, &r, "DELETE FROM person_ruling WHERE id = $1 AND case_id = $2 RETURNING id, apart, card, handle, other, by, reason", id, c.ID); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				err = ErrNotFound
			}
			return fmt.Errorf("ruling %d: %w", id, err)
		}
		d := detail(r)
		d["was"], d["reason"] = r.Reason, reason
		return t.Log(Act{c.Book(), by, "person.undone", "ruling on persons", d})
	})
}

// detail is what the ledger says of a ruling.
func detail(r people.Ruling) map[string]string {
	d := map[string]string{"handle_sha256": r.Handle, "reason": r.Reason}
	if r.Apart {
		d["card"] = r.Card
	} else {
		d["other_sha256"] = r.Other
	}
	return d
}
