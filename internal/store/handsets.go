package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Unread is a range of a volume that could not be read.
type Unread struct {
	Path string
	From int64 `db:"from_byte"`
	To   int64 `db:"to_byte"` // not included
}

// AddUnread keeps a range that could not be read.
func (s *Store) AddUnread(ctx context.Context, r *Run, acquisition int64, path string, from, to int64) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the unread ranges", "INSERT INTO unread(acquisition_id, path, from_byte, to_byte) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", acquisition, path, from, to)
	})
	if err != nil {
		return fmt.Errorf("keeping what could not be read of %s: %w", path, err)
	}
	return nil
}

// DropUnread forgets what of a file could not be read from an offset on: it is
// read again.
func (s *Store) DropUnread(ctx context.Context, r *Run, acquisition int64, path string, from int64) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the unread ranges", "DELETE FROM unread WHERE acquisition_id = $1 AND path = $2 AND to_byte > $3", acquisition, path, from)
	})
	if err != nil {
		return fmt.Errorf("reading %s again: %w", path, err)
	}
	return nil
}

// Unread lists what could not be read of an acquisition's files, or of the one at
// path unless that is "", neighbouring ranges as one.
func (s *Store) Unread(ctx context.Context, acquisition int64, path string) (out []Unread, err error) {
	var all []Unread
	if err := s.list(ctx, &all, "listing what could not be read", "SELECT path, from_byte, to_byte FROM unread WHERE acquisition_id = $1 AND $2 IN ('', path) ORDER BY path, from_byte", acquisition, path); err != nil {
		return nil, err
	}
	for _, u := range all {
		if n := len(out); n > 0 && u.Path == out[n-1].Path && u.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, u.To)
		} else {
			out = append(out, u)
		}
	}
	return out, nil
}

// String is the range as a line of a list: the file, the first byte and the last,
// parted by tabs.
func (u Unread) String() string { return fmt.Sprintf("%s\t%d\t%d", u.Path, u.From, u.To-1) }

// HandsetStep is something that was seen to be done on a connected handset.
type HandsetStep struct {
	Step         string
	At           time.Time
	HandsetClock *time.Time `db:"handset_clock"`
	Note         string
}

// NoteStep keeps a step the first time that it is seen of a handset, and tells
// the ledger. clock is the handset's, zero if it told none.
func (s *Store) NoteStep(ctx context.Context, c *Case, e *Exhibit, serial, step, note string, clock time.Time, by string) error {
	var at *time.Time
	if !clock.IsZero() {
		at = &clock
	}
	err := s.Change(ctx, func(t *Tx) error {
		res, err := t.ExecContext(ctx, "INSERT INTO handset_step(exhibit_id, serial, step, handset_clock, note) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING", e.ID, serial, step, at, note)
		if err != nil {
			return fmt.Errorf("keeping the step %s: %w", step, err)
		}
		if n, _ := res.RowsAffected(); n == 0 {
			return errSeen
		}
		d := map[string]string{"step": step, "serial": serial}
		if at != nil {
			d["handset_clock"] = at.UTC().Format(time.RFC3339Nano)
		}
		if note != "" {
			d["note"] = note
		}
		return t.Log(Act{c.Book(), by, "handset.step", e.Reference, d})
	})
	if errors.Is(err, errSeen) {
		return nil
	}
	return err
}

// errSeen ends a change of which nothing is new.
var errSeen = errors.New("seen before")

// Steps lists the steps that were seen of a handset.
func (s *Store) Steps(ctx context.Context, exhibit int64, serial string) (out []HandsetStep, err error) {
	err = s.list(ctx, &out, "listing the steps", "SELECT step, at, handset_clock, note FROM handset_step WHERE exhibit_id = $1 AND serial = $2 ORDER BY at", exhibit, serial)
	return out, err
}
