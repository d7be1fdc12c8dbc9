package store_test

import (
	"testing"
	"time"

	"golang.org/x/sync/singleflight"

	"crosswind/internal/store"
)

// Who asks while something is being found does not get what was found before that.
func TestOnce(t *testing.T) {
	var asking singleflight.Group
	now := 1
	read, goOn := make(chan bool), make(chan bool)
	go store.Once(&asking, "key", func() (any, error) {
		found := now
		close(read)
		<-goOn
		return found, nil
	})
	<-read
	now = 2
	got := make(chan any)
	go func() {
		found, _ := store.Once(&asking, "key", func() (any, error) { return now, nil })
		got <- found
	}()
	time.Sleep(50 * time.Millisecond) // in which it asks, and waits
	close(goOn)
	if found := <-got; found != 2 {
		t.Errorf("what was asked for then was found as it had been before: %v", found)
	}
}
