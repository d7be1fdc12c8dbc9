package store

import (
	"context"
	"fmt"
	"time"
)

// Photograph is a picture of an exhibit. Its bytes are in the vault.
type Photograph struct {
	ID        int64
	ExhibitID int64  `db:"exhibit_id"`
	SHA256    string `db:"sha256"`
	Type      string // media type, by content
	Size      int64
	Note      string
	By        string
	At        time.Time
}

// AddPhotograph keeps a picture of an exhibit.
func (s *Store) AddPhotograph(ctx context.Context, c *Case, e *Exhibit, p Photograph) error {
	return s.Change(ctx, func(t *Tx) error {
		err := t.exec("this photograph of "+e.Reference, "INSERT INTO photograph(exhibit_id, sha256, type, size, note, by, at) VALUES ($1, $2, $3, $4, $5, $6, now())",
			e.ID, p.SHA256, p.Type, p.Size, p.Note, p.By)
		if err != nil {
			return err
		}
		return t.Log(Act{c.Book(), p.By, "photograph.added", e.Reference, map[string]string{"sha256": p.SHA256, "bytes": fmt.Sprint(p.Size), "note": p.Note}})
	})
}

// Photographs lists the pictures of an exhibit.
func (s *Store) Photographs(ctx context.Context, exhibitID int64) (out []Photograph, err error) {
	err = s.list(ctx, &out, "listing the photographs", "SELECT * FROM photograph WHERE exhibit_id = $1 ORDER BY id", exhibitID)
	return out, err
}

// PhotographByID finds a picture of an exhibit of a case.
func (s *Store) PhotographByID(ctx context.Context, caseID, id int64) (*Photograph, error) {
	p := &Photograph{}
	return p, s.get(ctx, p, fmt.Sprintf("photograph %d", id), "SELECT p.* FROM photograph p JOIN exhibit e ON e.id = p.exhibit_id WHERE e.case_id = $1 AND p.id = $2", caseID, id)
}
