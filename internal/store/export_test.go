package store

import (
	"context"
	"errors"
)

// Hold holds the times of a filter, as is done behind a count that takes long.
func Hold(ctx context.Context, s *Store, f Filter) error {
	_, err := s.holdTimes(ctx, f)
	return err
}

// HoldAll holds with whom there was talk in a case, and its fixes.
func HoldAll(ctx context.Context, s *Store, caseID int64) error {
	_, err1 := s.holdTalk(ctx, caseID)
	_, err2 := s.holdFixes(ctx, caseID)
	return errors.Join(err1, err2)
}

// FailToHold has a filter's times be expected, and what would hold them fail.
func FailToHold(s *Store, f Filter) {
	_, key := f.lasting()
	s.memory.expect(key)
	s.cancel()
}

// Holds reports whether they are held, and are those of now.
func Holds(ctx context.Context, s *Store, f Filter) bool {
	_, ok, err := s.heldTimes(ctx, f)
	return err == nil && ok
}
