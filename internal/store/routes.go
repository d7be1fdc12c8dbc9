package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// RouteChoice is the route that was chosen for an exhibit.
type RouteChoice struct {
	ID        int64
	ExhibitID int64 `db:"exhibit_id"`
	Route     string
	Proposed  string // by the rules, "" if they proposed none
	Reason    string // why another than was proposed
	Answers   json.RawMessage
	By        string
	At        time.Time
}

// ChosenRoute gives the newest choice for an exhibit, nil if there is none.
func (s *Store) ChosenRoute(ctx context.Context, exhibit int64) (*RouteChoice, error) {
	r := &RouteChoice{}
	err := s.get(ctx, r, "the chosen route", "SELECT * FROM route_choice WHERE exhibit_id = $1 ORDER BY id DESC LIMIT 1", exhibit)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return r, err
}

// ChooseRoute keeps a choice.
func (s *Store) ChooseRoute(ctx context.Context, c *Case, e *Exhibit, r RouteChoice) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("choosing the route", "INSERT INTO route_choice(exhibit_id, route, proposed, reason, answers, by) VALUES ($1, $2, $3, $4, $5, $6)",
			e.ID, r.Route, r.Proposed, r.Reason, r.Answers, r.By); err != nil {
			return err
		}
		d := map[string]string{"route": r.Route, "proposed": r.Proposed}
		if r.Reason != "" {
			d["because"] = r.Reason
		}
		var answers map[string]string
		if err := json.Unmarshal(r.Answers, &answers); err != nil {
			return fmt.Errorf("the answers: %w", err)
		}
		for k, v := range answers {
			d["situation_"+k] = v
		}
		return t.Log(Act{c.Book(), r.By, "route.chosen", e.Reference, d})
	})
}
