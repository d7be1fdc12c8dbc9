package password

import (
	"context"
	"errors"
	"testing"
)

// Every hash waits for its turn, so that guesses at once do not take all memory: a
// password that is right, one that is wrong, one of a name that nobody has, and a new one.
func TestHashingTakesTurns(t *testing.T) {
	ctx := context.Background()
	hash := Hash(ctx, "salt and brass")
	if err := Check(ctx, hash, "salt and brass"); err != nil {
		t.Error(err)
	}
	if err := Check(ctx, hash, "salt and Brass"); err != ErrWrong {
		t.Error(err)
	}
	if err := CheckNone(ctx, "salt and brass"); err != ErrWrong {
		t.Error(err)
	}
	if n := cap(atOnce); n*argonMemory > 256<<10 {
		t.Errorf("%d hashes at a time take %d MiB", n, n*argonMemory>>10)
	}
	for range cap(atOnce) {
		atOnce <- struct{}{}
	}
	defer func() {
		for range cap(atOnce) {
			<-atOnce
		}
	}()
	ended, cancel := context.WithCancel(ctx)
	cancel()
	if err := Check(ended, hash, "salt and brass"); !errors.Is(err, context.Canceled) {
		t.Error("a check takes no turn: ", err)
	}
	if err := CheckNone(ended, "x"); !errors.Is(err, context.Canceled) {
		t.Error("a check of nobody's takes no turn: ", err)
	}
	if h := Hash(ended, "x"); h != "" {
		t.Error("a new hash takes no turn")
	}
}
