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

// HoldAll holds with whom there was talk in a case, its fixes, and the sets of its records, with every word.
func HoldAll(ctx context.Context, s *Store, caseID int64) error {
	_, err1 := s.holdTalk(ctx, caseID)
	_, err2 := s.holdFixes(ctx, caseID)
	_, err3 := s.holdSets(ctx, caseID, 1)
	return errors.Join(err1, err2, err3)
}

// Expect has a filter's times be held when it is asked next.
func Expect(s *Store, f Filter) {
	_, key := f.lasting()
	s.memory.expect(key)
}

// FailToHold has a filter's times be expected, and what would hold them fail.
func FailToHold(s *Store, f Filter) {
	Expect(s, f)
	s.cancel()
}

// Holds reports whether they are held, and are those of now.
func Holds(ctx context.Context, s *Store, f Filter) bool {
	_, ok, err := s.heldTimes(ctx, f)
	return err == nil && ok
}

// Once is what has something be found once for all who ask for it meanwhile.
var Once = once
