package store

import (
	"context"
	"fmt"
	"time"
)

// KnownSet is a set of digests of files that somebody has seen before.
type KnownSet struct {
	ID         int64
	CaseID     int64 `db:"case_id"`
	Name       string
	ListSHA256 string `db:"list_sha256"` // the list as it was handed in
	SetSHA256  string `db:"set_sha256"`  // the set made from it
	Algorithm  string // md5, sha1 or sha256
	Digests    int64
	Skipped    int64 // lines that hold no digest
	By         string
	At         time.Time
	Files      int64 // files of the case that it names
}

// KnownSets lists the known-file sets of a case.
func (s *Store) KnownSets(ctx context.Context, caseID int64) (out []KnownSet, err error) {
	err = s.list(ctx, &out, "listing the known-file sets", `SELECT k.*, (SELECT count(*) FROM acquired_file f JOIN acquisition a ON a.id = f.acquisition_id WHERE a.case_id = k.case_id AND f.known = k.name) AS files
FROM known_set k WHERE k.case_id = $1 ORDER BY k.id`, caseID)
	return out, err
}

// AddKnownSet keeps a known-file set and ends the run that made it.
func (s *Store) AddKnownSet(ctx context.Context, r *Run, k KnownSet, act Act) error {
	return s.Change(ctx, func(t *Tx) error {
		if err := t.EndRun(r, "done", ""); err != nil {
			return err
		}
		if err := t.exec("the known-file set "+k.Name, "INSERT INTO known_set(case_id, name, list_sha256, set_sha256, algorithm, digests, skipped, by, at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
			k.CaseID, k.Name, k.ListSHA256, k.SetSHA256, k.Algorithm, k.Digests, k.Skipped, k.By, k.At); err != nil {
			return err
		}
		return t.Log(act)
	})
}

// SaveKnown keeps which files of an acquisition a known-file set names, by
// their SHA-256. A file that a set names already stays with that one.
func (s *Store) SaveKnown(ctx context.Context, r *Run, acquisition int64, set string, sums []string) error {
	err := s.Held(ctx, r, func(t *Tx) error {
		return t.exec("the known files", "UPDATE acquired_file SET known = $2 WHERE acquisition_id = $1 AND known = '' AND sha256 = ANY($3)", acquisition, set, sums)
	})
	if err != nil {
		return fmt.Errorf("keeping which files are known: %w", err)
	}
	return nil
}

// Schedule is how often a case is checked by itself.
type Schedule struct {
	CaseID int64 `db:"case_id"`
	Days   int
	NextAt time.Time `db:"next_at"`
	By     string
}

// ScheduleOf gives the schedule of a case, or ErrNotFound.
func (s *Store) ScheduleOf(ctx context.Context, caseID int64) (*Schedule, error) {
	v := &Schedule{}
	return v, s.get(ctx, v, "the schedule", "SELECT * FROM schedule WHERE case_id = $1", caseID)
}

// SetSchedule has a case checked every so many days from next on; 0 days ends
// that.
func (s *Store) SetSchedule(ctx context.Context, c *Case, v Schedule) error {
	return s.Change(ctx, func(t *Tx) error {
		act := Act{c.Book(), v.By, "schedule.ended", c.Reference, nil}
		if err := t.exec("ending the schedule", "DELETE FROM schedule WHERE case_id = $1", c.ID); err != nil {
			return err
		}
		if v.Days > 0 {
			if err := t.exec("the schedule", "INSERT INTO schedule(case_id, days, next_at, by) VALUES ($1, $2, $3, $4)", c.ID, v.Days, v.NextAt, v.By); err != nil {
				return err
			}
			act.What, act.Detail = "schedule.set", map[string]string{"every_days": fmt.Sprint(v.Days), "next": v.NextAt.UTC().Format(time.RFC3339)}
		}
		return t.Log(act)
	})
}

// TakeSchedule takes a schedule that is due and moves it on to its next time
// after now; nil if none is due.
func (s *Store) TakeSchedule(ctx context.Context, queue func(*Tx, *Case, Schedule) error) (taken bool, err error) {
	err = s.Change(ctx, func(t *Tx) error {
		var due []Schedule
		err := t.SelectContext(ctx, &due, "SELECT * FROM schedule WHERE next_at <= now() ORDER BY next_at LIMIT 1 FOR UPDATE SKIP LOCKED")
		if err != nil || len(due) == 0 {
			return err
		}
		taken = true
		c := &Case{}
		if err := t.GetContext(ctx, c, "SELECT * FROM cases WHERE id = $1", due[0].CaseID); err != nil {
			return fmt.Errorf("the schedule's case: %w", err)
		}
		err = t.exec("moving the schedule on", "UPDATE schedule SET next_at = next_at + days * interval '1 day' * ceil(extract(epoch FROM now() - next_at + interval '1 second') / (days * 86400)) WHERE case_id = $1", c.ID)
		if err != nil {
			return err
		}
		return queue(t, c, due[0])
	})
	if err != nil {
		return taken, fmt.Errorf("taking a schedule: %w", err)
	}
	return taken, nil
}
