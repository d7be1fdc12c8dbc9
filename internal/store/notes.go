package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// WorkingNote is what examiners note of a record for themselves.
type WorkingNote struct {
	By   string
	At   time.Time
	Body string
}

// NoteOf finds the working note of a record, nil if there is none.
func (s *Store) NoteOf(ctx context.Context, r *Record) (*WorkingNote, error) {
	n := &WorkingNote{}
	err := s.get(ctx, n, "working note", "SELECT by, at, body FROM working_note WHERE acquisition_id = $1 AND uid = $2", r.AcquisitionID, r.UID)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return n, err
}

// SaveNote changes the working note of a record, which was was; an empty one takes it away. What somebody else wrote
// meanwhile is not overwritten: ErrConflict. It is no entry of the ledger: nobody else relies on it.
func (s *Store) SaveNote(ctx context.Context, r *Record, was, body, by string) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.exec("locking the record", "SELECT 1 FROM record WHERE id = $1 FOR UPDATE", r.ID); err != nil {
			return err
		}
		var now []string
		if err := t.SelectContext(t.ctx, &now, "SELECT body FROM working_note WHERE acquisition_id = $1 AND uid = $2", r.AcquisitionID, r.UID); err != nil {
			return fmt.Errorf("reading the working note: %w", err)
		}
		if len(now) == 0 && was != "" || len(now) == 1 && now[0] != was {
			return fmt.Errorf("the working note %w", ErrConflict)
		}
		if body == "" {
			return t.exec("taking the working note away", "DELETE FROM working_note WHERE acquisition_id = $1 AND uid = $2", r.AcquisitionID, r.UID)
		}
		return t.exec("keeping the working note", `INSERT INTO working_note(acquisition_id, uid, by, at, body) VALUES ($1, $2, $3, now(), $4)
ON CONFLICT (acquisition_id, uid) DO UPDATE SET by = $3, at = now(), body = $4`, r.AcquisitionID, r.UID, by, body)
	})
}
