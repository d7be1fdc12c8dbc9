package store

import "context"

// Hold holds the times of a filter, as is done behind a count that takes long.
func Hold(ctx context.Context, s *Store, f Filter) error {
	_, err := s.holdTimes(ctx, f)
	return err
}

// HoldTalk holds with whom there was talk in a case.
func HoldTalk(ctx context.Context, s *Store, caseID int64) error {
	_, err := s.holdTalk(ctx, caseID)
	return err
}

// Holds reports whether they are held, and are those of now.
func Holds(ctx context.Context, s *Store, f Filter) bool {
	_, ok, err := s.heldTimes(ctx, f)
	return err == nil && ok
}
