package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"golang.org/x/sync/singleflight"
)

// What takes long to find in a large case is kept with how many changes the case had had, which the database counts itself;
// it is found anew when there are more. Records that have left the case go with it, and the gate is asked of the others
// whenever they are shown, as of all.

// changes counts the changes of a case, or of the records of some acquisitions of it.
const changes = "SELECT count(*) FROM case_change WHERE case_id = $1 AND ($2::bigint[] IS NULL OR acquisition_id = ANY($2))"

// isKept reads the answer that is kept if what it is of is as it was.
const isKept = "SELECT body FROM kept_answer WHERE case_id = $1 AND about = $3 AND changes = (" + changes + ")"

// once has something be found once for all who ask for it meanwhile. What had begun before somebody asked may be of before
// that, and is asked for again: what is found then had not.
func once(asking *singleflight.Group, key string, find func() (any, error)) (any, error) {
	for again := false; ; again = true {
		mine := false
		found, err, _ := asking.Do(key, func() (any, error) {
			mine = true
			return find()
		})
		if mine || again || err != nil {
			return found, err
		}
	}
}

// kept gives the answer to a question of a case, or of the records of some acquisitions of it if there are any in of: the one
// that is kept if they are as they were, or what ask finds. Who asks while it is being found waits for that, and it is found
// even if nobody waits any more; what is waited for is never of before it was asked for.
func kept[T any](ctx context.Context, s *Store, caseID int64, about string, of []int64, ask func(*Tx) (T, error)) (answer T, err error) {
	var body json.RawMessage
	err = s.db.GetContext(ctx, &body, isKept, caseID, of, about)
	if errors.Is(err, sql.ErrNoRows) {
		var found any
		found, err = once(&s.asking, fmt.Sprint(caseID, about), func() (any, error) {
			var body json.RawMessage
			err := s.change(context.WithoutCancel(ctx), func(t *Tx) error {
				// Another process may be finding it.
				if err := t.exec("waiting for an answer", "SELECT pg_advisory_xact_lock(hashtextextended($1, $2))", about, caseID); err != nil {
					return err
				}
				if err := t.GetContext(t.ctx, &body, isKept, caseID, of, about); !errors.Is(err, sql.ErrNoRows) {
					return err
				}
				var n int64 // as of before: what changes meanwhile makes it one to be found anew
				if err := t.GetContext(t.ctx, &n, changes, caseID, of); err != nil {
					return err
				}
				answer, err := ask(t)
				if err == nil {
					body, err = json.Marshal(answer)
				}
				if err != nil {
					return err
				}
				return t.exec("keeping an answer", "INSERT INTO kept_answer(case_id, about, changes, body) VALUES ($1, $2, $3, $4) ON CONFLICT (case_id, about) DO UPDATE SET changes = excluded.changes, body = excluded.body", caseID, about, n, body)
			}, false)
			return body, err
		})
		body, _ = found.(json.RawMessage)
	}
	if err == nil {
		err = json.Unmarshal(body, &answer)
	}
	if err != nil {
		return answer, fmt.Errorf("%s: %w", about, err)
	}
	return answer, nil
}

// Prepare finds what would else be found when somebody asks for it first.
func (s *Store) Prepare(ctx context.Context, caseID int64) error {
	if _, err := s.db.ExecContext(ctx, "SELECT analyze_records()"); err != nil {
		return fmt.Errorf("looking at what was read: %w", err)
	}
	if err := s.keepWent(ctx, caseID); err != nil {
		return err
	}
	if _, err := s.clockSteps(ctx, caseID); err != nil {
		return err
	}
	all, err := s.Sources(ctx, caseID, nil)
	if err != nil {
		return err
	}
	for _, two := range Successive(all) {
		if _, err := s.pairs(ctx, &two[0].Acquisition, &two[1].Acquisition); err != nil {
			return err
		}
	}
	return s.holdCase(ctx, caseID)
}

// Ahead has what views ask of all of a large case be held behind an answer, since whoever looks at one view of it will look at
// others.
func (s *Store) Ahead(caseID int64) {
	s.holdBehind(caseID, "", func(ctx context.Context) error {
		n, err := s.Recorded(ctx, caseID, 0)
		if err != nil || n < largeCase {
			return err
		}
		return s.holdCase(ctx, caseID)
	})
}

// largeCase is how many records with a time a case has at least for that.
const largeCase = 100_000

// holdCase holds what views ask of all of a case.
func (s *Store) holdCase(ctx context.Context, caseID int64) error {
	all := Filter{CaseID: caseID}
	_, times := all.lasting()
	for _, x := range []struct {
		key  string
		hold func() error
	}{
		{times, func() error { _, err := s.holdTimes(ctx, all); return err }},
		{setsKey(caseID), func() error { _, err := s.holdSets(ctx, caseID, manyRecords); return err }},
		{talkKey(caseID), func() error { _, err := s.holdTalk(ctx, caseID); return err }},
		{cardsKey(caseID), func() error { _, err := s.cards(ctx, caseID); return err }},
		{fixesKey(caseID), func() error { _, err := s.holdFixes(ctx, caseID); return err }},
	} {
		if _, large, err := held[tooLarge](ctx, s, caseID, nil, x.key); err != nil {
			return err
		} else if large {
			continue
		}
		if err := x.hold(); err != nil {
			return err
		}
	}
	return nil
}
