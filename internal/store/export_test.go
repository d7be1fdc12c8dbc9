package store

import "context"

// Hold holds the times of a filter, as is done behind a count that takes long.
func Hold(ctx context.Context, s *Store, f Filter) error { return s.hold(ctx, f) }

// HoldCompared holds the times of what two acquisitions have.
func HoldCompared(ctx context.Context, s *Store, a, b *Acquisition) error {
	return s.holdCompared(ctx, a, b)
}

// HoldsCompared is Holds of these.
func HoldsCompared(ctx context.Context, s *Store, a, b *Acquisition) bool {
	t, err := s.held(ctx, a.CaseID, comparedKey(a, b))
	return err == nil && t != nil
}

// Holds reports whether they are held, and are those of now.
func Holds(ctx context.Context, s *Store, f Filter) bool {
	t, err := s.heldTimes(ctx, f)
	return err == nil && t != nil
}
