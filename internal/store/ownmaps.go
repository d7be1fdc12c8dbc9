package store

import (
	"context"
	"fmt"
	"time"

	"crosswind/core/fieldmap"
)

// OwnMap is a field map that was made in a case, for a database by its path.
type OwnMap struct {
	ID     int64
	CaseID int64 `db:"case_id"`
	Path   string
	SHA256 string `db:"sha256"`
	Source string
	By     string
	At     time.Time
}

// SaveOwnMap keeps a field map for a database of a case: the next pass uses it.
func (s *Store) SaveOwnMap(ctx context.Context, c *Case, path string, m *fieldmap.Map, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		at, err := t.log(Act{c.Book(), by, "map.saved", path, map[string]string{"field_map": m.ID(), "map_sha256": m.SHA256, "readings": fmt.Sprint(len(m.Readings))}})
		if err != nil {
			return err
		}
		if err := t.exec("keeping a field map", "INSERT INTO field_map(sha256, source) VALUES ($1, $2) ON CONFLICT DO NOTHING", m.SHA256, m.Source()); err != nil {
			return err
		}
		return t.exec("keeping a field map", "INSERT INTO own_map(case_id, path, sha256, by, at) VALUES ($1, $2, $3, $4, $5)", c.ID, path, m.SHA256, by, at)
	})
}

// OwnMaps lists the field maps of a case that are in use: of each path the newest.
func (s *Store) OwnMaps(ctx context.Context, caseID int64) (out []OwnMap, err error) {
	err = s.list(ctx, &out, "listing the field maps of the case", `SELECT DISTINCT ON (o.path) o.*, f.source FROM own_map o JOIN field_map f USING (sha256)
WHERE o.case_id = $1 ORDER BY o.path, o.id DESC`, caseID)
	return out, err
}

// MapsOf gives the field maps that the databases of a case are read by: its own before those in use.
func (s *Store) MapsOf(ctx context.Context, caseID int64) ([]*fieldmap.Map, error) {
	all, err := s.OwnMaps(ctx, caseID)
	if err != nil {
		return nil, err
	}
	var own []*fieldmap.Map
	for _, o := range all {
		m, err := fieldmap.Parse(o.Path, []byte(o.Source))
		if err != nil {
			return nil, fmt.Errorf("the field map of %s that was made in the case: %w", o.Path, err)
		}
		own = append(own, m)
	}
	return fieldmap.With(own...), nil
}
