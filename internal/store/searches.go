package store

import (
	"context"
	"time"
)

// SavedSearch is what was filtered in a case, under a name.
type SavedSearch struct {
	ID     int64
	CaseID int64 `db:"case_id"`
	Name   string
	Query  string // of the address
	By     string
	At     time.Time
}

// mostSearches bounds what is listed of a case.
const mostSearches = 200

// SavedSearches lists the saved searches of a case by name.
func (s *Store) SavedSearches(ctx context.Context, caseID int64) (out []SavedSearch, err error) {
	err = s.list(ctx, &out, "listing saved searches", "SELECT * FROM saved_search WHERE case_id = $1 ORDER BY name LIMIT $2", caseID, mostSearches)
	return out, err
}

// SaveSearch keeps a search under a name that no other search of the case has: else it is ErrTaken.
func (s *Store) SaveSearch(ctx context.Context, c *Case, name, query, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		return t.exec("a search of the name "+name, "INSERT INTO saved_search(case_id, name, query, by) VALUES ($1, $2, $3, $4)", c.ID, name, query, by)
	})
}

// ForgetSearch takes a saved search away.
func (s *Store) ForgetSearch(ctx context.Context, c *Case, id int64) error {
	return s.Change(ctx, func(t *Tx) error {
		return t.exec("taking a saved search away", "DELETE FROM saved_search WHERE case_id = $1 AND id = $2", c.ID, id)
	})
}
